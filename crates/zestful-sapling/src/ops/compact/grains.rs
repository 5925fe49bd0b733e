//! Sets of equal parts of a disk.

use std::ops::Range;

use crate::bytes::index;

/// A set of parts of a disk that have one size and are counted from its beginning: one bit each.
pub(super) struct Grains {
    /// In bytes.
    size: u64,
    words: Vec<u64>,
    count: u64,
}

impl Grains {
    pub(super) fn of(size: u64) -> Self {
        Self { size: size.max(1), words: Vec::new(), count: 0 }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// How many bytes its members have together, the last part of the disk counted as whole.
    pub(super) fn len(&self) -> u64 {
        self.count.saturating_mul(self.size)
    }

    pub(super) fn size(&self) -> u64 {
        self.size
    }

    /// Adds the part at `offset`.
    pub(super) fn add(&mut self, offset: u64) {
        let part = offset / self.size;
        let (word, bit) = (index(part / 64), 1 << (part % 64));
        if self.words.len() <= word {
            self.words.resize(word + 1, 0);
        }
        self.count += u64::from(self.words[word] & bit == 0);
        self.words[word] |= bit;
    }

    /// Adds all parts that lie wholly in a range of a disk of this size, whose last part may be shorter.
    pub(super) fn add_inside(&mut self, range: &Range<u64>, disk: u64) {
        let first = range.start.div_ceil(self.size);
        let end = if range.end >= disk { disk.div_ceil(self.size) } else { range.end / self.size };
        (first..end).for_each(|part| self.add(part * self.size));
    }

    /// Whether it has the part that holds this byte.
    pub(super) fn has(&self, offset: u64) -> bool {
        let part = offset / self.size;
        self.words.get(index(part / 64)).is_some_and(|word| word >> (part % 64) & 1 != 0)
    }

    /// What it has, in order, parts that follow each other as one, in bytes; the last may reach past the disk's end.
    pub(super) fn runs(&self) -> impl Iterator<Item = Range<u64>> + '_ {
        let most = self.words.len() as u64 * 64;
        let mut at = 0;
        std::iter::from_fn(move || {
            let start = self.next(at, most, true)?;
            at = self.next(start, most, false).unwrap_or(most);
            Some(start * self.size..at * self.size)
        })
    }

    /// The next part from `at` on that is in it, or is not.
    fn next(&self, mut at: u64, most: u64, wanted: bool) -> Option<u64> {
        while at < most {
            let word = self.words[index(at / 64)];
            let rest = if wanted { word } else { !word } >> (at % 64);
            if rest != 0 {
                return Some(at + u64::from(rest.trailing_zeros()));
            }
            at = (at / 64 + 1) * 64;
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// It has what a plain set of the parts that lie wholly in the ranges would have.
        #[test]
        fn it_has_the_parts_that_lie_in_the_ranges(
            size in 1u64..9, disk in 1u64..900, ranges in prop::collection::vec((0u64..900, 0u64..200), 0..9),
        ) {
            let (mut grains, mut model) = (Grains::of(size), BTreeSet::new());
            for (start, len) in ranges {
                let range = start.min(disk)..(start + len).min(disk);
                grains.add_inside(&range, disk);
                let is_in = |part: &u64| part * size >= range.start && ((part + 1) * size).min(disk) <= range.end;
                model.extend((0..disk.div_ceil(size)).filter(|part| part * size < range.end).filter(is_in));
            }
            prop_assert_eq!(grains.len(), model.len() as u64 * size);
            for part in 0..1000 {
                prop_assert_eq!(grains.has(part * size), model.contains(&part));
            }
            let told: Vec<u64> = grains.runs().flat_map(|run| run.step_by(size as usize)).map(|at| at / size).collect();
            prop_assert_eq!(told, model.into_iter().collect::<Vec<_>>());
            for pair in grains.runs().collect::<Vec<_>>().windows(2) {
                prop_assert!(pair[0].end < pair[1].start);
            }
        }
    }
}
