//! How changes of a VHD image become durable.
//!
//! The format has no log, so the order of writes keeps the image valid. A new block is invisible until the table names
//! it, and a sector of a differencing image until its bit is set; both change in memory only, after the payload is in
//! its place. Writes into sectors that are there already need no turn; whatever changes the table or a bitmap takes
//! one. A commit
//!
//! 1. takes what changed, in a turn, so that no change is half-made;
//! 2. writes the bitmaps of new blocks, and syncs: data and bitmaps are in place, nothing names them yet;
//! 3. writes changed bitmaps of blocks that were there before and the changed sectors of the table, and syncs.
//!
//! Each write of step 3 is one sector, which a disk writes whole or not at all, and each makes visible only what step 2
//! made durable; whichever of them a power loss keeps, the image is valid and holds the commit before. Blocks of
//! dynamic images carry a full bitmap from the start, so that theirs never changes. Space given back is used again
//! only after the commit, when nobody who saw the old table is at work any more.
//!
//! The file always ends with a footer: to grow, a new one is written at the new end and synced before anything is
//! written over the old one. It grows by several blocks at a time; closing gives the rest back.
//!
//! What fails for want of space is taken back and may be tried again; only a failed sync is final. The order of locks
//! is: turn, layout, bitmaps.

use std::collections::BTreeSet;
use std::sync::atomic::Ordering;

use uuid::Uuid;

use super::SECTOR;
use super::blocks::ENTRIES_PER_SECTOR;
use super::footer::Footer;
use super::layout::Layout;
use super::state::{Turn, VhdMut};
use crate::bytes::{index, wide};
use crate::error::Result;
use crate::image::Image;
use crate::image::parts::Taken;
use crate::storage::Storage;

/// What a commit took.
struct Batch {
    bitmaps: Vec<Taken>,
    new_places: BTreeSet<u64>,
    changed_table: BTreeSet<u64>,
    /// Those sectors, as they were then, by their place in the file.
    table: Vec<(u64, Vec<u8>)>,
    released: Vec<u64>,
}

impl VhdMut {
    /// Before the first write of a session: a new identity.
    pub(super) fn begin(&self) -> Result<()> {
        if self.begun.load(Ordering::Acquire) {
            return Ok(());
        }
        let mut turn = self.turn();
        if !self.begun.load(Ordering::Acquire) {
            self.put_identity(&mut turn, Uuid::new_v4())?;
            self.begun.store(true, Ordering::Release);
        }
        Ok(())
    }

    /// A new identity.
    pub(super) fn put_identity(&self, turn: &mut Turn, id: Uuid) -> Result<()> {
        let footer = self.layout().footer.clone().with_unique_id(id);
        self.switch_footer(turn, footer)?;
        self.info.renew(id);
        Ok(())
    }

    /// Another footer at the end, which rules, then as the copy: each is one sector, so that a crash leaves the old
    /// state or the new one.
    pub(super) fn switch_footer(&self, turn: &mut Turn, footer: Footer) -> Result<()> {
        self.storage.write_at(footer.bytes(), turn.space.footer_at)?;
        self.storage.sync()?;
        if self.shape().is_some() {
            self.storage.write_at(footer.bytes(), 0)?;
            self.storage.sync()?;
        }
        self.layout_mut().footer = footer;
        turn.amended = true;
        Ok(())
    }

    /// A new dynamic header, and what follows it, behind everything; the footer switches to it.
    pub(super) fn put_header(
        &self,
        turn: &mut Turn,
        at: u64,
        bytes: &[u8],
        switch: impl FnOnce(Footer) -> Footer,
    ) -> Result<()> {
        let end = at.saturating_add(wide(bytes.len()));
        let footer = self.layout().footer.clone();
        if end > turn.space.footer_at {
            turn.space.grow(&self.storage, &footer, end)?;
        }
        self.storage.write_at(bytes, at)?;
        self.storage.sync()?;
        self.switch_footer(turn, switch(footer.with_data_offset(at)))?;
        *self.layout_mut() = Layout::read(&*self.storage, &mut Vec::new()).map_err(|error| error.at(self.path()))?;
        turn.space.next = end;
        Ok(())
    }

    pub(super) fn commit(&self) -> Result<()> {
        self.commits.share(|| self.commit_alone())
    }

    fn commit_alone(&self) -> Result<()> {
        let batch = self.take_batch();
        let unsynced = self.unsynced.swap(false, Ordering::AcqRel);
        if !unsynced && batch.bitmaps.is_empty() && batch.table.is_empty() {
            return Ok(());
        }
        if let Err(error) = self.write_batch(&batch) {
            self.unsynced.store(true, Ordering::Release);
            self.bitmaps.parts.take_back(&batch.bitmaps);
            let mut turn = self.turn();
            turn.new_places.extend(batch.new_places);
            turn.changed_table.extend(batch.changed_table);
            turn.released.extend(batch.released);
            return Err(error);
        }
        self.bitmaps.parts.settle(&batch.bitmaps);
        let generation = self.visitors.turn_over();
        let mut turn = self.turn();
        turn.retired.extend(batch.released.into_iter().map(|place| (generation, place)));
        if let Some(shape) = self.shape() {
            self.reclaim(&mut turn, shape);
        }
        Ok(())
    }

    fn take_batch(&self) -> Batch {
        let mut turn = self.turn();
        let changed_table = std::mem::take(&mut turn.changed_table);
        let layout = self.layout();
        let sector = |number: &u64| {
            let blocks = layout.blocks.as_ref()?;
            let first = index(number.saturating_mul(ENTRIES_PER_SECTOR));
            let entries = blocks.table.iter().skip(first).take(index(ENTRIES_PER_SECTOR));
            let at = blocks.table_offset.saturating_add(number.saturating_mul(SECTOR));
            Some((at, entries.flat_map(|entry| entry.to_be_bytes()).collect()))
        };
        Batch {
            bitmaps: self.bitmaps.parts.take(),
            table: changed_table.iter().filter_map(sector).collect(),
            new_places: std::mem::take(&mut turn.new_places),
            changed_table,
            released: std::mem::take(&mut turn.released),
        }
    }

    fn write_batch(&self, batch: &Batch) -> Result<()> {
        let is_new = |(place, _): &&Taken| batch.new_places.contains(place);
        let (new, old): (Vec<_>, Vec<_>) = batch.bitmaps.iter().partition(is_new);
        for (place, bytes) in new {
            self.storage.write_at(bytes, *place)?;
        }
        self.storage.sync()?;
        if old.is_empty() && batch.table.is_empty() {
            return Ok(());
        }
        for (place, bytes) in old {
            self.storage.write_at(bytes, *place)?;
        }
        for (place, bytes) in &batch.table {
            self.storage.write_at(bytes, *place)?;
        }
        self.storage.sync()
    }
}
