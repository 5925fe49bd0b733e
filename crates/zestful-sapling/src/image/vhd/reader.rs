//! A VHD image, open for reading.

use std::sync::Arc;

use super::SECTOR;
use super::bitmap::Bitmaps;
use super::layout::{Layout, UNUSED};
use crate::bytes::{index, split, wide};
use crate::error::Result;
use crate::finding::Finding;
use crate::image::{BlockCounts, Extent, Image, ImageInfo, Placement, Source};
use crate::storage::ReadAt;

/// A VHD image, open for reading. One whose footer at the end is lost is read by the copy at the start.
pub struct Vhd {
    storage: Arc<dyn ReadAt>,
    layout: Layout,
    bitmaps: Bitmaps,
    info: ImageInfo,
    warnings: Vec<Finding>,
}

impl Vhd {
    /// Opens an image and judges everything that reading relies on.
    ///
    /// # Errors
    /// `Damaged` or `Unsupported` with a finding that forbids opening; `Io`.
    pub fn open(storage: Arc<dyn ReadAt>) -> Result<Self> {
        let path = storage.path().to_owned();
        let mut warnings = Vec::new();
        let layout = Layout::read(&*storage, &mut warnings).map_err(|error| error.at(&path))?;
        warnings.retain(|finding| finding.severity() > crate::finding::Severity::Note);
        let warnings = warnings.into_iter().map(|finding| finding.at(&path)).collect();
        let (info, bitmaps) = (layout.info(), Bitmaps::of(&layout));
        Ok(Self { storage, layout, bitmaps, info, warnings })
    }

    /// Counts the blocks; `None` for a fixed image, which has none.
    pub fn block_counts(&self) -> Option<BlockCounts> {
        let blocks = self.layout.blocks.as_ref()?;
        let used = wide(blocks.table.iter().filter(|entry| **entry != UNUSED).count());
        let (full, partial) = if blocks.parent.is_some() { (0, used) } else { (used, 0) };
        Some(BlockCounts { total: wide(blocks.table.len()), full, partial, ..BlockCounts::default() })
    }
}

/// What the table tells of a range.
pub(super) enum Found {
    /// All of it.
    Known(Extent),
    /// It lies in a block, whose bitmap knows the rest.
    InBlock(InBlock),
}

/// The beginning of a range, in a block that the file holds.
pub(super) struct InBlock {
    place: u64,
    /// Where the range would begin in the file.
    data: u64,
    within: u64,
    len: u64,
    absent: Source,
}

impl Layout {
    /// What the table tells of a range that lies in the disk.
    pub(super) fn find(&self, offset: u64, len: u64) -> Found {
        let Some(blocks) = &self.blocks else { return Found::Known(Extent { len, source: Source::Data(offset) }) };
        let absent = if blocks.parent.is_some() { Source::Parent } else { Source::Zero };
        let size = blocks.shape.block_size;
        let (block, within) = split(offset, size);
        let Some(place) = blocks.place(block) else {
            let end = offset.saturating_add(len).div_ceil(size);
            let mut behind = (block..end).zip(blocks.table.iter().skip(index(block))).skip(1);
            let used = behind.find(|(_, entry)| **entry != UNUSED).map_or(end, |(block, _)| block);
            let len = len.min(used.saturating_mul(size).saturating_sub(offset));
            return Found::Known(Extent { len, source: absent });
        };
        let data = place.saturating_add(blocks.shape.bitmap_len).saturating_add(within);
        Found::InBlock(InBlock { place, data, within, len: len.min(size.saturating_sub(within)), absent })
    }
}

impl Found {
    /// The same with what a bitmap knows.
    pub(super) fn extent(self, storage: &dyn ReadAt, bitmaps: &Bitmaps) -> Result<Extent> {
        let InBlock { place, data, within, len, absent } = match self {
            Self::Known(extent) => return Ok(extent),
            Self::InBlock(found) => found,
        };
        let first = within / SECTOR;
        let most = within.saturating_add(len).div_ceil(SECTOR).saturating_sub(first);
        let (present, run) = bitmaps.run(storage, place, first, most)?;
        let same = first.saturating_add(run).saturating_mul(SECTOR).saturating_sub(within);
        Ok(Extent { len: len.min(same), source: if present { Source::Data(data) } else { absent } })
    }
}

impl Image for Vhd {
    fn storage(&self) -> &dyn ReadAt {
        &self.storage
    }

    fn info(&self) -> &ImageInfo {
        &self.info
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        self.layout.find(offset, len).extent(&self.storage, &self.bitmaps)
    }

    fn placement(&self, _: u64, pack: bool) -> Result<Option<Placement>> {
        let Some(blocks) = self.layout.blocks.as_ref() else { return Ok(None) };
        Ok(Some(blocks.placement(self.storage.len()?, pack)))
    }

    fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}
