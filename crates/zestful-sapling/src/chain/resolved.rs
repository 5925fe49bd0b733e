//! Which layer answers which range, found once and remembered: however deep a chain is, reading through it costs what
//! reading one layer costs.
//!
//! What is remembered are extents, in a map bounded by their number. A look that finds nothing asks all layers about the
//! whole neighbourhood, each of them once for each of its extents. Layers that can change are never remembered.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::DiskExtent;
use super::walk::{Origin, Walk};
use crate::error::Result;
use crate::image::{Image, Source};

/// Extents that are remembered at most; some 10 MiB.
const MOST_EXTENTS: usize = 128 << 10;
/// What is asked about at once.
const NEIGHBOURHOOD: u64 = 1 << 20;

#[derive(Clone, Copy, Debug)]
struct Known {
    len: u64,
    data: Option<(u32, u64)>,
}

/// What is known of the layers of one disk.
#[derive(Default)]
pub(super) struct Resolved {
    known: Mutex<BTreeMap<u64, Known>>,
}

impl Resolved {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<u64, Known>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Where the bytes from `offset` on come from, at most `len`; the range lies inside the first of these layers.
    pub(super) fn extent_at(&self, layers: &[Box<dyn Image>], offset: u64, len: u64) -> Result<DiskExtent> {
        if let [only] = layers {
            let extent = only.extent_at(offset, len)?;
            let data = if let Source::Data(at) = extent.source { Some((0, at)) } else { None };
            return Ok(DiskExtent { len: extent.len, data });
        }
        if let Some(found) = find(&self.lock(), offset, len) {
            return Ok(found);
        }
        let size = layers[0].info().virtual_size;
        let start = offset - offset % NEIGHBOURHOOD;
        let end = (start + NEIGHBOURHOOD).min(size);
        let mut walk = Walk::through(layers, size).from(start);
        let mut fresh: Vec<(u64, Known)> = Vec::new();
        while let Some(part) = walk.next()? {
            let data = match part.origin {
                Origin::Data(layer, at) => Some((layer as u32, at)),
                Origin::Zero | Origin::Below => None,
            };
            let known = Known { len: part.len, data };
            match fresh.last_mut().filter(|(_, last)| follows(last, &known)) {
                Some((_, last)) => last.len += known.len,
                None => fresh.push((part.offset, known)),
            }
            if part.offset + part.len >= end {
                break;
            }
        }
        let mut map = self.lock();
        if map.len() + fresh.len() > MOST_EXTENTS {
            map.clear();
        }
        map.extend(fresh);
        Ok(find(&map, offset, len).unwrap_or(DiskExtent { len, data: None }))
    }
}

/// Whether a part that stands behind another in the disk stands behind it in its file, too.
fn follows(last: &Known, next: &Known) -> bool {
    match (last.data, next.data) {
        (None, None) => true,
        (Some((layer, at)), Some((other, there))) => layer == other && at + last.len == there,
        _ => false,
    }
}

fn find(map: &BTreeMap<u64, Known>, offset: u64, len: u64) -> Option<DiskExtent> {
    let (start, known) = map.range(..=offset).next_back()?;
    let within = offset - start;
    let len = known.len.checked_sub(within).filter(|left| *left > 0)?.min(len);
    Some(DiskExtent { len, data: known.data.map(|(layer, at)| (layer as usize, at + within)) })
}
