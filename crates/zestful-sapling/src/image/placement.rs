//! Where the blocks of an image stand in its file, and the order in which they are moved to other places there.
//!
//! A block is whole in its new place, durably, before the image names that place, and the old place is used for nothing
//! until the image, durably, names the new one. So a loss of power leaves each block in one of the two.

use crate::bytes::{in_units, index, split, wide};
use crate::error::{Error, Result};
use crate::storage::Storage;

use super::data_in;

/// What hosts lay files out in.
const HOST_BLOCK: u64 = 4096;
/// A block is copied in steps of this size.
const STEP: u64 = 1 << 20;

/// How the blocks of an image are to stand in its file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Arrangement {
    /// Those at the end of the file fill the gaps before them.
    Packed,
    /// The same, and then they stand in the order of the disk.
    InOrder,
}

/// How the blocks of an image stand in its file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Placement {
    /// Blocks that have a place.
    pub blocks: u64,
    /// The length of the file in bytes.
    pub file_len: u64,
    /// The length in bytes that the file has at best when its gaps are filled.
    pub packed_len: u64,
    /// Blocks that do not stand right behind the one that comes before them on the disk: whoever reads the disk from
    /// end to end jumps there on the host.
    pub jumps: u64,
}

impl Placement {
    /// Notes the block that comes next on the disk; blocks take `stride` bytes of the file.
    pub(super) fn note(&mut self, last: &mut Option<u64>, place: u64, stride: u64) {
        // Blocks may begin where those of the host do.
        let near = |last: u64| place.checked_sub(last.saturating_add(stride)).is_some_and(|gap| gap < HOST_BLOCK);
        let follows = last.is_some_and(near);
        self.jumps = self.jumps.saturating_add(u64::from(!follows && last.is_some()));
        self.blocks = self.blocks.saturating_add(1);
        *last = Some(place);
    }
}

/// An image whose blocks can be moved. Places are bytes of its file.
pub(super) trait Movable {
    /// Bytes of the file that a block takes.
    fn stride(&self) -> u64;

    /// Writes a block to a place that is free, and has the image name that place; durable after [`Movable::secure`].
    fn shift(&mut self, block: u64, from: u64, to: u64) -> Result<()>;

    /// The first free place that ends at or before `below`, taken; `None` when there is none.
    ///
    /// # Errors
    /// `Io`.
    fn take_below(&mut self, below: u64) -> Result<Option<u64>>;

    /// Any free place, taken: one behind everything, if it must be.
    fn take_any(&mut self) -> Result<u64>;

    /// This place, which was given back, taken.
    ///
    /// # Errors
    /// `Io`.
    fn take(&mut self, place: u64) -> Result<()>;

    /// What was shifted is durable, and the places where it was are free.
    ///
    /// # Errors
    /// As [`ImageMut::flush`](super::ImageMut::flush).
    fn secure(&mut self) -> Result<()>;
}

/// What a move may need of the host meanwhile, and who hears of it.
pub(super) struct Moves<'a> {
    /// Bytes that are in two places at once, at most, or one block.
    pub(super) room: u64,
    /// Called when so many bytes were moved, durably; what it returns ends the work there.
    pub(super) watch: &'a mut dyn FnMut(u64) -> Result<()>,
}

impl Moves<'_> {
    /// Blocks that are moved together.
    fn at_once(&self, image: &dyn Movable) -> usize {
        index(split(self.room, image.stride()).0.clamp(1, 1 << 10))
    }

    fn secure(&mut self, image: &mut dyn Movable, blocks: u64) -> Result<()> {
        image.secure()?;
        (self.watch)(blocks.saturating_mul(image.stride()))
    }

    /// Blocks fill the gaps before them, the last first. `blocks` are those that may move, as places and numbers.
    pub(super) fn pack(&mut self, image: &mut dyn Movable, mut blocks: Vec<(u64, u64)>) -> Result<()> {
        blocks.sort_unstable();
        let most = self.at_once(image);
        let mut moved = 0u64;
        while let Some((place, block)) = blocks.pop() {
            let Some(to) = image.take_below(place)? else { break };
            image.shift(block, place, to)?;
            moved = moved.saturating_add(1);
            if index(moved) >= most {
                self.secure(image, std::mem::take(&mut moved))?;
            }
        }
        self.secure(image, moved)
    }

    /// Blocks stand in the order of the disk, on the places that they have together. `blocks` are all of them, in that
    /// order, as numbers and places.
    ///
    /// When whoever watches ends it, what stands behind all others meanwhile fills the gaps that are left.
    pub(super) fn order(&mut self, image: &mut dyn Movable, blocks: &[(u64, u64)]) -> Result<()> {
        let mut now: Vec<u64> = blocks.iter().map(|(_, place)| *place).collect();
        let ended = self.order_in_windows(image, blocks, &mut now);
        if let Err(Error::Cancelled) = ended {
            image.secure()?;
            let placed = now.into_iter().zip(blocks).map(|(place, (block, _))| (place, *block));
            Moves { room: self.room, watch: &mut |_| Ok(()) }.pack(image, placed.collect())?;
        }
        ended
    }

    /// So many slots at a time are emptied, and then filled; `now` tells where each block is.
    fn order_in_windows(&mut self, image: &mut dyn Movable, blocks: &[(u64, u64)], now: &mut [u64]) -> Result<()> {
        let mut slots: Vec<u64> = blocks.iter().map(|(_, place)| *place).collect();
        slots.sort_unstable();
        let slot_of = |place: u64| slots.binary_search(&place).ok();
        // Who stands in each slot.
        let mut inside: Vec<Option<usize>> = vec![None; slots.len()];
        for (rank, place) in now.iter().enumerate() {
            if let Some(slot) = slot_of(*place).and_then(|slot| inside.get_mut(slot)) {
                *slot = Some(rank);
            }
        }
        let most = self.at_once(image);
        let mut next = 0;
        loop {
            let wrong: Vec<usize> =
                (next..slots.len()).filter(|slot| inside[*slot] != Some(*slot)).take(most).collect();
            let Some(last) = wrong.last() else { return Ok(()) };
            next = last.saturating_add(1);
            // Those that nobody stands in are kept, so that no other block comes to stand there meanwhile.
            let (left, taken): (Vec<usize>, Vec<usize>) = wrong.iter().partition(|slot| inside[**slot].is_none());
            left.iter().try_for_each(|slot| image.take(slots[*slot]))?;
            let mut moved = 0u64;
            for slot in &taken {
                let Some(rank) = inside[*slot].take() else { continue };
                let spare = image.take_any()?;
                image.shift(blocks[rank].0, now[rank], spare)?;
                now[rank] = spare;
                if let Some(other) = slot_of(spare) {
                    inside[other] = Some(rank);
                }
                moved = moved.saturating_add(1);
            }
            self.secure(image, moved)?;
            taken.iter().try_for_each(|slot| image.take(slots[*slot]))?;
            for slot in &wrong {
                image.shift(blocks[*slot].0, now[*slot], slots[*slot])?;
                if let Some(other) = slot_of(now[*slot]) {
                    inside[other] = None;
                }
                (now[*slot], inside[*slot]) = (slots[*slot], Some(*slot));
            }
            self.secure(image, wide(wrong.len()))?;
        }
    }
}

/// Copies a part of a file to another place in it, holes as holes.
pub(super) fn copy_within(storage: &dyn Storage, from: u64, to: u64, len: u64) -> Result<()> {
    storage.punch_hole(to, len)?;
    let mut buffer = vec![0; index(STEP.min(len))];
    let mut done = 0u64;
    while done < len {
        let data = data_in(storage, from.saturating_add(done), len.saturating_sub(done))?;
        let length = data.end.saturating_sub(data.start);
        for step in in_units(data.start, length, STEP) {
            let at = data.start.saturating_add(step.done);
            let part = &mut buffer[..index(step.len)];
            storage.read_at(part, at)?;
            storage.write_at(part, at.saturating_sub(from).saturating_add(to))?;
        }
        done = data.end.saturating_sub(from);
    }
    Ok(())
}
