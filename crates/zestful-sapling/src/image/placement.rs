//! Where the blocks of an image stand in its file, and the order in which they are moved to other places there.
//!
//! A block is whole in its new place, durably, before the image names that place, and the old place is used for nothing
//! until the image, durably, names the new one. So a loss of power leaves each block in one of the two.

use std::ops::Range;

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::{fit_u32, index, is_zero, split, wide};
use crate::error::{Error, Result};
use crate::storage::Storage;

/// What hosts lay files out in.
pub(super) const HOST_BLOCK: u64 = 4096;
/// A block is copied in steps of this size.
const STEP: u64 = 1 << 20;

/// How the blocks of an image are to stand in its file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Arrangement {
    /// They stay, and the host is given back what none of them uses, where it keeps holes in files.
    Kept,
    /// Those at the end of the file fill the gaps before them.
    Packed,
    /// The same, and then they stand in the order of the disk.
    InOrder,
}

/// How the blocks of an image stand in its file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Placement {
    /// Blocks that have a place.
    pub blocks: u64,
    /// The length of the file in bytes.
    pub file_len: u64,
    /// The length in bytes that the file has when its gaps are filled.
    pub packed_len: u64,
    /// Blocks that do not stand right behind the one that comes before them on the disk: whoever reads the disk from
    /// end to end jumps there on the host.
    pub jumps: u64,
    /// Those of them that stand before the one that comes before them on the disk: none in a file that is in order.
    pub backward: u64,
}

impl Placement {
    /// Notes the block that comes next on the disk; blocks take `stride` bytes of the file.
    pub(super) fn note(&mut self, last: &mut Option<u64>, place: u64, stride: u64) {
        // Blocks may begin where those of the host do.
        let near = |last: u64| place.checked_sub(last.saturating_add(stride)).is_some_and(|gap| gap < HOST_BLOCK);
        let follows = last.is_some_and(near);
        self.jumps = self.jumps.saturating_add(u64::from(!follows && last.is_some()));
        self.backward = self.backward.saturating_add(u64::from(last.is_some_and(|last| place < last)));
        self.blocks = self.blocks.saturating_add(1);
        *last = Some(place);
    }
}

/// An image whose blocks can be moved. Places are bytes of its file.
pub(super) trait Movable {
    /// Bytes of the file that a block takes.
    fn stride(&self) -> u64;

    /// What places are multiples of, in bytes.
    fn unit(&self) -> u64;

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

/// A block and where it stands, in units of its image's places.
#[derive(Clone, Copy, Debug)]
pub(super) struct Placed {
    pub(super) block: u32,
    pub(super) place: u32,
}

/// No block.
const NOBODY: u32 = u32::MAX;

impl Moves<'_> {
    /// Blocks that are moved together.
    fn at_once(&self, image: &dyn Movable) -> usize {
        index(split(self.room, image.stride()).0.clamp(1, 1 << 10))
    }

    fn secure(&mut self, image: &mut dyn Movable, blocks: usize) -> Result<()> {
        image.secure()?;
        (self.watch)(wide(blocks).saturating_mul(image.stride()))
    }

    /// Blocks fill the gaps before them, the last first. `blocks` are those that may move.
    pub(super) fn pack(&mut self, image: &mut dyn Movable, mut blocks: Vec<Placed>) -> Result<()> {
        blocks.sort_unstable_by_key(|placed| placed.place);
        let (most, unit) = (self.at_once(image), image.unit());
        loop {
            let (mut some, mut gaps) = (Vec::new(), Vec::new());
            while some.len() < most
                && let Some(last) = blocks.last().copied()
                && let Some(to) = image.take_below(in_bytes(last.place, unit))?
            {
                blocks.pop();
                some.push(last);
                gaps.push(to);
            }
            if some.is_empty() {
                return Ok(());
            }
            // All gaps lie before all of these, so that they can as well come to stand in the order of the disk.
            some.sort_unstable_by_key(|placed| placed.block);
            gaps.sort_unstable();
            for (Placed { block, place }, to) in some.iter().zip(gaps) {
                image.shift(u64::from(*block), in_bytes(*place, unit), to)?;
            }
            self.secure(image, some.len())?;
        }
    }

    /// Blocks stand in the order of the disk, on the places that they have together. `blocks` are all of them, in that
    /// order.
    ///
    /// When whoever watches ends it, what stands behind all others meanwhile fills the gaps that are left.
    pub(super) fn order(&mut self, image: &mut dyn Movable, mut blocks: Vec<Placed>) -> Result<()> {
        let ended = self.order_in_windows(image, &mut blocks);
        if let Err(Error::Cancelled) = ended {
            image.secure()?;
            Moves { room: self.room, watch: &mut |_| Ok(()) }.pack(image, blocks)?;
        }
        ended
    }

    /// So many slots at a time are emptied, and then filled; `blocks` tells where each block is.
    fn order_in_windows(&mut self, image: &mut dyn Movable, blocks: &mut [Placed]) -> Result<()> {
        let unit = image.unit();
        let mut slots: Vec<u32> = blocks.iter().map(|placed| placed.place).collect();
        slots.sort_unstable();
        let slot_of = |place: u32| slots.binary_search(&place).ok();
        // Who stands in each slot, by the rank on the disk.
        let mut inside: Vec<u32> = vec![NOBODY; slots.len()];
        for (rank, placed) in (0u32..).zip(&*blocks) {
            if let Some(slot) = slot_of(placed.place) {
                inside[slot] = rank;
            }
        }
        let most = self.at_once(image);
        let is_wrong = |slot: &usize, inside: &[u32]| wide(*slot) != u64::from(inside[*slot]);
        let mut next = 0;
        loop {
            let wrong: Vec<usize> = (next..slots.len()).filter(|slot| is_wrong(slot, &inside)).take(most).collect();
            let Some(last) = wrong.last() else { return Ok(()) };
            next = last.saturating_add(1);
            // Those that nobody stands in are kept, so that no other block comes to stand there meanwhile.
            let (left, taken): (Vec<usize>, Vec<usize>) = wrong.iter().partition(|slot| inside[**slot] == NOBODY);
            let take = |image: &mut dyn Movable, slot: &usize| image.take(in_bytes(slots[*slot], unit));
            left.iter().try_for_each(|slot| take(image, slot))?;
            for slot in &taken {
                let rank = std::mem::replace(&mut inside[*slot], NOBODY);
                let Some(placed) = blocks.get_mut(index(u64::from(rank))) else { continue };
                let spare = image.take_any()?;
                image.shift(u64::from(placed.block), in_bytes(placed.place, unit), spare)?;
                placed.place = in_units_of(spare, unit);
                if let Some(other) = slot_of(placed.place) {
                    inside[other] = rank;
                }
            }
            self.secure(image, taken.len())?;
            taken.iter().try_for_each(|slot| take(image, slot))?;
            for slot in &wrong {
                let placed = &mut blocks[*slot];
                image.shift(u64::from(placed.block), in_bytes(placed.place, unit), in_bytes(slots[*slot], unit))?;
                if let Some(other) = slot_of(placed.place) {
                    inside[other] = NOBODY;
                }
                placed.place = slots[*slot];
                inside[*slot] = fit_u32(wide(*slot));
            }
            self.secure(image, wrong.len())?;
        }
    }
}

fn in_bytes(place: u32, unit: u64) -> u64 {
    u64::from(place).saturating_mul(unit)
}

fn in_units_of(place: u64, unit: u64) -> u32 {
    fit_u32(split(place, unit).0)
}

/// How long a file is in which blocks have filled the gaps before them, the last first. `places` are those of the
/// blocks that may move, in order; `gaps` are in order, too, and `place_in` finds a place in one of them.
pub(super) fn packed_end(
    mut places: Vec<u32>,
    unit: u64,
    stride: u64,
    gaps: impl IntoIterator<Item = Range<u64>>,
    place_in: impl Fn(&Range<u64>) -> Option<u64>,
) -> u64 {
    let mut gaps = gaps.into_iter();
    let mut gap = gaps.next();
    while let (Some(last), Some(room)) = (places.last().map(|place| in_bytes(*place, unit)), &mut gap) {
        match place_in(room).map(|place| place.saturating_add(stride)) {
            None => gap = gaps.next(),
            Some(end) if end > last => break,
            Some(end) => {
                room.start = end;
                places.pop();
            }
        }
    }
    places.last().map_or(0, |place| in_bytes(*place, unit).saturating_add(stride))
}

/// Copies a part of a file to another place in it; blocks of the host that hold nothing but zeros become holes.
///
/// The host is not asked where its holes are: from the middle of a large file it takes long to find the next one.
pub(super) fn copy_within(storage: &dyn Storage, from: u64, to: u64, len: u64) -> Result<()> {
    let mut buffer = vec![0; index(STEP.min(len))];
    // Steps end where blocks of the host do.
    let mut done = 0u64;
    while done < len {
        let at = to.saturating_add(done);
        let end = at.saturating_add(STEP.saturating_sub(split(at, HOST_BLOCK).1)).min(to.saturating_add(len));
        let part = &mut buffer[..index(end.saturating_sub(at))];
        storage.read_at(part, from.saturating_add(done))?;
        write_data(storage, part, at)?;
        done = end.saturating_sub(to);
    }
    Ok(())
}

/// Writes what is not zero, in blocks of the host.
fn write_data(storage: &dyn Storage, bytes: &[u8], at: u64) -> Result<()> {
    let mut rest = bytes;
    let mut at = at;
    while !rest.is_empty() {
        let is_data = |len: usize| rest.get(..len).is_some_and(|part| !is_zero(part));
        let first = index(HOST_BLOCK.saturating_sub(split(at, HOST_BLOCK).1)).min(rest.len());
        let wanted = is_data(first);
        // As many blocks as are of the same kind.
        let mut len = first;
        while len < rest.len() {
            let next = len.saturating_add(index(HOST_BLOCK)).min(rest.len());
            if is_zero(&rest[len..next]) == wanted {
                break;
            }
            len = next;
        }
        let (now, behind) = rest.split_at(len);
        match wanted {
            true => storage.write_at(now, at)?,
            false => storage.punch_hole(at, wide(now.len()))?,
        }
        (rest, at) = (behind, at.saturating_add(wide(len)));
    }
    Ok(())
}
