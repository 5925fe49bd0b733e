//! The value of an attribute, wherever it lies, and in however many records its clusters are listed.

use std::ops::Range;

use super::record::Attribute;
use crate::bytes::wide;
use crate::guest::trouble::Trouble;

/// More clusters than any file has; in bytes they are a number still.
const MOST_CLUSTERS: u64 = 1 << 42;
const COMPRESSED: u16 = 0x00FF;
const ENCRYPTED: u16 = 0x4000;
const SPARSE: u16 = 0x8000;

/// The value of an attribute. Lengths are in bytes.
#[derive(Clone, Debug, Default)]
pub(in crate::guest) struct Value {
    /// Itself, where it lies in the record.
    pub(super) resident: Option<Vec<u8>>,
    /// Where its clusters lie: the first of the value, and those of the volume.
    runs: Vec<(u64, Range<u64>)>,
    /// Up to which cluster of the value the lists tell where it lies, or that it is a hole.
    pub(super) told: u64,
    pub(in crate::guest) len: u64,
    /// How much of it was ever written: behind that it reads as zero, whatever stands in its clusters.
    pub(in crate::guest) written: u64,
    /// What it takes on the volume.
    pub(in crate::guest) allocated: u64,
    flags: u16,
}

fn damaged<T>(what: impl Into<String>) -> Result<T, Trouble> {
    Err(Trouble::Damaged(what.into()))
}

impl Value {
    /// One more attribute that tells of it, in order.
    pub(super) fn add(&mut self, attribute: &Attribute<'_>, clusters: u64) -> Result<(), Trouble> {
        if let Some(bytes) = attribute.resident() {
            let len = wide(bytes.len());
            (self.len, self.written, self.allocated) = (len, len, len);
            (self.resident, self.flags) = (Some(bytes.to_vec()), attribute.flags());
            return Ok(());
        }
        if !attribute.is_outside() {
            return damaged("a value lies outside of its record");
        }
        if attribute.first_cluster() == 0 {
            self.flags = attribute.flags();
            let is_short = self.flags & (SPARSE | COMPRESSED) != 0;
            [self.allocated, self.len, self.written] = attribute.lengths(is_short);
        }
        if attribute.first_cluster() != self.told {
            return damaged("a part of the list of a file's clusters is missing");
        }
        attribute.runs(clusters, &mut |count, run| {
            self.runs.extend(run.map(|run| (self.told, run)));
            self.told = self.told.saturating_add(count);
            match self.told <= MOST_CLUSTERS {
                true => Ok(()),
                false => damaged("a file would be larger than any can be"),
            }
        })
    }

    /// Whether it lies in the record itself.
    pub(in crate::guest) fn is_resident(&self) -> bool {
        self.resident.is_some()
    }

    /// The clusters that hold it.
    pub(in crate::guest) fn runs(&self) -> impl Iterator<Item = Range<u64>> {
        self.runs.iter().map(|(_, run)| run.clone())
    }

    /// What lies in the record itself, or which part of it lies where, and how much of it counts.
    pub(in crate::guest) fn mapping(&self) -> Vec<u8> {
        let runs = self.runs.iter().flat_map(|(first, run)| [*first, run.start, run.end]);
        let numbers = [self.len, self.written, u64::from(self.flags)].into_iter().chain(runs);
        let mut told: Vec<u8> = numbers.flat_map(u64::to_le_bytes).collect();
        told.extend(self.resident.iter().flatten());
        told
    }

    /// Why it cannot be read from outside.
    pub(in crate::guest) fn refuse_unreadable(&self) -> Result<(), Trouble> {
        match (self.flags & ENCRYPTED, self.flags & COMPRESSED) {
            (0, 0) => Ok(()),
            (0, _) => Err(Trouble::Unsupported("it is compressed".to_owned())),
            _ => Err(Trouble::Unsupported("it is encrypted".to_owned())),
        }
    }

    /// The place of a range of it on the volume, in bytes, and what of the range lies there; none for a hole.
    pub(super) fn place(&self, at: u64, len: u64, cluster: u64) -> Result<(Option<u64>, u64), Trouble> {
        let number = at / cluster;
        if number >= self.told {
            return damaged("its list of clusters ends before the file does");
        }
        let behind = self.runs.partition_point(|(first, _)| *first <= number);
        let before = behind.checked_sub(1).map(|before| &self.runs[before]);
        let holds = before.filter(|(first, run)| number - first < run.end - run.start);
        let (place, end) = match holds {
            Some((first, run)) => (Some(run.start * cluster + (at - first * cluster)), first + (run.end - run.start)),
            None => (None, self.runs.get(behind).map_or(self.told, |(first, _)| *first)),
        };
        Ok((place, len.min(end * cluster - at)))
    }
}
