//! Which parts of the file are in use, and where a new block may go.

use crate::bytes::index;
use std::collections::BTreeMap;

use super::ALIGNMENT;

/// One bit for each MiB of the file.
pub(super) struct Claims {
    words: Vec<u64>,
    units: u64,
}

impl Claims {
    pub(super) fn new(file_len: u64) -> Self {
        let units = file_len.div_ceil(ALIGNMENT);
        Self { words: vec![0; index(units.div_ceil(64))], units }
    }

    /// Marks a range as in use; `false` if any of it was already. What lies past the file's end is left out.
    pub(super) fn claim(&mut self, offset: u64, len: u64) -> bool {
        let mut free = true;
        let end = offset.saturating_add(len).div_ceil(ALIGNMENT).min(self.units);
        for unit in offset / ALIGNMENT..end {
            let (word, bit) = (&mut self.words[index(unit / 64)], 1 << (unit % 64));
            free &= *word & bit == 0;
            *word |= bit;
        }
        free
    }

    /// Marks all that is in use in another of the same file.
    pub(super) fn join(&mut self, other: &Self) {
        self.words.iter_mut().zip(&other.words).for_each(|(word, other)| *word |= other);
    }

    /// The unused ranges inside the file, in order: offset and length.
    pub(super) fn unused(&self) -> impl Iterator<Item = (u64, u64)> {
        let used = |unit: u64| self.words[index(unit / 64)] >> (unit % 64) & 1 != 0;
        let mut unit = 0;
        std::iter::from_fn(move || {
            let start = (unit..self.units).find(|unit| !used(*unit))?;
            unit = (start..self.units).find(|unit| used(*unit)).unwrap_or(self.units);
            Some((start.saturating_mul(ALIGNMENT), unit.saturating_sub(start).saturating_mul(ALIGNMENT)))
        })
    }
}

/// Where new blocks go.
pub(super) struct SpaceMap {
    /// Unused ranges inside the file: offset to length.
    free: BTreeMap<u64, u64>,
    /// Everything from here on is unused.
    end: u64,
}

/// A place for a block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Place {
    pub(super) offset: u64,
    /// Whether old bytes may stand there.
    pub(super) reused: bool,
}

impl SpaceMap {
    /// `claims` may be unknown for a large table; new blocks then go to the end of the file.
    pub(super) fn new(claims: Option<&Claims>, file_len: u64) -> Self {
        let end = file_len.next_multiple_of(ALIGNMENT);
        let free = claims.into_iter().flat_map(Claims::unused).collect();
        Self { free, end }
    }

    pub(super) fn allocate(&mut self, len: u64) -> Place {
        let fit = self.free.iter().find(|(_, room)| **room >= len).map(|(offset, room)| (*offset, *room));
        let Some((offset, room)) = fit else {
            return Place { offset: self.extend(len), reused: false };
        };
        self.shorten(offset, room, len);
        Place { offset, reused: true }
    }

    /// The first place for so many bytes that ends at or before `below`.
    pub(super) fn allocate_below(&mut self, len: u64, below: u64) -> Option<u64> {
        let before = self.free.iter().take_while(|(offset, _)| offset.saturating_add(len) <= below);
        let (offset, room) = before.map(|(at, room)| (*at, *room)).find(|(_, room)| *room >= len)?;
        self.shorten(offset, room, len);
        Some(offset)
    }

    /// This range, if it is free.
    pub(super) fn take(&mut self, offset: u64, len: u64) -> bool {
        let found = self.free.range(..=offset).next_back().map(|(at, room)| (*at, *room));
        let Some((start, room)) = found.filter(|(at, room)| at.saturating_add(*room) >= offset.saturating_add(len))
        else {
            return false;
        };
        let before = offset.saturating_sub(start);
        self.shorten(start, room, before.saturating_add(len));
        if before > 0 {
            self.free.insert(start, before);
        }
        true
    }

    /// Takes the first bytes of a free range.
    fn shorten(&mut self, offset: u64, room: u64, len: u64) {
        self.free.remove(&offset);
        if room > len {
            self.free.insert(offset.saturating_add(len), room.saturating_sub(len));
        }
    }

    /// A place behind everything.
    pub(super) fn extend(&mut self, len: u64) -> u64 {
        let offset = self.end;
        self.end = offset.saturating_add(len);
        offset
    }

    /// Gives back a place that was never used, as if it had not been asked for.
    pub(super) fn take_back(&mut self, place: Place, len: u64) {
        match place.reused {
            true => self.release(place.offset, len),
            false => self.end = place.offset,
        }
    }

    /// Gives a range back.
    pub(super) fn release(&mut self, offset: u64, len: u64) {
        let (mut start, mut end) = (offset, offset.saturating_add(len));
        if let Some((before, room)) = self.free.range(..start).next_back().map(|(at, room)| (*at, *room))
            && before.saturating_add(room) == start
        {
            self.free.remove(&before);
            start = before;
        }
        if let Some(room) = self.free.remove(&end) {
            end = end.saturating_add(room);
        }
        self.free.insert(start, end.saturating_sub(start));
    }

    /// The length that the file must have to hold everything allocated.
    pub(super) fn end(&self) -> u64 {
        self.end
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const MIB: u64 = ALIGNMENT;

    proptest! {
        /// No two places in use ever overlap, and what is given back is found again before the file grows.
        #[test]
        fn places_never_overlap(
            steps in proptest::collection::vec((any::<bool>(), 1u64..5, any::<prop::sample::Index>()), 1..80),
        ) {
            let mut claims = Claims::new(10 * MIB);
            prop_assert!(claims.claim(0, 4 * MIB));
            prop_assert!(!claims.claim(3 * MIB, 2 * MIB));
            let mut space = SpaceMap::new(Some(&claims), 10 * MIB);
            let mut used: Vec<(u64, u64)> = vec![(0, 5 * MIB)];
            for (take, len, which) in steps {
                if take || used.len() == 1 {
                    let len = len * MIB;
                    let place = space.allocate(len);
                    for (other, room) in &used {
                        prop_assert!(place.offset >= other + room || *other >= place.offset + len);
                    }
                    prop_assert!(place.offset + len <= space.end());
                    used.push((place.offset, len));
                } else {
                    let (offset, len) = used.swap_remove(1 + which.index(used.len() - 1));
                    space.release(offset, len);
                }
            }
            let total: u64 = used.iter().map(|(_, len)| len).sum::<u64>() + space.free.values().sum::<u64>();
            prop_assert_eq!(total, space.end());
        }
    }
}
