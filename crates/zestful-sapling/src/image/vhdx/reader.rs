//! A VHDX image, open for reading.

use std::sync::Arc;

use super::layout::Layout;
use super::table::{State, Table};
use crate::error::{Error, Result};
use crate::finding::{Finding, TableEntry};
use crate::image::{BlockCounts, Extent, Image, ImageInfo, Placement};
use crate::progress::Progress;
use crate::storage::ReadAt;

/// A VHDX image, open for reading. A pending log is replayed in memory; nothing is ever written.
pub struct Vhdx {
    layout: Layout,
    table: Table,
    info: ImageInfo,
    warnings: Vec<Finding>,
}

impl Vhdx {
    /// Opens an image and judges everything that reading relies on. Of a table over 1 MiB each page is judged when it
    /// is first read.
    ///
    /// # Errors
    /// `Damaged` or `Unsupported` with the first finding that forbids opening; `Io`.
    pub fn open(storage: Arc<dyn ReadAt>) -> Result<Self> {
        let path = storage.path().to_owned();
        let open = || {
            let mut warnings = Vec::new();
            let layout = Layout::read(storage, &mut warnings)?;
            layout.judge_small_table(&mut warnings)?;
            Ok((layout, warnings))
        };
        let (layout, warnings) = open().map_err(|error: Error| error.at(&path))?;
        let warnings = warnings.into_iter().map(|finding| finding.at(&path)).collect();
        let (table, info) = (layout.table(), layout.info());
        Ok(Self { layout, table, info, warnings })
    }

    /// Counts the blocks by state, or `None` when the used part of the table is larger than `most` bytes.
    ///
    /// # Errors
    /// `Io`.
    pub fn block_counts(&self, most: u64) -> Result<Option<BlockCounts>> {
        if !self.layout.table_uses_at_most(most)? {
            return Ok(None);
        }
        let mut counts = BlockCounts { total: self.layout.geometry.blocks, ..BlockCounts::default() };
        self.layout.for_each_entry(&Progress::new(), |index, entry| {
            if index < self.layout.geometry.entries
                && matches!(self.layout.geometry.role(index), TableEntry::Payload(_))
            {
                let count = match entry.state() {
                    State::FULLY_PRESENT => &mut counts.full,
                    State::PARTIALLY_PRESENT => &mut counts.partial,
                    State::ZERO => &mut counts.zero,
                    State::UNDEFINED | State::UNMAPPED => &mut counts.unmapped,
                    _ => return Ok(()),
                };
                *count = count.saturating_add(1);
            }
            Ok(())
        })?;
        Ok(Some(counts))
    }
}

impl Image for Vhdx {
    fn storage(&self) -> &dyn ReadAt {
        &self.layout.view
    }

    fn info(&self) -> &ImageInfo {
        &self.info
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        self.table.extent_at(offset, len).map_err(|error| error.at(self.path()))
    }

    fn placement(&self, most: u64, pack: bool) -> Result<Option<Placement>> {
        self.layout.placement(most, pack).map_err(|error| error.at(self.path()))
    }

    fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}
