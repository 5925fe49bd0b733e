//! A VHDX disk becomes smaller.

use super::layout::Layout;
use super::metadata;
use super::state::VhdxMut;
use super::table::Geometry;
use crate::error::Result;
use crate::finding::{Finding, TableEntry, VhdxFinding};
use crate::image::data_in;
use crate::progress::Progress;
use crate::storage::{ReadAt, Storage};

impl VhdxMut {
    /// Makes the disk smaller; what it held from there on is gone. The size changes with one commit: from then on the
    /// entries of the blocks that are cut off count for nothing, whatever becomes of what follows. Then those entries
    /// are cleared, and their space is given back. Called with the size that the disk has, it does that alone.
    pub(super) fn shrink_to(&mut self, size: u64) -> Result<()> {
        self.end_session()?;
        let layout = Layout::read(self.storage.clone(), &mut Vec::new())?;
        let mut parameters = layout.parameters.clone();
        parameters.virtual_size = size;
        let new = Geometry::new(&parameters);
        let place = metadata::place_of(&*self.storage, self.metadata, metadata::VIRTUAL_SIZE)?;
        let place = place.ok_or_else(|| Finding::new(VhdxFinding::IdentityPlace, self.metadata.offset))?;
        self.begin()?;
        self.change_bytes(place, &size.to_le_bytes())?;
        self.commit()?;
        self.clear_end(new)?;
        self.clear_cut_chunk(new)?;
        self.clear_entries(new.entries, layout.bat.len / super::table::ENTRY_LEN)?;
        self.commit()?;
        self.end_session()?;
        *self = Self::open(self.storage.inner())?;
        self.give_back_unused()
    }

    /// In a differencing image the table goes on to the end of the last chunk: the blocks of it that are cut off name
    /// nothing any more.
    fn clear_cut_chunk(&self, new: Geometry) -> Result<()> {
        let (from, upto) = (new.payload_index(new.blocks), new.entries);
        // Where the last block is the last of its chunk, that is the chunk's end.
        let is_cut = |index: u64| matches!(new.role(index), TableEntry::Payload(block) if block >= new.blocks);
        if new.has_parent && from < upto && is_cut(from) {
            self.clear_entries(from, new.bitmap_index(new.chunk_of(new.blocks.saturating_sub(1))))?;
        }
        Ok(())
    }

    /// Gives the host what no structure and no block of the file uses.
    pub(super) fn give_back_unused(&mut self) -> Result<()> {
        let layout = Layout::read(self.storage.clone(), &mut Vec::new())?;
        // Where the session could not be ended, the log says how long the file must be.
        if !layout.header.log.is_nil() {
            return Ok(());
        }
        let (_, claims) = layout.judge_table(&Progress::new())?;
        let len = self.storage.len()?;
        let mut end = len;
        for (offset, room) in claims.unused() {
            if offset.saturating_add(room) >= len {
                end = offset;
            } else if !data_in(&*self.storage, offset, room)?.is_empty() {
                self.storage.punch_hole(offset, room)?;
            }
        }
        if end < len {
            self.storage.set_len(end)?;
        }
        self.storage.sync()?;
        *self = Self::open(self.storage.inner())?;
        Ok(())
    }
}
