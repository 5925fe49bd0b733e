//! A walk over a disk from its first byte to its last, that asks each layer about each of its extents only once.
//!
//! Answering one question, [`Disk::extent_at`] may look far ahead in a layer only to be cut short by what the layer
//! below has there; asked again and again that adds up. The walk keeps each layer's answer for as long as it holds.

use std::ops::Range;

use super::Disk;
use crate::error::Result;
use crate::image::{Image, Source};

/// A part of the disk that comes from one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct WalkPart {
    /// The byte of the disk.
    pub(crate) offset: u64,
    /// Its length, never zero.
    pub(crate) len: u64,
    pub(crate) origin: Origin,
}

impl WalkPart {
    /// The first byte of the disk behind it.
    pub(crate) fn end(&self) -> u64 {
        self.offset.saturating_add(self.len)
    }
}

/// Where a part of a disk comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Origin {
    /// From this layer's file, from this byte on.
    Data(usize, u64),
    Zero,
    /// From the layers that were not to be asked.
    Below,
}

pub(crate) struct Walk<'a> {
    layers: Vec<Asked<'a>>,
    /// Whether layers below these are left out.
    is_cut: bool,
    offset: u64,
    size: u64,
}

/// A layer and what it said last.
struct Asked<'a> {
    layer: &'a dyn Image,
    range: Range<u64>,
    source: Source,
}

impl<'a> Walk<'a> {
    /// Over the whole disk; of its layers only the first `depth` are asked.
    pub(crate) fn new(disk: &'a dyn Disk, depth: usize) -> Self {
        let all = (0..).map_while(|number| disk.layer(number));
        let mut layers: Vec<Asked<'a>> = all.map(|layer| Asked { layer, range: 0..0, source: Source::Zero }).collect();
        let is_cut = layers.len() > depth;
        layers.truncate(depth);
        Self { layers, is_cut, offset: 0, size: disk.virtual_size() }
    }

    /// Over these layers of a disk of this size; what none of them holds is told as coming from below.
    pub(crate) fn through(layers: &'a [Box<dyn Image>], size: u64) -> Self {
        let asked = |layer: &'a dyn Image| Asked { layer, range: 0..0, source: Source::Zero };
        Self { layers: layers.iter().map(|layer| asked(&**layer)).collect(), is_cut: true, offset: 0, size }
    }

    /// The same, beginning at this byte.
    pub(crate) fn from(mut self, offset: u64) -> Self {
        self.offset = offset;
        self
    }

    /// Leaves out what comes before this byte.
    pub(crate) fn skip_to(&mut self, offset: u64) {
        self.offset = self.offset.max(offset);
    }

    /// Over these layers only: what none of them holds is told as coming from below.
    pub(crate) fn over(disk: &'a dyn Disk) -> Self {
        Self { is_cut: true, ..Self::new(disk, usize::MAX) }
    }

    /// The next part, or `None` at the end of the disk.
    pub(crate) fn next(&mut self) -> Result<Option<WalkPart>> {
        self.next_within(u64::MAX)
    }

    /// The same, of at most so many bytes.
    pub(crate) fn next_within(&mut self, most: u64) -> Result<Option<WalkPart>> {
        let offset = self.offset;
        let mut len = self.size.saturating_sub(offset).min(most);
        if len == 0 {
            return Ok(None);
        }
        let mut origin = if self.is_cut { Origin::Below } else { Origin::Zero };
        for (number, asked) in self.layers.iter_mut().enumerate() {
            // Past the end of a smaller parent there are zeros.
            let room = asked.layer.info().virtual_size.saturating_sub(offset);
            if room == 0 {
                origin = Origin::Zero;
                break;
            }
            if !asked.range.contains(&offset) {
                let extent = asked.layer.extent_at(offset, room)?;
                (asked.range, asked.source) = (offset..offset.saturating_add(extent.len), extent.source);
            }
            len = len.min(asked.range.end.saturating_sub(offset));
            match asked.source {
                Source::Data(at) => {
                    let before = offset.saturating_sub(asked.range.start);
                    origin = Origin::Data(number, at.saturating_add(before));
                    break;
                }
                Source::Zero => {
                    origin = Origin::Zero;
                    break;
                }
                Source::Parent => {}
            }
        }
        self.offset = offset.saturating_add(len);
        Ok(Some(WalkPart { offset, len, origin }))
    }
}
