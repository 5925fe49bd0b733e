//! A VHD disk gets another size.

use super::footer::{self, DiskType, Footer};
use super::header;
use super::layout::{Blocks, UNUSED};
use super::state::VhdMut;
use super::{MAX_VIRTUAL_SIZE, SECTOR};
use crate::bytes::{fit_u32, index, wide};
use crate::error::{Error, Result};
use crate::image::Image;
use crate::storage::{ReadAt, Storage};

impl VhdMut {
    /// Makes the disk larger, within the format's limits; what is new reads as zero. Called with the size that the disk
    /// has, it has both footers say it.
    pub(super) fn grow_to(&mut self, size: u64) -> Result<()> {
        if size > MAX_VIRTUAL_SIZE {
            let message = format!("a vhd disk has {} GiB at most", MAX_VIRTUAL_SIZE >> 30);
            return Err(Error::usage(message, "copy it into a vhdx image"));
        }
        self.commit()?;
        if self.shape().is_none() {
            return self.grow_fixed(size);
        }
        if size == self.info().virtual_size {
            return self.finish();
        }
        self.clear_end()?;
        self.put_table(size)
    }

    /// Makes the disk smaller; what it held from there on is gone. Called with the size that the disk has, it gives
    /// back what an earlier call did not come to.
    pub(super) fn shrink_to(&mut self, size: u64) -> Result<()> {
        self.begin()?;
        self.commit()?;
        let Some(shape) = self.shape() else { return self.shrink_fixed(size) };
        if size == self.info().virtual_size {
            return self.finish();
        }
        let cut: Vec<u64> = {
            let layout = self.layout();
            let blocks = layout.blocks.as_ref();
            let places = |blocks: &Blocks| {
                let first = size.div_ceil(shape.block_size);
                (first..wide(blocks.table.len())).filter_map(|block| blocks.place(block)).collect()
            };
            blocks.map_or_else(Vec::new, places)
        };
        self.put_table(size)?;
        self.clear_end()?;
        for place in cut {
            self.storage.punch_hole(place, shape.stride())?;
        }
        self.storage.sync()
    }

    /// A new header and a table for this size go behind everything, and the footer switches to them and to the size at
    /// once.
    fn put_table(&mut self, size: u64) -> Result<()> {
        let mut turn = self.turn();
        let (at, bytes, kind) = {
            let layout = self.layout();
            let Some(blocks) = layout.blocks.as_ref() else { return Ok(()) };
            let at = turn.space.next.max(blocks.used_end());
            let entries = size.div_ceil(blocks.shape.block_size);
            let table_at = at.saturating_add(wide(header::LEN));
            let header = blocks.header.clone().with_table(table_at, fit_u32(entries));
            let mut bytes = header.bytes().to_vec();
            bytes.extend(blocks.table.iter().take(index(entries)).flat_map(|entry| entry.to_be_bytes()));
            let end = index(entries.saturating_mul(4).saturating_add(wide(header::LEN)));
            bytes.resize(end.next_multiple_of(index(SECTOR)), UNUSED.to_be_bytes()[0]);
            let kind = if blocks.parent.is_some() { DiskType::DIFFERENCING } else { DiskType::DYNAMIC };
            (at, bytes, kind)
        };
        let put = || self.put_header(&mut turn, at, &bytes, |footer| footer.with_kind(kind).with_size(size));
        self.storage.all_or_nothing(put)?;
        drop(turn);
        self.know_anew();
        Ok(())
    }

    /// What a change of the size that was cut short may have left: a copy of the footer that says another size.
    fn finish(&self) -> Result<()> {
        self.clear_end()?;
        let footer = self.layout().footer.clone();
        self.storage.all_or_nothing(|| self.switch_footer(&mut self.turn(), footer))
    }

    /// What stands in the last block behind the end of the disk, where other programs may have left something, is zero
    /// from now on.
    fn clear_end(&self) -> Result<()> {
        let tail = self.layout().blocks.as_ref().and_then(end_of);
        tail.map_or(Ok(()), |(from, len)| self.storage.punch_hole(from, len))
    }

    /// A fixed image has one footer only, at its end. The file becomes longer and ends with a footer that says the old
    /// size still; the sector where the footer was, which is content now, is zeroed; and then the footer says the new
    /// size. While the file becomes longer it may end with no footer at all: [`back_to_footer`] finds the old one.
    fn grow_fixed(&mut self, size: u64) -> Result<()> {
        let mut turn = self.turn();
        let (old, footer) = (self.info().virtual_size, self.layout().footer.clone());
        let (before, room) = (self.storage.len()?, turn.space.footer_at);
        if size <= room {
            // Some programs leave more room than the disk has.
            self.storage.all_or_nothing(|| {
                self.storage.write_zeros(old, room.saturating_sub(old))?;
                self.storage.sync()?;
                self.switch_footer(&mut turn, footer.with_size(size))
            })?;
            drop(turn);
            self.know_anew();
            return Ok(());
        }
        if let Err(error) = self.storage.write_at(footer.bytes(), size) {
            self.storage.all_or_nothing(|| self.storage.set_len(before))?;
            return Err(error);
        }
        self.storage.all_or_nothing(|| {
            self.storage.sync()?;
            // Behind the old end stood the footer, and before it what a longer file left there.
            self.storage.write_zeros(old, before.saturating_sub(old))?;
            self.storage.sync()?;
            turn.space.footer_at = size;
            self.switch_footer(&mut turn, footer.with_size(size))
        })?;
        drop(turn);
        self.know_anew();
        Ok(())
    }

    /// The footer at the end says the new size, then another one stands behind the new end, and then the file is cut:
    /// each step leaves a whole image.
    fn shrink_fixed(&mut self, size: u64) -> Result<()> {
        let mut turn = self.turn();
        let footer = self.layout().footer.clone().with_size(size);
        self.storage.all_or_nothing(|| {
            self.switch_footer(&mut turn, footer.clone())?;
            self.storage.write_at(footer.bytes(), size)?;
            self.storage.sync()?;
            turn.space.footer_at = size;
            self.storage.set_len(size.saturating_add(SECTOR))?;
            self.storage.sync()
        })?;
        drop(turn);
        self.know_anew();
        Ok(())
    }

    fn know_anew(&mut self) {
        let info = self.layout().info();
        *self.info.get_mut() = info;
    }
}

/// What stands in the last block behind the end of the disk.
fn end_of(blocks: &Blocks) -> Option<(u64, u64)> {
    let block = wide(blocks.table.len()).checked_sub(1)?;
    let (shape, visible) = (blocks.shape, blocks.shape.visible_len(block));
    let from = blocks.place(block)?.saturating_add(shape.bitmap_len).saturating_add(visible);
    Some((from, shape.block_size.saturating_sub(visible))).filter(|(_, len)| *len > 0)
}

/// A fixed image of this size that was becoming larger, and ends with no footer, is cut back to the footer that it had.
/// `false` when it has one at its end, or none where it was.
///
/// # Errors
/// `Io`.
pub(crate) fn back_to_footer(storage: &dyn Storage, size: u64) -> Result<bool> {
    let len = storage.len()?;
    let old_end = size.saturating_add(SECTOR);
    if len <= old_end || footer_at(storage, len.saturating_sub(SECTOR), len)?.is_some() {
        return Ok(false);
    }
    let is_old = |footer: &Footer| footer.kind() == DiskType::FIXED && footer.current_size() == size;
    if footer_at(storage, size, len)?.filter(is_old).is_none() {
        return Ok(false);
    }
    storage.set_len(old_end)?;
    storage.sync()?;
    Ok(true)
}

fn footer_at(storage: &dyn ReadAt, at: u64, len: u64) -> Result<Option<Footer>> {
    Ok(Footer::parse(&footer::bytes_at(storage, at, len)?).ok())
}
