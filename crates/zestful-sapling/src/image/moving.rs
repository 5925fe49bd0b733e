//! The order in which the blocks of an image are moved to other places in its file.
//!
//! A block is whole in its new place, durably, before the image names that place, and the old place is used for nothing
//! until the image, durably, names the new one. So a loss of power leaves each block in one of the two.
//!
//! An image may have millions of blocks: those that fill gaps are looked up some at a time, and to bring them in order
//! takes twelve bytes for each.

use std::cmp::Reverse;
use std::ops::Range;

use super::placement::{HOST_BLOCK, Placed, in_bytes};
use crate::bytes::{fit_u32, index, is_zero, split, wide};
use crate::error::{Error, Result};
use crate::storage::Storage;

/// A block is copied in steps of this size.
const STEP: u64 = 1 << 20;
/// So many blocks are looked up at a time.
const WINDOW: usize = 1 << 17;

/// An image whose blocks can be moved. Places are bytes of its file.
pub(super) trait Movable {
    /// Bytes of the file that a block takes.
    fn stride(&self) -> u64;

    /// What places are multiples of, in bytes.
    fn unit(&self) -> u64;

    /// The blocks that have a place, in the order of the disk.
    ///
    /// # Errors
    /// `Io`.
    fn each_placed(&self, visit: &mut dyn FnMut(Placed)) -> Result<()>;

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

    /// This place, which was taken, is free: nothing was written there.
    fn leave(&mut self, place: u64);

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

    /// Blocks fill the gaps before them, the last first. Those that stand before `from` stay.
    pub(super) fn pack(&mut self, image: &mut dyn Movable, from: u64) -> Result<()> {
        self.pack_by(WINDOW, image, from)
    }

    fn pack_by(&mut self, window: usize, image: &mut dyn Movable, from: u64) -> Result<()> {
        let mut upto = u64::MAX;
        loop {
            let blocks = last_placed(image, from..upto, window)?;
            let Some(first) = blocks.first() else { return Ok(()) };
            upto = in_bytes(first.place, image.unit());
            if !self.pack_these(image, blocks)? {
                return Ok(());
            }
        }
    }

    /// Returns whether there was a gap for each of them. They come in the order of their places.
    fn pack_these(&mut self, image: &mut dyn Movable, mut blocks: Vec<Placed>) -> Result<bool> {
        let (most, unit) = (self.at_once(image), image.unit());
        while !blocks.is_empty() {
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
                return Ok(false);
            }
            // All gaps lie before all of these, so that they can as well come to stand in the order of the disk.
            some.sort_unstable_by_key(|placed| placed.block);
            gaps.sort_unstable();
            for (Placed { block, place }, to) in some.iter().zip(gaps) {
                image.shift(u64::from(*block), in_bytes(*place, unit), to)?;
            }
            self.secure(image, some.len())?;
        }
        Ok(true)
    }

    /// Blocks stand in the order of the disk, on the places that they have together.
    ///
    /// When whoever watches ends it, what stands behind all others meanwhile fills the gaps that are left.
    pub(super) fn order(&mut self, image: &mut dyn Movable) -> Result<()> {
        let ended = Standing::of(image).and_then(|mut standing| self.order_in_windows(image, &mut standing));
        if let Err(Error::Cancelled) = ended {
            image.secure()?;
            Moves { room: self.room, watch: &mut |_| Ok(()) }.pack(image, 0)?;
        }
        ended
    }

    /// So many slots at a time are emptied, and then filled.
    fn order_in_windows(&mut self, image: &mut dyn Movable, standing: &mut Standing) -> Result<()> {
        let (most, unit) = (self.at_once(image), image.unit());
        let mut next = 0;
        loop {
            let wrong: Vec<usize> =
                (next..standing.slots.len()).filter(|slot| standing.is_wrong(*slot)).take(most).collect();
            let Some(last) = wrong.last() else { return Ok(()) };
            next = last.saturating_add(1);
            // Those that nobody stands in are kept, so that no other block comes to stand there meanwhile.
            let (left, taken): (Vec<usize>, Vec<usize>) =
                wrong.iter().partition(|slot| standing.inside[**slot] == NOBODY);
            left.iter().try_for_each(|slot| image.take(in_bytes(standing.slots[*slot], unit)))?;
            for slot in &taken {
                let rank = standing.inside[*slot];
                let spare = image.take_any()?;
                image.shift(standing.blocks.nth(rank), in_bytes(standing.slots[*slot], unit), spare)?;
                standing.note(rank, fit_u32(split(spare, unit).0));
            }
            let emptied = self.secure(image, taken.len());
            if emptied.is_err() {
                left.iter().for_each(|slot| image.leave(in_bytes(standing.slots[*slot], unit)));
            }
            emptied?;
            taken.iter().try_for_each(|slot| image.take(in_bytes(standing.slots[*slot], unit)))?;
            for slot in &wrong {
                let (rank, to) = (fit_u32(wide(*slot)), standing.slots[*slot]);
                let from = standing.places[*slot];
                image.shift(standing.blocks.nth(rank), in_bytes(from, unit), in_bytes(to, unit))?;
                standing.note(rank, to);
            }
            self.secure(image, wrong.len())?;
        }
    }
}

/// The last `most` of the blocks that stand in a range of the file, in the order of their places.
fn last_placed(image: &dyn Movable, range: Range<u64>, most: usize) -> Result<Vec<Placed>> {
    let keep_last = |found: &mut Vec<Placed>| {
        if found.len() > most {
            found.select_nth_unstable_by_key(most, |placed| Reverse(placed.place));
            found.truncate(most);
        }
    };
    let (mut found, unit) = (Vec::new(), image.unit());
    image.each_placed(&mut |placed| {
        if range.contains(&in_bytes(placed.place, unit)) {
            found.push(placed);
            if found.len() >= most.saturating_mul(2) {
                keep_last(&mut found);
            }
        }
    })?;
    keep_last(&mut found);
    found.sort_unstable_by_key(|placed| placed.place);
    Ok(found)
}

/// Who stands where, and who is to. The block that comes n-th on the disk is to stand in the n-th slot.
struct Standing {
    blocks: Ranks,
    /// Where each block stands, by its rank, in units of the image's places.
    places: Vec<u32>,
    /// The places that they have together, in order.
    slots: Vec<u32>,
    /// Who stands in each slot, by rank.
    inside: Vec<u32>,
}

impl Standing {
    fn of(image: &dyn Movable) -> Result<Self> {
        let mut blocks = Ranks::default();
        image.each_placed(&mut |placed| blocks.add(placed.block))?;
        let mut places = Vec::with_capacity(blocks.count());
        image.each_placed(&mut |placed| places.push(placed.place))?;
        let mut slots = places.clone();
        slots.sort_unstable();
        let inside = vec![NOBODY; slots.len()];
        let mut standing = Self { blocks, places, slots, inside };
        for (rank, place) in (0u32..).zip(&standing.places) {
            if let Ok(slot) = standing.slots.binary_search(place) {
                standing.inside[slot] = rank;
            }
        }
        Ok(standing)
    }

    fn is_wrong(&self, slot: usize) -> bool {
        u64::from(self.inside[slot]) != wide(slot)
    }

    /// A block has moved.
    fn note(&mut self, rank: u32, to: u32) {
        let from = std::mem::replace(&mut self.places[index(u64::from(rank))], to);
        for (place, who) in [(from, NOBODY), (to, rank)] {
            if let Ok(slot) = self.slots.binary_search(&place) {
                self.inside[slot] = who;
            }
        }
    }
}

/// Which blocks of a disk there are: one bit for each, so that the n-th of them is found quickly.
#[derive(Default)]
struct Ranks {
    words: Vec<u64>,
    /// How many there are before each word.
    before: Vec<u32>,
    count: u32,
}

impl Ranks {
    /// Adds a block that comes behind all others.
    fn add(&mut self, block: u32) {
        let (word, bit) = split(u64::from(block), 64);
        self.words.resize(self.words.len().max(index(word).saturating_add(1)), 0);
        self.before.resize(self.words.len(), self.count);
        self.words[index(word)] |= 1 << bit;
        self.count = self.count.saturating_add(1);
    }

    fn count(&self) -> usize {
        index(u64::from(self.count))
    }

    /// The block that comes at this rank, counted from zero; there must be so many.
    fn nth(&self, rank: u32) -> u64 {
        let word = self.before.partition_point(|before| *before <= rank).saturating_sub(1);
        let mut bits = self.words[word];
        for _ in self.before[word]..rank {
            bits &= bits.wrapping_sub(1);
        }
        wide(word).saturating_mul(64).saturating_add(u64::from(bits.trailing_zeros()))
    }
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

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use proptest::prelude::*;

    use super::*;

    /// Who is where, and which places are free; places are counted in blocks.
    struct Model {
        blocks: BTreeMap<u32, u64>,
        free: BTreeSet<u64>,
        taken: BTreeSet<u64>,
        left: Vec<u64>,
        end: u64,
    }

    impl Model {
        /// So many places, with blocks in some of them.
        fn new(end: u64, blocks: impl IntoIterator<Item = (u32, u64)>) -> Self {
            let blocks: BTreeMap<u32, u64> = blocks.into_iter().collect();
            let free = (0..end).filter(|place| !blocks.values().any(|used| used == place)).collect();
            Self { blocks, free, taken: BTreeSet::new(), left: Vec::new(), end }
        }
    }

    impl Movable for Model {
        fn stride(&self) -> u64 {
            1
        }

        fn unit(&self) -> u64 {
            1
        }

        fn each_placed(&self, visit: &mut dyn FnMut(Placed)) -> Result<()> {
            let placed = |(block, place): (&u32, &u64)| Placed { block: *block, place: fit_u32(*place) };
            self.blocks.iter().map(placed).for_each(visit);
            Ok(())
        }

        fn shift(&mut self, block: u64, from: u64, to: u64) -> Result<()> {
            assert_eq!(self.blocks.insert(fit_u32(block), to), Some(from));
            assert!(self.taken.remove(&to), "{to} is not taken");
            self.left.push(from);
            Ok(())
        }

        fn take_below(&mut self, below: u64) -> Result<Option<u64>> {
            let place = self.free.first().copied().filter(|place| *place < below);
            place.iter().for_each(|place| self.take(*place).unwrap());
            Ok(place)
        }

        fn take_any(&mut self) -> Result<u64> {
            if self.free.is_empty() {
                self.free.insert(self.end);
                self.end += 1;
            }
            Ok(self.take_below(u64::MAX)?.unwrap())
        }

        fn take(&mut self, place: u64) -> Result<()> {
            assert!(self.free.remove(&place) && self.taken.insert(place), "{place} is not free");
            Ok(())
        }

        fn leave(&mut self, place: u64) {
            assert!(self.taken.remove(&place) && self.free.insert(place), "{place} is not taken");
        }

        fn secure(&mut self) -> Result<()> {
            self.free.extend(self.left.drain(..));
            Ok(())
        }
    }

    proptest! {
        /// However many are looked up at a time, and whenever it is ended: the gaps are filled, and then the order of
        /// the disk is that of the places.
        #[test]
        fn gaps_are_filled_and_blocks_come_in_order(
            end in 1u64..300, seed in prop::collection::vec(any::<(u32, bool)>(), 300),
            from in 0u64..60, window in 1usize..40, room in 1u64..20, patience in prop::option::of(0u64..200),
        ) {
            let mut places: Vec<u64> = (0..end).filter(|place| seed[*place as usize].1).collect();
            places.sort_by_key(|place| seed[*place as usize].0);
            let blocks = (0u32..).step_by(3).zip(places);
            let mut image = Model::new(end, blocks);
            let (names, count) = (image.blocks.keys().copied().collect::<Vec<_>>(), image.blocks.len() as u64);
            let stay: Vec<_> = image.blocks.clone().into_iter().filter(|(_, place)| *place < from).collect();
            let mut moves = Moves { room, watch: &mut |_| Ok(()) };
            moves.pack_by(window, &mut image, from).unwrap();
            for (block, place) in stay {
                prop_assert_eq!(image.blocks[&block], place);
            }
            let last = image.blocks.values().copied().max().filter(|last| *last >= from);
            prop_assert!(last.is_none_or(|last| image.free.first().is_none_or(|gap| *gap > last)));
            moves.pack(&mut image, 0).unwrap();
            let mut left = patience;
            let mut watch = |_| match &mut left {
                Some(0) => Err(Error::Cancelled),
                Some(left) => { *left -= 1; Ok(()) }
                None => Ok(()),
            };
            let ended = Moves { room, watch: &mut watch }.order(&mut image);
            let now: Vec<u64> = image.blocks.values().copied().collect();
            prop_assert_eq!(image.blocks.keys().copied().collect::<Vec<_>>(), names);
            let mut sorted = now.clone();
            sorted.sort_unstable();
            prop_assert_eq!(&sorted, &(0..count).collect::<Vec<_>>());
            if ended.is_ok() {
                prop_assert_eq!(now, sorted);
            }
        }
    }
}
