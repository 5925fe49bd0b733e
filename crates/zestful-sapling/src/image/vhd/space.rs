//! Where new blocks go. The file always ends with a footer.

use std::collections::BTreeMap;

use super::SECTOR;
use super::footer::Footer;
use super::layout::{Blocks, Layout, UNUSED};
use super::shape::BlockShape;
use crate::error::{Error, Refusal, Result};
use crate::image::reads_zero;
use crate::storage::{Latched, ReadAt, Storage};

/// Bytes that the file grows by at a time, at least.
const GROWTH: u64 = 64 << 20;
/// After so many places that hold something no more are tried: a file may hold terabytes of them.
const MOST_FOREIGN: usize = 64;

/// What is free, between the blocks and behind them.
pub(super) struct Space {
    /// Where the footer at the end stands.
    pub(super) footer_at: u64,
    /// Where the next new block may go.
    pub(super) next: u64,
    /// From here up to the footer the file certainly holds zeros.
    clean_from: u64,
    /// What lies between the blocks: where it begins, and where it ends.
    free: BTreeMap<u64, u64>,
    /// Places between the blocks that were not free after all.
    foreign: usize,
}

impl Space {
    pub(super) fn new(layout: &Layout, footer_at: u64) -> Self {
        let gaps = layout.blocks.as_ref().map_or_else(Vec::new, Blocks::gaps);
        let free = gaps.into_iter().map(|gap| (gap.start, gap.end)).collect();
        let next = layout.blocks.as_ref().map_or(0, Blocks::used_end);
        Self { footer_at, next, clean_from: footer_at, free, foreign: 0 }
    }

    /// A place for a block; its data reads as zero.
    pub(super) fn allocate(&mut self, storage: &Latched, shape: BlockShape, footer: &Footer) -> Result<u64> {
        let stride = shape.stride();
        if let Some(place) = self.allocate_below(storage, shape, u64::MAX)? {
            return Ok(place);
        }
        let place = shape.aligned(self.next);
        let end = place.saturating_add(stride);
        if end > self.footer_at {
            self.grow(storage, footer, place.saturating_add(stride.max(GROWTH)))?;
        }
        if place < self.clean_from {
            storage.punch_hole(place, end.min(self.clean_from).saturating_sub(place))?;
        }
        self.next = end;
        Ok(place)
    }

    /// The first place between the blocks that ends at or before `below`; all of it reads as zero.
    pub(super) fn allocate_below(&mut self, storage: &Latched, shape: BlockShape, below: u64) -> Result<Option<u64>> {
        let stride = shape.stride();
        while let Some(gap) = self.free.first_entry().filter(|gap| *gap.key() < below) {
            let (start, end) = gap.remove_entry();
            // One that is too small for a block stays so.
            let Some(place) = shape.place_in(&(start..end)) else { continue };
            let stop = place.saturating_add(stride);
            if stop > below {
                self.free.insert(start, end);
                return Ok(None);
            }
            if stop < end {
                self.free.insert(stop, end);
            }
            // Some programs keep things of their own between the blocks, which nothing points at.
            if reads_zero(storage, place, stride)? {
                return Ok(Some(place));
            }
            self.foreign = self.foreign.saturating_add(1);
            if self.foreign == MOST_FOREIGN {
                self.free.clear();
            }
        }
        Ok(None)
    }

    /// A place that was given back.
    pub(super) fn take(&mut self, place: u64, shape: BlockShape) -> bool {
        let stop = place.saturating_add(shape.stride());
        let found = self.free.range(..=place).next_back().map(|(start, end)| (*start, *end));
        let Some((start, end)) = found.filter(|(_, end)| *end >= stop) else { return false };
        self.free.remove(&start);
        self.free.extend([(start, place), (stop, end)].into_iter().filter(|(start, end)| start < end));
        true
    }

    /// A place that reads as zero is free again.
    pub(super) fn release(&mut self, place: u64, shape: BlockShape) {
        self.free.insert(place, place.saturating_add(shape.stride()));
    }

    /// Moves the footer to `end`: the new one is durable before the old one is written over.
    pub(super) fn grow(&mut self, storage: &Latched, footer: &Footer, end: u64) -> Result<()> {
        if end / SECTOR >= u64::from(UNUSED) {
            return Err(Error::refused(
                Refusal::NoSpace { path: storage.path().to_owned(), needed: end, free: 0 },
                format!("{} has reached 2 TiB, the format's largest file", storage.path().display()),
                "copy the disk into a vhdx image",
            ));
        }
        if let Err(error) = storage.write_at(footer.bytes(), end) {
            // The file must end with the footer that it has.
            storage.all_or_nothing(|| storage.set_len(self.footer_at.saturating_add(SECTOR)))?;
            return Err(error);
        }
        storage.sync()?;
        let old = std::mem::replace(&mut self.footer_at, end);
        if storage.write_zeros(old, SECTOR).is_err() {
            self.clean_from = self.clean_from.max(old.saturating_add(SECTOR));
        }
        Ok(())
    }

    /// Gives back what was taken ahead: first a footer is written behind the last block, then the file is cut.
    pub(super) fn give_back(&mut self, storage: &Latched, footer: &Footer, end: u64) -> Result<()> {
        if end >= self.footer_at || self.next > self.footer_at {
            return Ok(());
        }
        storage.write_at(footer.bytes(), end)?;
        storage.sync()?;
        storage.set_len(end.saturating_add(SECTOR))?;
        (self.footer_at, self.next) = (end, end);
        self.clean_from = self.clean_from.min(end);
        self.free.retain(|start, _| *start < end);
        storage.sync()
    }
}
