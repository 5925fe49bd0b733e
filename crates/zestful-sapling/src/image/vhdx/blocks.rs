//! What a write, or a zeroing, does to one block of a VHDX image.
//!
//! Payload is in its place before the table names it. Writes into sectors that the image holds already need no turn;
//! whatever changes the table takes one.

use std::sync::atomic::Ordering;

use super::ALIGNMENT;
use super::state::{Turn, VhdxMut};
use super::table::{Entry, State};
use crate::bytes::{split, wide};
use crate::error::Result;
use crate::image::{Image, Kind, Source, for_each_held};
use crate::storage::Storage;

/// Bytes that the file grows by beyond what is needed: each growth has the host write its metadata again. It is a hole,
/// and closing cuts it off.
const GROWTH: u64 = 64 << 20;

impl VhdxMut {
    /// Space for a block that reads as zero.
    fn allocate(&self, turn: &mut Turn, len: u64) -> Result<u64> {
        self.reclaim(turn);
        let place = turn.space.allocate(len);
        let prepare = || {
            if place.reused {
                self.storage.punch_hole(place.offset, len)?;
            }
            if place.offset.saturating_add(len) > self.table.file_len() {
                let len = turn.space.end().saturating_add(GROWTH);
                self.storage.set_len(len)?;
                self.table.set_file_len(len);
            }
            Ok(())
        };
        match prepare() {
            Ok(()) => Ok(place.offset),
            Err(error) => {
                turn.space.take_back(place, len);
                Err(error)
            }
        }
    }

    /// A new block, filled by `fill` before anything names it; `name` has the table name it.
    fn with_new_block(
        &self,
        turn: &mut Turn,
        fill: impl FnOnce(u64) -> Result<()>,
        name: impl FnOnce(u64) -> Result<()>,
    ) -> Result<()> {
        let size = self.table.geometry.block_size;
        let place = self.allocate(turn, size)?;
        let filled = fill(place).and_then(|()| name(place));
        self.unsynced.store(true, Ordering::Release);
        if filled.is_err() {
            turn.space.release(place, size);
        }
        filled
    }

    /// What was given back and nobody is at any more is free.
    pub(super) fn reclaim(&self, turn: &mut Turn) {
        let Turn { space, retired, holds, .. } = turn;
        retired.retain(|(generation, (offset, len))| {
            let free = self.visitors.have_left(*generation);
            if free {
                // Where the host cannot do it now, it is done before the place is used again.
                if !*holds {
                    _ = self.storage.punch_hole(*offset, *len);
                }
                space.release(*offset, *len);
            }
            !free
        });
    }

    /// Where a range of a block stands, if all of it can be written to as it is.
    pub(super) fn settled_place(&self, block: u64, within: u64, len: u64) -> Result<Option<u64>> {
        let entry = self.table.payload(block)?;
        let there = match entry.state() {
            State::FULLY_PRESENT => true,
            State::PARTIALLY_PRESENT => {
                let sector = self.table.geometry.sector;
                let (first, count) = (split(within, sector).0, split(len, sector).0);
                self.table.bit_run(block, first, count)? == (true, count)
            }
            _ => false,
        };
        Ok(there.then(|| entry.offset().saturating_add(within)))
    }

    pub(super) fn write_in_block(&self, block: u64, within: u64, bytes: &[u8]) -> Result<()> {
        let len = wide(bytes.len());
        self.begin()?;
        if let Some(at) = self.settled_place(block, within, len)? {
            return self.put(|storage| storage.write_at(bytes, at));
        }
        let mut turn = self.turn_with_room()?;
        let entry = self.table.payload(block)?;
        let fill = |place: u64| self.storage.write_at(bytes, place.saturating_add(within));
        match entry.state() {
            State::FULLY_PRESENT => self.put(|_| fill(entry.offset())),
            State::PARTIALLY_PRESENT => {
                self.put(|_| fill(entry.offset()))?;
                self.mark_present(block, within, len)
            }
            State::NOT_PRESENT if self.table.geometry.has_parent && !self.is_whole(block, within, len) => {
                self.allocate_partial(&mut turn, block, within, len, fill)
            }
            _ => self.with_new_block(&mut turn, fill, |place| {
                self.table.set_payload(block, Entry::new(State::FULLY_PRESENT, place))
            }),
        }
    }

    pub(super) fn zero_in_block(&self, block: u64, within: u64, len: u64) -> Result<()> {
        let reads_zero =
            |state| state == State::ZERO || (state == State::NOT_PRESENT && !self.table.geometry.has_parent);
        if reads_zero(self.table.payload(block)?.state()) {
            // Zeros already: not even the write identifiers change.
            return Ok(());
        }
        self.begin()?;
        let keeps_space = self.info().kind == Kind::Fixed;
        let whole = self.is_whole(block, within, len) && !keeps_space;
        let clear = |at: u64| match keeps_space {
            true => self.storage.write_zeros(at, len),
            false => self.storage.punch_hole(at, len),
        };
        if !whole && let Some(at) = self.settled_place(block, within, len)? {
            return self.put(|_| clear(at));
        }
        let mut turn = self.turn_with_room()?;
        let entry = self.table.payload(block)?;
        let (state, at) = (entry.state(), entry.offset().saturating_add(within));
        match state {
            _ if reads_zero(state) => Ok(()),
            State::FULLY_PRESENT if !whole => self.put(|_| clear(at)),
            State::PARTIALLY_PRESENT if !whole => {
                self.put(|_| clear(at))?;
                self.mark_present(block, within, len)
            }
            State::NOT_PRESENT if !whole && !self.is_whole(block, within, len) => {
                self.allocate_partial(&mut turn, block, within, len, |_| Ok(()))
            }
            // Undefined and unmapped blocks read as zero here; said aloud, so that they do everywhere.
            _ => {
                self.table.set_payload(block, Entry::new(State::ZERO, 0))?;
                if state.has_place() {
                    turn.released.push((entry.offset(), self.table.geometry.block_size));
                }
                Ok(())
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
        if !self.table.geometry.has_parent {
            return self.zero_in_block(block, 0, self.table.geometry.visible_len(block));
        }
        if self.table.payload(block)?.state() == State::NOT_PRESENT {
            return Ok(());
        }
        self.begin()?;
        let mut turn = self.turn_with_room()?;
        let entry = self.table.payload(block)?;
        self.table.set_payload(block, Entry::new(State::NOT_PRESENT, 0))?;
        if entry.state().has_place() {
            turn.released.push((entry.offset(), self.table.geometry.block_size));
        }
        Ok(())
    }

    pub(super) fn is_whole(&self, block: u64, within: u64, len: u64) -> bool {
        within == 0 && len >= self.table.geometry.visible_len(block)
    }

    /// A new block of which only this range stands in the file, as `fill` leaves it in a place that reads as zero.
    fn allocate_partial(
        &self,
        turn: &mut Turn,
        block: u64,
        within: u64,
        len: u64,
        fill: impl FnOnce(u64) -> Result<()>,
    ) -> Result<()> {
        let chunk = self.table.geometry.chunk_of(block);
        if self.table.bitmap(chunk)?.is_none() {
            let offset = self.allocate(turn, ALIGNMENT)?;
            self.table.set_bitmap(chunk, offset).inspect_err(|_| turn.space.release(offset, ALIGNMENT))?;
        }
        self.with_new_block(turn, fill, |place| {
            self.table.set_bits(block, 0, self.table.geometry.sectors(), false)?;
            self.mark_present(block, within, len)?;
            self.table.set_payload(block, Entry::new(State::PARTIALLY_PRESENT, place))
        })
    }

    fn mark_present(&self, block: u64, within: u64, len: u64) -> Result<()> {
        let sector = self.table.geometry.sector;
        self.table.set_bits(block, split(within, sector).0, split(len, sector).0, true)
    }

    /// Every block that the image holds in part is held whole, zeros where sectors were missing, and no bitmap is left.
    pub(super) fn complete_blocks(&self) -> Result<()> {
        let (blocks, sector) = (self.table.geometry.blocks, self.table.geometry.sector);
        let mut block = 0;
        while block < blocks {
            let entry = self.table.payload(block)?;
            if entry.state() == State::PARTIALLY_PRESENT {
                let _turn = self.turn_with_room()?;
                let (mut first, sectors) = (0u64, self.table.geometry.sectors());
                while first < sectors {
                    let (present, run) = self.table.bit_run(block, first, sectors.saturating_sub(first))?;
                    if !present {
                        let at = entry.offset().saturating_add(first.saturating_mul(sector));
                        self.put(|storage| storage.punch_hole(at, run.saturating_mul(sector)))?;
                    }
                    first = first.saturating_add(run);
                }
                self.table.set_payload(block, Entry::new(State::FULLY_PRESENT, entry.offset()))?;
            }
            block = match entry.state() {
                State::NOT_PRESENT => self.table.same_source_until(block.saturating_add(1), blocks, Source::Parent)?,
                _ => block.saturating_add(1),
            };
        }
        // No entry names a bit any more once this is durable.
        self.commit()?;
        for chunk in 0..self.table.geometry.chunks {
            if let Some(offset) = self.table.bitmap(chunk)? {
                let mut turn = self.turn_with_room()?;
                self.table.clear_bitmap(chunk)?;
                turn.released.push((offset, ALIGNMENT));
            }
        }
        self.commit()
    }
}
