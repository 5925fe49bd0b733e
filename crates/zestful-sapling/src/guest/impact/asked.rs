//! The ranges that are asked about, in one volume, and what was found to lie in them so far.

use std::collections::BTreeMap;
use std::ops::Range;

use crate::ranges::DiskRange;

/// A range, cut to the volume.
pub(super) struct Asked {
    /// As it was asked about.
    pub(super) range: DiskRange,
    /// In bytes of the volume.
    pub(super) place: Range<u64>,
    /// How much of it is held.
    pub(super) held: u64,
    /// How much of that is marked as free all the same.
    pub(super) contested: u64,
}

/// What one holder takes of the ranges: by the number of the range, bytes, and bytes of those that are contested.
pub(super) type Taken = BTreeMap<usize, (u64, u64)>;

/// The ranges that touch a volume, in order.
pub(super) struct AllAsked(pub(super) Vec<Asked>);

impl AllAsked {
    /// Those of a list in order that touch a part of the disk.
    pub(super) fn of(ranges: &[DiskRange], start: u64, len: u64) -> Self {
        let end = start.saturating_add(len);
        let first = ranges.partition_point(|range| range.end() <= start);
        let touching = ranges[first..].iter().take_while(|range| range.offset < end);
        let asked = touching.map(|range| Asked {
            range: *range,
            place: range.offset.max(start) - start..range.end().min(end) - start,
            held: 0,
            contested: 0,
        });
        Self(asked.collect())
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Notes that something holds a place; `contested` tells how much of a part of it is marked as free.
    pub(super) fn hold(&mut self, place: &Range<u64>, taken: &mut Taken, contested: &mut dyn FnMut(Range<u64>) -> u64) {
        let first = self.0.partition_point(|asked| asked.place.end <= place.start);
        let touching = self.0[first..].iter_mut().zip(first..).take_while(|(asked, _)| asked.place.start < place.end);
        for (asked, number) in touching {
            let shared = asked.place.start.max(place.start)..asked.place.end.min(place.end);
            let (bytes, free) = (shared.end - shared.start, contested(shared));
            (asked.held, asked.contested) = (asked.held + bytes, asked.contested + free);
            let entry = taken.entry(number).or_default();
            (entry.0, entry.1) = (entry.0 + bytes, entry.1 + free);
        }
    }

    /// What a holder takes, range by range.
    pub(super) fn parts<'a>(&'a self, taken: &'a Taken) -> impl Iterator<Item = (DiskRange, u64, bool)> + 'a {
        taken.iter().map(|(number, (bytes, contested))| {
            let asked = &self.0[*number];
            // More than there is cannot be held.
            let is_shared = asked.held > asked.place.end - asked.place.start;
            (asked.range, *bytes, *contested > 0 || is_shared)
        })
    }
}
