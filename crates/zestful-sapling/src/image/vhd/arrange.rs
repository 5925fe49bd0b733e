//! The blocks of a VHD image move to other places in its file.
//!
//! The format has no log. Blocks are copied with their bitmaps and synced before the sectors of the table that name
//! their new places are written, each of which a disk writes whole or not at all; until those are durable nothing else
//! is written to the old places.

use super::layout::{Blocks, UNUSED};
use super::shape::BlockShape;
use super::state::VhdMut;
use crate::bytes::fit_u32;
use crate::error::Result;
use crate::image::placement::{Arrangement, Movable, Moves, Placement, copy_within};
use crate::image::{Image, ImageMut};
use crate::storage::Storage;

impl Blocks {
    /// How the blocks stand in a file of this length.
    pub(super) fn placement(&self, file_len: u64) -> Placement {
        let mut found = Placement { file_len, ..Placement::default() };
        let mut last = None;
        for (_, place) in self.placed() {
            found.note(&mut last, place, self.shape.stride());
        }
        let blocks = found.blocks.saturating_mul(self.shape.stride());
        let least = self.structures_len().saturating_add(blocks).max(self.structures_end());
        found.packed_len = least.saturating_add(super::SECTOR).min(file_len);
        found
    }

    /// The blocks in the order of the disk, and where they stand.
    fn placed(&self) -> impl Iterator<Item = (u64, u64)> {
        (0u64..)
            .zip(&self.table)
            .filter(|(_, entry)| **entry != UNUSED)
            .filter_map(|(block, _)| self.place(block).map(|place| (block, place)))
    }
}

impl VhdMut {
    /// Blocks move, and the file is cut behind the last of them. Content and data identity stay. What was moved before
    /// an error stays moved.
    pub(super) fn arrange_blocks(&mut self, how: Arrangement, mut moves: Moves<'_>) -> Result<()> {
        let Some(identity) = self.info().data_identity.filter(|_| self.shape().is_some()) else { return Ok(()) };
        self.settle()?;
        self.set_data_identity(identity)?;
        let moved = self.move_blocks(how, &mut moves);
        let settled = self.settle();
        moved.and(settled)
    }

    fn move_blocks(&mut self, how: Arrangement, moves: &mut Moves<'_>) -> Result<()> {
        let placed = |image: &Self, from: u64| -> Vec<(u64, u64)> {
            let layout = image.layout();
            let placed = layout.blocks.iter().flat_map(Blocks::placed);
            placed.filter(|(_, place)| *place >= from).collect()
        };
        // What stands before a structure is not in the way of a shorter file.
        let fixed_end = self.layout().blocks.as_ref().map_or(0, Blocks::structures_end);
        let from = if how == Arrangement::InOrder { 0 } else { fixed_end };
        let last = placed(self, from).into_iter().map(|(block, place)| (place, block));
        moves.pack(self, last.collect())?;
        match how {
            Arrangement::Packed => Ok(()),
            Arrangement::InOrder => {
                let all = placed(self, 0);
                moves.order(self, &all)
            }
        }
    }

    fn measures(&self) -> BlockShape {
        self.shape().unwrap_or(BlockShape::new(super::SECTOR, 0))
    }
}

impl Movable for VhdMut {
    fn stride(&self) -> u64 {
        self.measures().stride()
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
        let shape = self.measures();
        self.turn().space.allocate_below(&self.storage, shape, below)
    }

    fn take_any(&mut self) -> Result<u64> {
        let (shape, footer) = (self.measures(), self.layout().footer.clone());
        self.turn().space.allocate(&self.storage, shape, &footer)
    }

    fn take(&mut self, place: u64) -> Result<()> {
        let shape = self.measures();
        let mut turn = self.turn();
        if !turn.space.take(place, shape) {
            // The host could not clear it when it was given back.
            self.storage.punch_hole(place, shape.stride())?;
            turn.retired.retain(|(_, retired)| *retired != place);
        }
        Ok(())
    }

    fn secure(&mut self) -> Result<()> {
        self.commit()
    }
}
