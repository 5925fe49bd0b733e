//! A VHDX disk becomes larger.

use std::sync::atomic::Ordering;

use uuid::Uuid;

use super::layout::Layout;
use super::region::{self, Region};
use super::session::write_header;
use super::state::VhdxMut;
use super::table::{ENTRY_LEN, Entry, Geometry, State};
use super::{ALIGNMENT, MAX_FILE_SIZE, metadata};
use crate::bytes::{in_units, index, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, VhdxFinding};
use crate::image::{Image, Kind, data_in};
use crate::storage::{ReadAt, Storage};

/// A table is copied in steps of this size.
const STEP: u64 = 1 << 20;

impl VhdxMut {
    /// Makes the disk larger, within the format's limits; what is new reads as zero. The table moves behind everything
    /// else when it has no room for the new blocks: then both copies of the region table switch to it, each durable
    /// before the other, and it is as good a table for the old size. The blocks of a fixed disk get their places, one
    /// after the other, behind that. The size itself changes with one commit.
    pub(super) fn grow_to(&mut self, size: u64) -> Result<()> {
        // Nothing is in the log, and the file ends where its blocks do.
        self.end_session()?;
        let layout = Layout::read(self.storage.clone(), &mut Vec::new())?;
        let mut parameters = layout.parameters.clone();
        parameters.virtual_size = size;
        let (old, new) = (layout.geometry, Geometry::new(&parameters));
        if new.entries.saturating_mul(ENTRY_LEN) > layout.bat.len {
            let end = self.storage.len()?.next_multiple_of(ALIGNMENT);
            self.move_table(&layout, new, end)?;
            *self = Self::open(self.storage.inner())?;
        }
        let place = metadata::place_of(&*self.storage, self.metadata, metadata::VIRTUAL_SIZE)?;
        let place = place.ok_or_else(|| Finding::new(VhdxFinding::IdentityPlace, self.metadata.offset))?;
        self.begin()?;
        self.clear_end(old)?;
        self.clear_entries(old.entries, new.entries)?;
        if self.info().kind == Kind::Fixed {
            self.place_blocks(old.blocks, new.blocks)?;
        }
        self.commit()?;
        self.change_bytes(place, &size.to_le_bytes())?;
        self.commit()?;
        self.end_session()?;
        *self = Self::open(self.storage.inner())?;
        Ok(())
    }

    /// Gives blocks that no size speaks of yet their places behind all others.
    fn place_blocks(&self, from: u64, upto: u64) -> Result<()> {
        let block_size = self.table.geometry.block_size;
        let len = upto.saturating_sub(from).saturating_mul(block_size);
        let (first, end) = {
            let mut turn = self.turn();
            if turn.space.end().saturating_add(len) > MAX_FILE_SIZE {
                return Err(Error::usage(
                    format!("{} would become larger than files of this format may be", self.path().display()),
                    "copy the disk into a new image",
                ));
            }
            (turn.space.extend(len), turn.space.end())
        };
        if len == 0 {
            return Ok(());
        }
        self.put(|storage| storage.set_len(end))?;
        self.table.set_file_len(end);
        for step in in_units(0, len, block_size) {
            let place = first.saturating_add(step.done);
            let _turn = self.turn_with_room()?;
            self.table.set_payload(from.saturating_add(step.unit), Entry::new(State::FULLY_PRESENT, place))?;
        }
        Ok(())
    }

    /// What stands in the last block behind the end of the disk, where other programs may have left something, is zero
    /// from now on.
    pub(super) fn clear_end(&self, geometry: Geometry) -> Result<()> {
        let block = geometry.blocks.saturating_sub(1);
        let (visible, entry) = (geometry.visible_len(block), self.table.payload(block)?);
        if visible < geometry.block_size && entry.state().has_place() {
            let (at, len) = (entry.offset().saturating_add(visible), geometry.block_size.saturating_sub(visible));
            self.put(|storage| match self.info().kind {
                // What was set aside stays so.
                Kind::Fixed => storage.write_zeros(at, len),
                _ => storage.punch_hole(at, len),
            })?;
        }
        Ok(())
    }

    /// Entries that no block had so far name nothing.
    pub(super) fn clear_entries(&self, from: u64, upto: u64) -> Result<()> {
        let mut number = from;
        while number < upto {
            let at = self.table.place(number);
            let empty = self.table.pages.hole_at(at)? / ENTRY_LEN;
            if empty > 0 {
                number = number.saturating_add(empty);
                continue;
            }
            let is_clear = self.table.pages.with(at, |page, within| page[within..][..8] == [0; 8])?;
            if !is_clear {
                let _turn = self.turn_with_room()?;
                self.table.pages.change(at, |page, within| page[within..][..8].fill(0))?;
            }
            number = number.saturating_add(1);
        }
        Ok(())
    }

    /// Lays a table for so many entries at a place that nothing else uses, and has the region table name it.
    pub(super) fn move_table(&self, layout: &Layout, new: Geometry, offset: u64) -> Result<()> {
        let old = layout.bat;
        let len = new.entries.saturating_mul(ENTRY_LEN).next_multiple_of(ALIGNMENT);
        match offset.saturating_add(len) {
            end if end > self.storage.len()? => self.storage.set_len(end)?,
            _ => self.storage.punch_hole(offset, len)?,
        }
        let used = layout.geometry.entries.saturating_mul(ENTRY_LEN);
        let mut buffer = vec![0; index(STEP)];
        for step in in_units(0, used, STEP) {
            let data = data_in(&*self.storage, old.at(step.done), step.len)?;
            if !data.is_empty() {
                let part = &mut buffer[..index(step.len)];
                self.storage.read_at(part, old.at(step.done))?;
                self.storage.write_at(part, offset.saturating_add(step.done))?;
            }
        }
        self.storage.sync()?;
        let mut session = self.session();
        let session = &mut *session;
        session.header.file_write = Uuid::new_v4();
        session.slot = write_header(&*self.storage, &mut session.header, session.slot)?;
        let log = Region { id: Uuid::nil(), ..layout.log };
        let mut regions = region::read(&*self.storage, log, &mut Vec::new())?;
        regions.iter_mut().filter(|region| region.id == region::BAT).for_each(|region| {
            (region.offset, region.len) = (offset, len);
        });
        let table = region::encode(&regions);
        self.storage.all_or_nothing(|| {
            for place in region::TABLES {
                self.storage.write_at(&table, place)?;
                self.storage.sync()?;
            }
            Ok(())
        })?;
        debug_assert!(wide(table.len()) == wide(region::TABLE_LEN));
        self.begun.store(false, Ordering::Release);
        Ok(())
    }
}
