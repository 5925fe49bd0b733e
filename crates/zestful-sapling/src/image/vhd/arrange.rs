//! The blocks of a VHD image move to other places in its file.
//!
//! The format has no log. Blocks are copied with their bitmaps and synced before the sectors of the table that name
//! their new places are written, each of which a disk writes whole or not at all; until those are durable nothing else
//! is written to the old places.

use std::collections::BTreeSet;

use super::layout::{Blocks, UNUSED, place_of};
use super::shape::BlockShape;
use super::state::VhdMut;
use crate::bytes::{fit_u32, split};
use crate::error::Result;
use crate::image::moving::{Movable, Moves, copy_within};
use crate::image::placement::{Arrangement, HOST_BLOCK, Placed, Placement, packed_end};
use crate::image::{Image, ImageMut, data_in};
use crate::storage::Storage;

impl Blocks {
    /// How the blocks stand in a file of this length.
    pub(super) fn placement(&self, file_len: u64, pack: bool) -> Placement {
        let mut found = Placement { file_len, packed_len: file_len, ..Placement::default() };
        let mut last = None;
        for placed in self.placed() {
            found.note(&mut last, place_of(placed.place), self.shape.stride());
        }
        if !pack {
            return found;
        }
        let (fixed_end, stride) = (self.structures_end(), self.shape.stride());
        let mut movable: Vec<u32> = self.placed().map(|placed| placed.place).collect();
        movable.retain(|place| place_of(*place) >= fixed_end);
        movable.sort_unstable();
        let end = packed_end(movable, super::SECTOR, stride, self.gaps(), |gap| self.shape.place_in(gap));
        let end = end.max(fixed_end).next_multiple_of(super::SECTOR).saturating_add(super::SECTOR);
        found.packed_len = end.min(file_len);
        found
    }

    /// The blocks in the order of the disk, and where they stand.
    fn placed(&self) -> impl Iterator<Item = Placed> {
        let named = (0u32..).zip(&self.table).filter(|(_, entry)| **entry != UNUSED);
        named.map(|(block, entry)| Placed { block, place: *entry })
    }
}

impl VhdMut {
    /// Blocks move, and the file is cut behind the last of them. Content and data identity stay. What was moved before
    /// an error stays moved.
    pub(super) fn arrange_blocks(&mut self, how: Arrangement, mut moves: Moves<'_>) -> Result<()> {
        let Some(identity) = self.info().data_identity.filter(|_| self.shape().is_some()) else { return Ok(()) };
        self.settle()?;
        self.set_data_identity(identity)?;
        let is_held = self.turn().held.is_some();
        let moved = if is_held { Ok(()) } else { self.hold_places() }.and_then(|()| self.move_blocks(how, &mut moves));
        // What is cut off behind the last block need not be given back alone.
        let settled = self.settle().and_then(|()| self.let_go()).and_then(|()| self.settle());
        moved.and(settled)
    }

    /// From here on what is given up stays as it is, for the blocks that move there. In images that other programs made
    /// it does not: after a crash nobody would know that it is not theirs.
    pub(super) fn hold_places(&mut self) -> Result<()> {
        self.give_back_leftovers()?;
        self.turn().held = self.layout().footer.is_ours().then(BTreeSet::new);
        Ok(())
    }

    /// The host is given back the places that were held and that no block has moved to.
    fn let_go(&mut self) -> Result<()> {
        let (held, shape) = (self.turn().held.take().unwrap_or_default(), self.measures());
        let mut held = held.into_iter().peekable();
        while let Some(start) = held.next() {
            let mut stop = start.saturating_add(shape.stride());
            while let Some(next) = held.next_if_eq(&stop) {
                stop = next.saturating_add(shape.stride());
            }
            self.put(|_| self.clear(start, stop.saturating_sub(start)))?;
        }
        // Once more: what lies between the blocks that were given up may share blocks of the host with them.
        self.give_back_leftovers()
    }

    /// What a session that was cut short gave up, and could not give back any more. Of images that other programs made
    /// nobody knows what they keep between the blocks.
    fn give_back_leftovers(&mut self) -> Result<()> {
        let layout = self.layout();
        let gaps = if layout.footer.is_ours() { layout.blocks.as_ref().map(Blocks::gaps) } else { None };
        drop(layout);
        for gap in gaps.unwrap_or_default() {
            // The host counts in blocks of its own, which the blocks beside a gap may share.
            let inner = gap.start.next_multiple_of(HOST_BLOCK);
            let len = split(gap.end, HOST_BLOCK).0.saturating_mul(HOST_BLOCK).saturating_sub(inner);
            if !data_in(&*self.storage, inner, len)?.is_empty() {
                self.put(|_| self.clear(gap.start, gap.end.saturating_sub(gap.start)))?;
            }
        }
        Ok(())
    }

    fn move_blocks(&mut self, how: Arrangement, moves: &mut Moves<'_>) -> Result<()> {
        if how == Arrangement::Kept {
            return Ok(());
        }
        // What stands before a structure is not in the way of a shorter file.
        let fixed_end = self.layout().blocks.as_ref().map_or(0, Blocks::structures_end);
        moves.pack(self, if how == Arrangement::InOrder { 0 } else { fixed_end })?;
        if how == Arrangement::InOrder {
            moves.order(self)?;
        }
        Ok(())
    }

    fn measures(&self) -> BlockShape {
        self.shape().unwrap_or(BlockShape::new(super::SECTOR, 0))
    }
}

impl Movable for VhdMut {
    fn stride(&self) -> u64 {
        self.measures().stride()
    }

    fn unit(&self) -> u64 {
        super::SECTOR
    }

    fn each_placed(&self, visit: &mut dyn FnMut(Placed)) -> Result<()> {
        self.layout().blocks.iter().flat_map(Blocks::placed).for_each(visit);
        Ok(())
    }

    fn shift(&mut self, block: u64, from: u64, to: u64) -> Result<()> {
        let len = self.stride();
        self.put(|storage| copy_within(storage, from, to, len))?;
        let mut turn = self.turn_with_room()?;
        self.bitmaps.parts.forget(to);
        turn.released.push(from);
        self.set_entry(&mut turn, block, fit_u32(to / super::SECTOR));
        Ok(())
    }

    fn take_below(&mut self, below: u64) -> Result<Option<u64>> {
        let (shape, mut turn) = (self.measures(), self.turn());
        let held = turn.held.as_ref().and_then(BTreeSet::first).copied();
        let held = held.filter(|place| place.saturating_add(shape.stride()) <= below);
        let first = turn.space.allocate_below(&self.storage, shape, held.unwrap_or(below))?;
        Ok(first.or_else(|| turn.held.as_mut().filter(|_| held.is_some()).and_then(BTreeSet::pop_first)))
    }

    fn take_any(&mut self) -> Result<u64> {
        let (shape, footer) = (self.measures(), self.layout().footer.clone());
        let mut turn = self.turn();
        match turn.held.as_mut().and_then(BTreeSet::pop_first) {
            Some(place) => Ok(place),
            None => turn.space.allocate(&self.storage, shape, &footer),
        }
    }

    fn take(&mut self, place: u64) -> Result<()> {
        let shape = self.measures();
        let mut turn = self.turn();
        let was_held = turn.held.as_mut().is_some_and(|held| held.remove(&place));
        if !was_held && !turn.space.take(place, shape) {
            // The host could not clear it when it was given back.
            self.storage.punch_hole(place, shape.stride())?;
            turn.retired.retain(|(_, retired)| *retired != place);
        }
        Ok(())
    }

    fn leave(&mut self, place: u64) {
        let (shape, mut turn) = (self.measures(), self.turn());
        match turn.held.as_mut() {
            Some(held) => _ = held.insert(place),
            None => turn.space.release(place, shape),
        }
    }

    fn secure(&mut self) -> Result<()> {
        self.commit()
    }
}
