//! A VHD image, open for reading.

use std::sync::Arc;

use super::SECTOR;
use super::bitmap::{self, Bitmaps};
use super::layout::{Layout, UNUSED};
use crate::bytes::{index, split, wide};
use crate::error::Result;
use crate::finding::Finding;
use crate::image::{BlockCounts, Extent, Image, ImageInfo, Source};
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
        let info = layout.info();
        Ok(Self { storage, layout, bitmaps: Bitmaps::default(), info, warnings })
    }

    /// Counts the blocks; `None` for a fixed image, which has none.
    pub fn block_counts(&self) -> Option<BlockCounts> {
        let blocks = self.layout.blocks.as_ref()?;
        let used = wide(blocks.table.iter().filter(|entry| **entry != UNUSED).count());
        let (full, partial) = if blocks.parent.is_some() { (0, used) } else { (used, 0) };
        Some(BlockCounts { total: wide(blocks.table.len()), full, partial, ..BlockCounts::default() })
    }
}

/// Where a range comes from, for readers and writers alike.
pub(super) fn extent_at(
    storage: &dyn ReadAt,
    layout: &Layout,
    bitmaps: &Bitmaps,
    offset: u64,
    len: u64,
) -> Result<Extent> {
    let Some(blocks) = &layout.blocks else { return Ok(Extent { len, source: Source::Data(offset) }) };
    let absent = if blocks.parent.is_some() { Source::Parent } else { Source::Zero };
    let size = blocks.block_size;
    let (block, within) = split(offset, size);
    let Some(place) = blocks.place(block) else {
        let end = offset.saturating_add(len).div_ceil(size);
        let mut behind = (block..end).zip(blocks.table.iter().skip(index(block))).skip(1);
        let used = behind.find(|(_, entry)| **entry != UNUSED).map_or(end, |(block, _)| block);
        return Ok(Extent { len: len.min(used.saturating_mul(size).saturating_sub(offset)), source: absent });
    };
    let rest = len.min(size.saturating_sub(within));
    let first = within / SECTOR;
    let most = within.saturating_add(rest).div_ceil(SECTOR).saturating_sub(first);
    let (present, run) = bitmaps.with(storage, place, blocks.bitmap_len, |bytes| bitmap::run(bytes, first, most))?;
    let source =
        if present { Source::Data(place.saturating_add(blocks.bitmap_len).saturating_add(within)) } else { absent };
    let same = first.saturating_add(run).saturating_mul(SECTOR).saturating_sub(within);
    Ok(Extent { len: rest.min(same), source })
}

impl Image for Vhd {
    fn storage(&self) -> &dyn ReadAt {
        &self.storage
    }

    fn info(&self) -> &ImageInfo {
        &self.info
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        extent_at(&self.storage, &self.layout, &self.bitmaps, offset, len)
    }

    fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}
