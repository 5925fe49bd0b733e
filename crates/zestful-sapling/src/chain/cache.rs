//! Which layer answers which range, found once and remembered: however deep a chain is, reading through it costs what
//! reading one layer costs.
//!
//! The disk is remembered in ranges of 1 MiB, with the extents that each of them has; the extents are bounded in
//! number. A look that finds nothing asks all layers about the range, each of them once for each of its extents. Layers
//! that can change are never remembered.
//!
//! A layer is remembered by its number from the base up, which it keeps when others are laid over it: then only the new
//! ones are asked.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::DiskExtent;
use super::walk::{Origin, Walk};
use crate::bytes::{fit_u32, index, split, wide};
use crate::error::Result;
use crate::image::{Image, Source};

/// Extents that are remembered at most: 2.5 MiB, and where each range has only one, some 12 MiB.
const MOST_EXTENTS: usize = 128 << 10;
/// What is asked about at once, in bytes.
const LEN: u64 = 1 << 20;

/// What is known of the layers of one disk.
#[derive(Default)]
pub(super) struct Resolved {
    known: Mutex<CachedRanges>,
}

#[derive(Default)]
struct CachedRanges {
    /// By their number.
    known: HashMap<u64, CachedRange, BuildHasherDefault<Spread>>,
    extents: usize,
}

/// The extents of a range of 1 MiB, packed so that a look touches few lines of the processor's cache.
#[derive(Default)]
struct CachedRange {
    /// Where each begins, from the beginning of the range.
    starts: Vec<u32>,
    /// The layer, from the base up, and the byte in its file; [`ZEROS`] for the layer where there are zeros.
    places: Vec<(u32, u64)>,
    /// Where the last one ends; maybe far beyond the range.
    end: u64,
    /// How many layers were asked, from the base up.
    layers: usize,
}

const ZEROS: u32 = u32::MAX;

impl Resolved {
    fn lock(&self) -> MutexGuard<'_, CachedRanges> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Where the bytes from `offset` on come from, at most `len`; the range lies inside the first of these layers.
    pub(super) fn extent_at(&self, layers: &[Box<dyn Image>], offset: u64, len: u64) -> Result<DiskExtent> {
        if let [only] = layers {
            let extent = only.extent_at(offset, len)?;
            let data = if let Source::Data(at) = extent.source { Some((0, at)) } else { None };
            return Ok(DiskExtent { len: extent.len, data });
        }
        let (number, within) = split(offset, LEN);
        let from_top = |found: DiskExtent| DiskExtent {
            data: found.data.map(|(layer, at)| (layers.len().saturating_sub(1).saturating_sub(layer), at)),
            ..found
        };
        let mut all = self.lock();
        let known = match all.known.get(&number) {
            Some(found) if found.layers == layers.len() => return Ok(from_top(found.at(within, len))),
            Some(_) => all.take(number),
            None => None,
        };
        drop(all);
        let fresh = CachedRange::of(layers, known, number)?;
        let found = from_top(fresh.at(within, len));
        self.lock().insert(number, fresh);
        Ok(found)
    }
}

impl CachedRanges {
    fn take(&mut self, number: u64) -> Option<CachedRange> {
        let taken = self.known.remove(&number)?;
        self.extents = self.extents.saturating_sub(taken.starts.len());
        Some(taken)
    }

    fn insert(&mut self, number: u64, fresh: CachedRange) {
        self.take(number);
        if self.extents.saturating_add(fresh.starts.len()) > MOST_EXTENTS {
            *self = Self::default();
        }
        self.extents = self.extents.saturating_add(fresh.starts.len());
        self.known.insert(number, fresh);
    }
}

impl CachedRange {
    /// Asks all layers, or only those over the ones that were asked before.
    fn of(layers: &[Box<dyn Image>], known: Option<Self>, number: u64) -> Result<Self> {
        let (start, size) = (number.saturating_mul(LEN), layers[0].info().virtual_size);
        let end = start.saturating_add(LEN).min(size);
        let known = known.filter(|known| known.layers < layers.len());
        let asked = layers.len().saturating_sub(known.as_ref().map_or(0, |known| known.layers));
        let mut walk = Walk::through(&layers[..asked], size).from(start);
        let mut found = Self { layers: layers.len(), ..Self::default() };
        while let Some(part) = walk.next()? {
            let within = part.offset.saturating_sub(start);
            match part.origin {
                Origin::Data(layer, at) => {
                    let from_base = layers.len().saturating_sub(1).saturating_sub(layer);
                    found.push(within, part.len, (fit_u32(wide(from_base)), at));
                }
                Origin::Zero => found.push(within, part.len, (ZEROS, 0)),
                Origin::Below => found.push_known(within, part.len, known.as_ref()),
            }
            if part.end() >= end {
                break;
            }
        }
        Ok(found)
    }

    /// What lower layers hold, as they said before.
    fn push_known(&mut self, within: u64, len: u64, known: Option<&Self>) {
        let (mut at, end) = (within, within.saturating_add(len));
        while at < end {
            let rest = end.saturating_sub(at);
            let part = match known.filter(|known| at < known.end) {
                Some(known) => known.at(at, rest),
                None => DiskExtent { len: rest, data: None },
            };
            self.push(at, part.len, part.data.map_or((ZEROS, 0), |(layer, at)| (fit_u32(wide(layer)), at)));
            at = at.saturating_add(part.len);
        }
    }

    /// One more part. One that follows the one before in the disk and in its file belongs to the same extent.
    fn push(&mut self, within: u64, len: u64, (layer, at): (u32, u64)) {
        let follows = match (self.places.last(), self.starts.last()) {
            (Some((last, _)), _) if *last == ZEROS => layer == ZEROS,
            (Some((last, there)), Some(from)) => {
                *last == layer && there.saturating_add(within.saturating_sub(u64::from(*from))) == at
            }
            _ => false,
        };
        if !follows {
            self.starts.push(fit_u32(within));
            self.places.push((layer, at));
        }
        self.end = within.saturating_add(len);
    }

    /// What is at a byte of it, at most `len`.
    fn at(&self, within: u64, len: u64) -> DiskExtent {
        let number = self.starts.partition_point(|start| u64::from(*start) <= within).saturating_sub(1);
        let end = self.starts.get(number.saturating_add(1)).map_or(self.end, |next| u64::from(*next));
        let (start, place) = (self.starts.get(number).copied().unwrap_or(0), self.places.get(number));
        let data = place.filter(|(layer, _)| *layer != ZEROS);
        let before = within.saturating_sub(u64::from(start));
        DiskExtent {
            len: len.min(end.saturating_sub(within)).max(1),
            data: data.map(|(layer, at)| (index(u64::from(*layer)), at.saturating_add(before))),
        }
    }
}

/// Numbers of ranges need no protection against whoever chooses them: all that they could do is slow a look
/// down.
#[derive(Default)]
struct Spread(u64);

impl Hasher for Spread {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, bytes: &[u8]) {
        bytes.iter().for_each(|byte| self.write_u64(u64::from(*byte)));
    }
    fn write_u64(&mut self, number: u64) {
        self.0 = (self.0 ^ number).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(26);
    }
}
