//! What of a layer shows through the layers above it.

use std::ops::Range;

use crate::error::Result;
use crate::finding::Losses;
use crate::image::{Image, Source};
use crate::ranges::Ranges;

/// The layers of a chain from the current image down, as far as they open, and what their damage means for the disk.
#[derive(Default)]
pub(crate) struct ShownLosses {
    above: Vec<Box<dyn Image>>,
    total: Losses,
}

impl ShownLosses {
    /// Damage of the next layer: what of it shows through the layers above is lost, or doubtful, for the disk.
    pub(crate) fn note(&mut self, content: &Losses) -> Result<()> {
        let (lost, doubtful) = (self.shown(content.lost.clone())?, self.shown(content.doubtful.clone())?);
        doubtful.list().iter().for_each(|range| self.total.doubt(range.offset..range.end()));
        lost.list().iter().for_each(|range| self.total.lose(range.offset..range.end()));
        Ok(())
    }

    /// What of these ranges of the next layer shows through those above.
    fn shown(&self, ranges: Ranges) -> Result<Ranges> {
        self.above.iter().rev().try_fold(ranges, |left, image| seen_through(&**image, &left))
    }

    /// The next layer below is looked at now, through this one.
    pub(crate) fn descend(&mut self, image: Box<dyn Image>) {
        self.above.push(image);
    }

    /// All that no layer so far holds itself, of a disk of this size.
    pub(crate) fn not_held(&self, size: u64) -> Result<Ranges> {
        let all: Range<u64> = 0..size;
        self.shown(std::iter::once(all).collect())
    }

    /// The layers that were gone down through, and what it all means for the disk.
    pub(crate) fn into_parts(self) -> (Vec<Box<dyn Image>>, Losses) {
        (self.above, self.total)
    }
}

/// The parts of these ranges that an image reads from its parent.
fn seen_through(image: &dyn Image, ranges: &Ranges) -> Result<Ranges> {
    let (size, mut left) = (image.info().virtual_size, Ranges::default());
    for range in ranges.list() {
        let (mut at, end) = (range.offset, range.end().min(size));
        while at < end {
            let extent = image.extent_at(at, end.saturating_sub(at))?;
            let next = at.saturating_add(extent.len);
            if extent.source == Source::Parent {
                left.add(at..next);
            }
            at = next;
        }
    }
    Ok(left)
}

/// What an image reads from its parent.
pub(crate) fn read_from_parent(image: &dyn Image) -> Result<Ranges> {
    let all: Range<u64> = 0..image.info().virtual_size;
    seen_through(image, &std::iter::once(all).collect())
}
