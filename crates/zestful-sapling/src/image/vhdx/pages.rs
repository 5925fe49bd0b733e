//! Pages of the table and of sector bitmaps, in a cache of bounded size.
//!
//! Changed pages stay until the log has taken them; the writer commits before there are many.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::PAGE;
use crate::bytes::index;
use crate::error::Result;
use crate::image::data_in;
use crate::storage::ReadAt;

/// 1 MiB of pages, in each layer of a chain; a page of the table speaks of at least 512 MiB of disk.
const MOST_PAGES: usize = 256;

pub(super) type PageBytes = Box<[u8; index(PAGE)]>;

pub(super) struct Pages {
    view: Arc<dyn ReadAt>,
    cache: Mutex<Cache>,
}

#[derive(Default)]
struct Cache {
    pages: HashMap<u64, Page>,
    /// The unchanged pages, oldest first.
    order: VecDeque<u64>,
    changed: usize,
}

struct Page {
    bytes: PageBytes,
    changed: bool,
}

impl Pages {
    pub(super) fn new(view: Arc<dyn ReadAt>) -> Self {
        Self { view, cache: Mutex::default() }
    }

    fn lock(&self) -> MutexGuard<'_, Cache> {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Calls `look` with the page that holds the byte at `at`, and the byte's place in it.
    pub(super) fn with<R>(&self, at: u64, look: impl FnOnce(&[u8; index(PAGE)], usize) -> R) -> Result<R> {
        let mut cache = self.lock();
        let page = cache.load(&*self.view, at / PAGE)?;
        Ok(look(&page.bytes, index(at % PAGE)))
    }

    /// As [`Pages::with`], for a change that the next commit must carry.
    pub(super) fn change(&mut self, at: u64, act: impl FnOnce(&mut [u8; index(PAGE)], usize)) -> Result<()> {
        let mut cache = self.lock();
        let page = cache.load(&*self.view, at / PAGE)?;
        act(&mut page.bytes, index(at % PAGE));
        if !std::mem::replace(&mut page.changed, true) {
            cache.changed = cache.changed.saturating_add(1);
            cache.order.retain(|kept| *kept != at / PAGE);
        }
        Ok(())
    }

    /// How many bytes from `at` on certainly are zeros that no one changed, without reading them.
    pub(super) fn hole_at(&self, at: u64) -> Result<u64> {
        let cache = self.lock();
        if cache.pages.contains_key(&(at / PAGE)) {
            return Ok(0);
        }
        let hole = data_in(&*self.view, at, u64::MAX)?.start.saturating_sub(at);
        let changed = cache.pages.iter().filter(|(_, page)| page.changed);
        let nearest = changed.filter_map(|(number, _)| number.saturating_mul(PAGE).checked_sub(at)).min();
        Ok(hole.min(nearest.unwrap_or(u64::MAX)))
    }

    /// How many pages the next commit must carry.
    pub(super) fn changed(&self) -> usize {
        self.lock().changed
    }

    /// The changed pages by their place in the file.
    pub(super) fn changes(&self) -> Vec<(u64, PageBytes)> {
        let cache = self.lock();
        let changed = cache.pages.iter().filter(|(_, page)| page.changed);
        let mut pages: Vec<_> =
            changed.map(|(number, page)| (number.saturating_mul(PAGE), page.bytes.clone())).collect();
        pages.sort_unstable_by_key(|(at, _)| *at);
        pages
    }

    /// The changes have reached their places.
    pub(super) fn mark_unchanged(&mut self) {
        let mut cache = self.lock();
        let Cache { pages, order, changed } = &mut *cache;
        for (number, page) in pages.iter_mut().filter(|(_, page)| page.changed) {
            page.changed = false;
            order.push_back(*number);
        }
        *changed = 0;
    }
}

impl Cache {
    fn load(&mut self, view: &dyn ReadAt, number: u64) -> Result<&mut Page> {
        while self.pages.len() >= MOST_PAGES && !self.pages.contains_key(&number) {
            let Some(oldest) = self.order.pop_front() else { break };
            self.pages.remove(&oldest);
        }
        match self.pages.entry(number) {
            Entry::Occupied(page) => Ok(page.into_mut()),
            Entry::Vacant(place) => {
                let mut bytes: PageBytes = Box::new([0; index(PAGE)]);
                view.read_at(&mut bytes[..], number.saturating_mul(PAGE))?;
                self.order.push_back(number);
                Ok(place.insert(Page { bytes, changed: false }))
            }
        }
    }
}
