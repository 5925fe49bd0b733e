//! Ranges of a disk: in order, none of them touching another.

use std::ops::Range;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A range of a disk, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[non_exhaustive]
pub struct DiskRange {
    /// The first byte.
    pub offset: u64,
    /// How many.
    pub length: u64,
}

impl DiskRange {
    /// The byte after the last one.
    pub fn end(&self) -> u64 {
        self.offset.saturating_add(self.length)
    }
}

impl From<Range<u64>> for DiskRange {
    fn from(range: Range<u64>) -> Self {
        Self { offset: range.start, length: range.end.saturating_sub(range.start) }
    }
}

/// More ranges than that are told as fewer, with what lies between them: they take 4 MiB of memory.
const MOST_RANGES: usize = 1 << 18;

/// A set of bytes of a disk, as its ranges in order; those that meet are one. Beyond 262,144 ranges a new one takes in
/// what lies between it and the one before.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct Ranges(Vec<DiskRange>);

impl Ranges {
    /// Adds a range, whatever of it is there already.
    ///
    /// ```
    /// use zestful_sapling::ranges::Ranges;
    /// let mut ranges = Ranges::default();
    /// for range in [0..10, 40..50, 10..20, 15..30] {
    ///     ranges.add(range);
    /// }
    /// assert_eq!((ranges.list().len(), ranges.bytes()), (2, 40));
    /// ```
    pub fn add(&mut self, range: Range<u64>) {
        if range.is_empty() {
            return;
        }
        let (mut start, mut end) = (range.start, range.end);
        // Ranges come in order more often than not.
        let first = match self.0.last() {
            Some(last) if last.end() < start => self.0.len(),
            _ => self.0.partition_point(|known| known.end() < start),
        };
        let after = self.0[first..].partition_point(|known| known.offset <= end).saturating_add(first);
        for known in &self.0[first..after] {
            (start, end) = (start.min(known.offset), end.max(known.end()));
        }
        match first.checked_sub(1).filter(|_| first == after && self.0.len() >= MOST_RANGES) {
            Some(before) => self.0[before].length = end.saturating_sub(self.0[before].offset),
            None => _ = self.0.splice(first..after, [DiskRange::from(start..end)]),
        }
    }

    /// Adds all of another set.
    pub fn join(&mut self, other: &Self) {
        other.0.iter().for_each(|range| self.add(range.offset..range.end()));
    }

    /// Takes a range out, whatever of it is there.
    pub fn remove(&mut self, range: Range<u64>) {
        let first = self.0.partition_point(|known| known.end() <= range.start);
        let after = self.0[first..].partition_point(|known| known.offset < range.end).saturating_add(first);
        let cut: Vec<DiskRange> = self.0[first..after]
            .iter()
            .flat_map(|known| {
                let (before, behind) =
                    (known.offset..known.end().min(range.start), known.offset.max(range.end)..known.end());
                [before, behind].into_iter().filter(|left| !left.is_empty()).map(DiskRange::from)
            })
            .collect();
        if !range.is_empty() {
            self.0.splice(first..after, cut);
        }
    }

    /// The parts that lie in a range.
    pub fn within(&self, range: Range<u64>) -> impl Iterator<Item = DiskRange> + '_ {
        let first = self.0.partition_point(|known| known.end() <= range.start);
        self.0[first..]
            .iter()
            .map(move |known| known.offset.max(range.start)..known.end().min(range.end))
            .take_while(|part| !part.is_empty())
            .map(DiskRange::from)
    }

    /// The ranges, in order.
    pub fn list(&self) -> &[DiskRange] {
        &self.0
    }

    /// Their sum.
    pub fn bytes(&self) -> u64 {
        self.0.iter().fold(0, |sum, range| range.length.saturating_add(sum))
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl FromIterator<Range<u64>> for Ranges {
    fn from_iter<T: IntoIterator<Item = Range<u64>>>(ranges: T) -> Self {
        let mut all = Self::default();
        ranges.into_iter().for_each(|range| all.add(range));
        all
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// The set is what a list of bits says, whatever is added and taken out.
        #[test]
        fn a_set_of_ranges_is_a_set(steps in proptest::collection::vec((any::<bool>(), 0u64..60, 0u64..20), 0..40)) {
            let (mut ranges, mut bits) = (Ranges::default(), [false; 80]);
            for (adds, start, len) in steps {
                match adds {
                    true => ranges.add(start..start + len),
                    false => ranges.remove(start..start + len),
                }
                (start..start + len).for_each(|at| bits[at as usize] = adds);
            }
            let told: Vec<u64> = ranges.list().iter().flat_map(|range| range.offset..range.end()).collect();
            let right: Vec<u64> = (0..80).filter(|at| bits[*at as usize]).collect();
            prop_assert_eq!(&told, &right);
            prop_assert_eq!(ranges.bytes(), right.len() as u64);
            prop_assert!(ranges.list().windows(2).all(|pair| pair[0].end() < pair[1].offset));
            let inside: u64 = ranges.within(10..30).map(|range| range.length).sum();
            prop_assert_eq!(inside, right.iter().filter(|at| (10..30).contains(*at)).count() as u64);
        }
    }
}
