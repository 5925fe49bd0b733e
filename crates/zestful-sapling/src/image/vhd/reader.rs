//! A VHD image, open for reading.

use std::sync::Arc;

use super::SECTOR;
use super::bitmap::{self, Bitmaps};
use super::layout::{Layout, UNUSED};
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
        let used = blocks.table.iter().filter(|entry| **entry != UNUSED).count() as u64;
        let (full, partial) = if blocks.parent.is_some() { (0, used) } else { (used, 0) };
        Some(BlockCounts { total: blocks.table.len() as u64, full, partial, ..BlockCounts::default() })
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
    let (block, within) = (offset / size, offset % size);
    let Some(place) = blocks.place(block) else {
        let end = (offset + len).div_ceil(size);
        let used = blocks.table[(block + 1) as usize..end as usize].iter().position(|entry| *entry != UNUSED);
        let end = used.map_or(end, |skipped| block + 1 + skipped as u64);
        return Ok(Extent { len: len.min(end * size - offset), source: absent });
    };
    let rest = len.min(size - within);
    let first = within / SECTOR;
    let most = (within + rest).div_ceil(SECTOR) - first;
    let (present, run) = bitmaps.with(storage, place, blocks.bitmap_len, |bytes| bitmap::run(bytes, first, most))?;
    let source = if present { Source::Data(place + blocks.bitmap_len + within) } else { absent };
    Ok(Extent { len: rest.min((first + run) * SECTOR - within), source })
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
