//! What a write, or a zeroing, does to one block of a VHD image.
//!
//! Payload is in its place before a bitmap or the table tells of it. Writes into sectors that are there already need no
//! turn; whatever changes the table or a bitmap takes one.

use super::SECTOR;
use super::layout::UNUSED;
use super::shape::BlockShape;
use super::state::{Turn, VhdMut};
use crate::bytes::{Step, fit_u32, index, split};
use crate::error::Result;
use crate::image::placement::HOST_BLOCK;
use crate::image::{for_each_held, reads_zero};
use crate::storage::{ReadAt, Storage};

/// Entries of the table in a sector.
pub(super) const ENTRIES_PER_SECTOR: u64 = SECTOR / 4;

impl VhdMut {
    /// Where a range of a block stands, if all of it can be written to as it is.
    pub(super) fn settled_place(&self, shape: BlockShape, block: u64, within: u64, len: u64) -> Result<Option<u64>> {
        let Some(place) = self.place(block) else { return Ok(None) };
        let (first, count) = (within / SECTOR, len / SECTOR);
        let there = self.bitmaps.run(&*self.storage, place, first, count)? == (true, count);
        Ok(there.then(|| place.saturating_add(shape.bitmap_len).saturating_add(within)))
    }

    /// Has `write` change a range of a block at its place in the file: where it stands, or where it shall stand; there
    /// the bits of the range are set afterwards.
    pub(super) fn write_in_block(
        &self,
        shape: BlockShape,
        step: Step,
        write: impl FnOnce(u64) -> Result<()>,
    ) -> Result<()> {
        let Step { unit: block, within, len, .. } = step;
        if let Some(at) = self.settled_place(shape, block, within, len)? {
            return self.put(|_| write(at));
        }
        let mut turn = self.turn_with_room()?;
        let data = |place: u64| place.saturating_add(shape.bitmap_len).saturating_add(within);
        let (first, count) = (within / SECTOR, len / SECTOR);
        let Some(place) = self.place(block) else {
            self.reclaim(&mut turn, shape);
            let footer = self.layout().footer.clone();
            let place = turn.space.allocate(&self.storage, shape, &footer)?;
            if let Err(error) = self.put(|_| write(data(place))) {
                turn.retired.push((self.visitors.turn_over(), place));
                return Err(error);
            }
            match self.is_differencing() {
                true => self.bitmaps.put(place, first, count),
                false => self.bitmaps.put(place, 0, shape.sectors()),
            }
            turn.new_places.insert(place);
            self.set_entry(&mut turn, block, fit_u32(place / SECTOR));
            return Ok(());
        };
        match self.is_differencing() {
            true => {
                self.put(|_| write(data(place)))?;
                self.bitmaps.set(&*self.storage, place, first, count)
            }
            false => {
                self.complete_bitmap(place, shape)?;
                self.put(|_| write(data(place)))
            }
        }
    }

    /// The host gives up the space of what the file holds of a range. Tables and bitmaps stay, so that there is
    /// nothing to commit.
    pub(super) fn dig_in_range(&self, offset: u64, len: u64) -> Result<()> {
        self.begin()?;
        let range = offset..offset.saturating_add(len);
        for_each_held(self, range, &mut |_, place, len| self.put(|storage| storage.punch_hole(place, len)))
    }

    /// A block whose content its parent holds as well, or that reads as zero where there is none, is held no more.
    pub(super) fn give_block_to_parent(&self, block: u64) -> Result<()> {
        if self.place(block).is_none() {
            return Ok(());
        }
        self.begin()?;
        let mut turn = self.turn_with_room()?;
        if let Some(place) = self.place(block) {
            turn.released.push(place);
            self.set_entry(&mut turn, block, UNUSED);
        }
        Ok(())
    }

    pub(super) fn zero_in_block(&self, shape: BlockShape, step: Step) -> Result<()> {
        let Step { unit: block, within, len, .. } = step;
        let differencing = self.is_differencing();
        if !differencing && self.place(block).is_none() {
            // Zeros already: not even the identity changes.
            return Ok(());
        }
        self.begin()?;
        if !differencing && within == 0 && len >= shape.visible_len(block) {
            return self.give_block_to_parent(block);
        }
        self.write_in_block(shape, step, |at| self.storage.punch_hole(at, len))
    }

    pub(super) fn set_entry(&self, turn: &mut Turn, block: u64, entry: u32) {
        let mut layout = self.layout_mut();
        if let Some(slot) = layout.blocks.as_mut().and_then(|blocks| blocks.table.get_mut(index(block))) {
            *slot = entry;
            turn.changed_table.insert(block / ENTRIES_PER_SECTOR);
        }
    }

    /// Other programs leave the bits of a dynamic image's unwritten sectors clear. All are set before the first write
    /// to such a sector, after making sure that those sectors are zero on the disk.
    fn complete_bitmap(&self, place: u64, shape: BlockShape) -> Result<()> {
        if self.clear_missing(place, shape)? {
            self.storage.sync()?;
            self.bitmaps.set(&*self.storage, place, 0, shape.sectors())?;
            let bytes = self.bitmaps.copy(&*self.storage, place)?;
            self.storage.write_at(&bytes, place)?;
            self.storage.sync()?;
        }
        Ok(())
    }

    /// Zeros in the file for the sectors of a block whose bits are clear; returns whether there were any.
    pub(super) fn clear_missing(&self, place: u64, shape: BlockShape) -> Result<bool> {
        let (mut first, mut cleared) = (0u64, false);
        while first < shape.sectors() {
            let rest = shape.sectors().saturating_sub(first);
            let (present, run) = self.bitmaps.run(&*self.storage, place, first, rest)?;
            if !present {
                let at = place.saturating_add(shape.bitmap_len).saturating_add(first.saturating_mul(SECTOR));
                self.storage.punch_hole(at, run.saturating_mul(SECTOR))?;
                cleared = true;
            }
            first = first.saturating_add(run);
        }
        Ok(cleared)
    }

    /// Makes a place read as zero. Blocks of the host that would keep nothing but zeros beside it go with it: to zero a
    /// part of one is a write.
    pub(super) fn clear(&self, place: u64, len: u64) -> Result<()> {
        let end = place.saturating_add(len);
        let first = split(place, HOST_BLOCK).0.saturating_mul(HOST_BLOCK);
        let last = end.next_multiple_of(HOST_BLOCK);
        let is_zero = |from: u64, to: u64| reads_zero(&*self.storage, from, to.saturating_sub(from));
        let from = if is_zero(first, place)? { first } else { place };
        let to = if last <= self.storage.len()? && is_zero(end, last)? { last } else { end };
        self.storage.punch_hole(from, to.saturating_sub(from))
    }

    /// What was given back and nobody is at any more is free, once it reads as zero.
    pub(super) fn reclaim(&self, turn: &mut Turn, shape: BlockShape) {
        let Turn { space, retired, held, .. } = turn;
        retired.retain(|(generation, place)| {
            if !self.visitors.have_left(*generation) {
                return true;
            }
            match held {
                Some(held) => _ = held.insert(*place),
                None if self.clear(*place, shape.stride()).is_ok() => space.release(*place, shape),
                None => return true,
            }
            self.bitmaps.parts.forget(*place);
            false
        });
    }
}
