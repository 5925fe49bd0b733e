//! A volume as the readers of file systems see it: bytes at places, the last ones kept, and an end to patience.

use std::cell::Cell;
use std::rc::Rc;
use std::sync::Arc;

use super::trouble::Trouble;
use crate::bytes::{index, split, wide};
use crate::chain::Disk;
use crate::error::Error;

/// Structures are read in pieces of this size: what stands beside them is often not wanted.
const PAGE: u64 = 4 << 10;
/// Pages that are kept: 4 MiB.
const PAGES: usize = 1024;
/// So much at once is read without keeping it.
const LARGE: u64 = 16 << 10;
/// More than any reader needs between two things that it finds.
const PATIENCE: u64 = 64 << 20;
/// A read costs at least as much of it.
const LEAST_COST: u64 = 64;

/// What the readers of a volume share: how much more may be read before something must come of it.
#[derive(Debug, Default)]
pub(super) struct Patience {
    left: Cell<u64>,
}

impl Patience {
    /// Something came of what was read.
    pub(super) fn renew(&self) {
        self.left.set(PATIENCE);
    }
}

struct Page {
    number: u64,
    bytes: Vec<u8>,
}

/// A part of a disk, which is only read.
pub(super) struct Window {
    disk: Arc<dyn Disk>,
    start: u64,
    len: u64,
    pages: Vec<Option<Page>>,
    patience: Rc<Patience>,
}

impl Window {
    /// `len` bytes of the disk from `start` on, cut at its end.
    pub(super) fn new(disk: Arc<dyn Disk>, start: u64, len: u64) -> Self {
        let len = len.min(disk.virtual_size().saturating_sub(start));
        let patience = Rc::new(Patience::default());
        patience.renew();
        let pages = std::iter::repeat_with(|| None).take(PAGES).collect();
        Self { disk, start, len, pages, patience }
    }

    pub(super) fn len(&self) -> u64 {
        self.len
    }

    pub(super) fn patience(&self) -> Rc<Patience> {
        self.patience.clone()
    }

    /// Fills a buffer, all of which lies in the volume. What is large is read without keeping it.
    pub(super) fn read_at(&mut self, buffer: &mut [u8], at: u64) -> Result<(), Trouble> {
        if at.checked_add(wide(buffer.len())).is_none_or(|end| end > self.len) {
            return Err(Trouble::Damaged(format!("something would lie at byte {at}, past the end of the volume")));
        }
        self.spend(wide(buffer.len()))?;
        if wide(buffer.len()) >= LARGE {
            return Ok(self.disk.read_at(buffer, self.start.saturating_add(at))?);
        }
        let (mut rest, mut at) = (buffer, at);
        while !rest.is_empty() {
            let (number, within) = split(at, PAGE);
            let Ok(page) = self.page(number) else {
                // What is wanted may be whole where what stands beside it is lost.
                return Ok(self.disk.read_at(rest, self.start.saturating_add(at))?);
            };
            let part = &page[index(within)..];
            let len = part.len().min(rest.len());
            let (now, behind) = rest.split_at_mut(len);
            now.copy_from_slice(&part[..len]);
            (rest, at) = (behind, at.saturating_add(wide(len)));
        }
        Ok(())
    }

    /// So many bytes at a place.
    pub(super) fn bytes(&mut self, at: u64, len: u64) -> Result<Vec<u8>, Trouble> {
        let mut bytes = vec![0; index(len)];
        self.read_at(&mut bytes, at)?;
        Ok(bytes)
    }

    fn page(&mut self, number: u64) -> Result<&[u8], Error> {
        let slot = index(split(number, wide(PAGES)).1);
        let kept = &mut self.pages[slot];
        if kept.as_ref().is_none_or(|page| page.number != number) {
            let at = number.saturating_mul(PAGE);
            let mut bytes = kept.take().map(|page| page.bytes).unwrap_or_default();
            bytes.resize(index(PAGE.min(self.len.saturating_sub(at))), 0);
            self.disk.read_at(&mut bytes, self.start.saturating_add(at))?;
            *kept = Some(Page { number, bytes });
        }
        Ok(kept.as_ref().map_or(&[], |page| &page.bytes))
    }

    fn spend(&self, len: u64) -> Result<(), Trouble> {
        let left = self.patience.left.get().checked_sub(len.max(LEAST_COST));
        self.patience.left.set(left.unwrap_or(0));
        left.map(|_| ()).ok_or_else(|| Trouble::Damaged("reading it comes to no end".to_owned()))
    }
}
