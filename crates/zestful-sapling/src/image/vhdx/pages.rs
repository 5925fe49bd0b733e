//! Pages of the table and of sector bitmaps, in a cache of bounded size.
//!
//! Changed pages stay until the log has taken them and they are in their places; the writer commits before there are
//! many.

use std::sync::Arc;

use super::PAGE;
use crate::bytes::index;
use crate::error::Result;
use crate::image::data_in;
use crate::image::parts::Parts;
use crate::storage::ReadAt;

/// 1 MiB of pages, in each layer of a chain; a page of the table speaks of at least 512 MiB of disk.
const MOST_BYTES: usize = 1 << 20;

pub(super) struct Pages {
    view: Arc<dyn ReadAt>,
    pub(super) parts: Parts,
}

impl Pages {
    pub(super) fn new(view: Arc<dyn ReadAt>) -> Self {
        Self { view, parts: Parts::new(MOST_BYTES) }
    }

    /// Calls `look` with the page that holds the byte at `at`, and the byte's place in it.
    pub(super) fn with<R>(&self, at: u64, look: impl FnOnce(&[u8], usize) -> R) -> Result<R> {
        let within = at % PAGE;
        self.parts.with(&*self.view, at.saturating_sub(within), PAGE, |page| look(page, index(within)))
    }

    /// As [`Pages::with`], for a change that the next commit must carry.
    pub(super) fn change(&self, at: u64, act: impl FnOnce(&mut [u8], usize)) -> Result<()> {
        let within = at % PAGE;
        self.parts.change(&*self.view, at.saturating_sub(within), PAGE, |page| act(page, index(within)))
    }

    /// How many bytes from `at` on certainly are zeros that no one changed, without reading them.
    pub(super) fn hole_at(&self, at: u64) -> Result<u64> {
        let page = at.saturating_sub(at % PAGE);
        if self.parts.is_kept(page) {
            return Ok(0);
        }
        // Asked before the file is: a page that is written to its place meanwhile is not taken for a hole.
        let nearest = self.parts.first_held(page).map_or(u64::MAX, |held| held.saturating_sub(at));
        let hole = data_in(&*self.view, at, u64::MAX)?.start.saturating_sub(at);
        Ok(hole.min(nearest))
    }
}
