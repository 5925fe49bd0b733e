//! A VHDX image, open for writing.
//!
//! Payload is written to its place at once; what makes it visible, the table and the sector bitmaps, changes in memory
//! only. A commit then
//!
//! 1. syncs the file: payload, new length, and the pages of earlier commits in their places;
//! 2. writes all changed pages as one log entry and syncs: from here on they count, and a replay finds them;
//! 3. writes the pages to their places, to be made durable by the next commit's step 1, so that the next entry may
//!    name itself as the tail.
//!
//! A power loss before the end of 2 leaves the image of the commit before, one after it the new one. Space given
//! back by a commit is used again only after it.

use std::sync::Arc;

use uuid::Uuid;

use super::header::{HEADERS, Header};
use super::layout::Layout;
use super::log_writer::{LogWriter, MOST_PAGES_IN_ENTRY};
use super::region::Region;
use super::replay::refuse_unfit;
use super::space::SpaceMap;
use super::table::{Entry, State, Table};
use super::{ALIGNMENT, PAGE, metadata};
use crate::bytes::{Step, in_units, index, split, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, VhdxFinding};
use crate::image::{
    Extent, Image, ImageInfo, ImageMut, Kind, ParentRecord, ParentReference, Source, Syncer, check_range, no_parent,
};
use crate::storage::{Latched, ReadAt, Storage};

/// Pages that one step on one block may change: the bits of a block of 256 MiB, its entry, its bitmap's entry, and
/// the ends of runs that are not aligned to pages.
const MOST_PAGES_IN_STEP: usize = 20;

/// Bytes that the file grows by beyond what is needed: each growth has the host write its metadata again. It is a hole,
/// and closing cuts it off.
const GROWTH: u64 = 64 << 20;

/// A VHDX image, open for writing.
///
/// See [`ImageMut`] for what is guaranteed. Both write identifiers of the header change before the first write of a
/// session, only that of the file before a change that leaves the content alone, and neither in a session that writes
/// nothing.
pub struct VhdxMut {
    storage: Arc<Latched>,
    table: Table,
    info: ImageInfo,
    warnings: Vec<Finding>,
    header: Header,
    slot: usize,
    log_place: Region,
    metadata: Region,
    space: SpaceMap,
    /// Present once this session has written.
    log: Option<LogWriter>,
    /// Whether the identifier of the content is a new one.
    renewed: bool,
    /// Blocks that nothing names any more once the next commit is done.
    released: Vec<(u64, u64)>,
    /// Whether payload was written since the last sync.
    unsynced: bool,
}

impl VhdxMut {
    /// Opens an image for writing. A pending log is replayed into the file first.
    ///
    /// # Errors
    /// As [`super::Vhdx::open`].
    pub fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        let path = storage.path().to_owned();
        Self::open_storage(storage).map_err(|error| error.at(&path))
    }

    fn open_storage(storage: Arc<dyn Storage>) -> Result<Self> {
        let storage = Arc::new(Latched::new(storage));
        let mut warnings = Vec::new();
        let mut layout = Layout::read(storage.clone(), &mut warnings)?;
        refuse_unfit(&layout.header, layout.log)?;
        if let Some(replayed) = layout.pending.clone() {
            // Judged before anything is written: a damaged file stays as it was found.
            layout.judge_small_table(&mut warnings)?;
            let mut header = Header { file_write: Uuid::new_v4(), ..layout.header.clone() };
            let slot = write_header(&*storage, &mut header, layout.slot)?;
            replayed.write_into(&*storage)?;
            header.log = Uuid::nil();
            write_header(&*storage, &mut header, slot)?;
            warnings.clear();
            layout = Layout::read(storage.clone(), &mut warnings)?;
        }
        let claims = layout.judge_small_table(&mut warnings)?;
        let space = SpaceMap::new(claims.as_ref(), layout.bounds.file_len);
        let warnings = warnings.into_iter().map(|finding| finding.at(storage.path())).collect();
        Ok(Self {
            table: layout.table(),
            info: layout.info(),
            warnings,
            header: layout.header.clone(),
            slot: layout.slot,
            log_place: layout.log,
            metadata: layout.metadata,
            space,
            log: None,
            renewed: false,
            released: Vec::new(),
            unsynced: false,
            storage,
        })
    }

    /// Before the first change of content in a session: what [`VhdxMut::begin_file`] does, and a new identifier of the
    /// content.
    fn begin(&mut self) -> Result<()> {
        match self.renewed {
            true => self.begin_file(),
            false => self.put_data_identity(Uuid::new_v4()),
        }
    }

    fn put_data_identity(&mut self, identity: Uuid) -> Result<()> {
        self.header.data_write = identity;
        match self.log {
            Some(_) => self.slot = write_header(&*self.storage, &mut self.header, self.slot)?,
            None => self.begin_file()?,
        }
        self.info.data_identity = Some(identity);
        self.renewed = true;
        Ok(())
    }

    /// Every block that the image holds in part is held whole, zeros where sectors were missing, and no bitmap is left.
    fn complete_blocks(&mut self) -> Result<()> {
        let (blocks, sector) = (self.table.geometry.blocks, self.table.geometry.sector);
        let mut block = 0;
        while block < blocks {
            let entry = self.table.payload(block)?;
            if entry.state() == State::PARTIALLY_PRESENT {
                self.commit_if_many()?;
                let (mut first, sectors) = (0u64, self.table.geometry.sectors());
                while first < sectors {
                    let (present, run) = self.table.bit_run(block, first, sectors.saturating_sub(first))?;
                    if !present {
                        self.unsynced = true;
                        let at = entry.offset().saturating_add(first.saturating_mul(sector));
                        self.storage.punch_hole(at, run.saturating_mul(sector))?;
                    }
                    first = first.saturating_add(run);
                }
                self.table.set_payload(block, Entry::new(State::FULLY_PRESENT, entry.offset()))?;
            }
            block = match entry.state() {
                State::NOT_PRESENT => self.table.same_source_until(block.saturating_add(1), blocks, Source::Parent)?,
                _ => block.saturating_add(1),
            };
        }
        // No entry names a bit any more once this is durable.
        self.commit()?;
        for chunk in 0..self.table.geometry.chunks {
            if let Some(offset) = self.table.bitmap(chunk)? {
                self.commit_if_many()?;
                self.released.push((offset, ALIGNMENT));
                self.table.clear_bitmap(chunk)?;
            }
        }
        self.commit()
    }

    /// Before the first change of any kind in a session: a log under a new id, then a header that names it and
    /// carries a new identifier of the file.
    fn begin_file(&mut self) -> Result<()> {
        if self.log.is_some() {
            return Ok(());
        }
        if self.storage.len()? != self.space.end() {
            self.storage.set_len(self.space.end())?;
            self.table.bounds.file_len = self.space.end();
            self.storage.sync()?;
        }
        let log = LogWriter::begin(&*self.storage, self.log_place, self.space.end())?;
        self.header.log = log.log;
        self.header.file_write = Uuid::new_v4();
        self.slot = write_header(&*self.storage, &mut self.header, self.slot)?;
        self.log = Some(log);
        Ok(())
    }

    /// Space for a block that reads as zero.
    fn allocate(&mut self, len: u64) -> Result<u64> {
        let place = self.space.allocate(len);
        if place.reused {
            self.storage.punch_hole(place.offset, len)?;
        } else if self.space.end() > self.table.bounds.file_len {
            let len = self.space.end().saturating_add(GROWTH);
            self.storage.set_len(len)?;
            self.table.bounds.file_len = len;
        }
        self.unsynced = true;
        Ok(place.offset)
    }

    fn write_in_block(&mut self, block: u64, within: u64, bytes: &[u8]) -> Result<()> {
        let len = wide(bytes.len());
        self.begin()?;
        let entry = self.table.payload(block)?;
        let offset = match entry.state() {
            State::FULLY_PRESENT => entry.offset(),
            State::PARTIALLY_PRESENT => {
                self.mark_present(block, within, len)?;
                entry.offset()
            }
            State::NOT_PRESENT if self.is_part_over_parent(block, within, len) => {
                self.allocate_partial(block, within, len)?
            }
            _ => {
                let offset = self.allocate(self.table.geometry.block_size)?;
                self.table.set_payload(block, Entry::new(State::FULLY_PRESENT, offset))?;
                offset
            }
        };
        self.unsynced = true;
        self.storage.write_at(bytes, offset.saturating_add(within))
    }

    fn zero_in_block(&mut self, block: u64, within: u64, len: u64) -> Result<()> {
        let entry = self.table.payload(block)?;
        let state = entry.state();
        let whole = self.is_whole(block, within, len);
        let at = entry.offset().saturating_add(within);
        let keeps_space = self.info.kind == Kind::Fixed;
        if state == State::ZERO || (state == State::NOT_PRESENT && !self.table.geometry.has_parent) {
            // Zeros already: not even the write identifiers change.
            return Ok(());
        }
        self.begin()?;
        match state {
            _ if whole && !(keeps_space && state.has_place()) => {
                if state.has_place() {
                    self.released.push((entry.offset(), self.table.geometry.block_size));
                }
                self.table.set_payload(block, Entry::new(State::ZERO, 0))
            }
            State::FULLY_PRESENT if keeps_space => {
                self.unsynced = true;
                self.storage.write_zeros(at, len)
            }
            State::FULLY_PRESENT => {
                self.unsynced = true;
                self.storage.punch_hole(at, len)
            }
            State::PARTIALLY_PRESENT => {
                self.mark_present(block, within, len)?;
                self.unsynced = true;
                self.storage.punch_hole(at, len)
            }
            State::NOT_PRESENT => self.allocate_partial(block, within, len).map(|_| ()),
            // Undefined and unmapped blocks read as zero here; said aloud, so that they do everywhere.
            _ => self.table.set_payload(block, Entry::new(State::ZERO, 0)),
        }
    }

    fn is_whole(&self, block: u64, within: u64, len: u64) -> bool {
        within == 0 && len >= self.table.geometry.visible_len(block)
    }

    fn is_part_over_parent(&self, block: u64, within: u64, len: u64) -> bool {
        self.table.geometry.has_parent && !self.is_whole(block, within, len)
    }

    /// A new block of which only this range stands in the file; the range reads as zero.
    fn allocate_partial(&mut self, block: u64, within: u64, len: u64) -> Result<u64> {
        let chunk = self.table.geometry.chunk_of(block);
        if self.table.bitmap(chunk)?.is_none() {
            let offset = self.allocate(ALIGNMENT)?;
            self.table.set_bitmap(chunk, offset)?;
        }
        let offset = self.allocate(self.table.geometry.block_size)?;
        self.table.set_bits(block, 0, self.table.geometry.sectors(), false)?;
        self.mark_present(block, within, len)?;
        self.table.set_payload(block, Entry::new(State::PARTIALLY_PRESENT, offset))?;
        Ok(offset)
    }

    fn mark_present(&mut self, block: u64, within: u64, len: u64) -> Result<()> {
        let sector = self.table.geometry.sector;
        self.table.set_bits(block, split(within, sector).0, split(len, sector).0, true)
    }

    /// Changes bytes of a structure; the next commit carries them.
    fn change_bytes(&mut self, at: u64, mut bytes: &[u8]) -> Result<()> {
        for step in in_units(at, wide(bytes.len()), PAGE) {
            let (part, rest) = bytes.split_at(index(step.len));
            let place = at.saturating_add(step.done);
            self.table.pages.change(place, |page, within| page[within..][..part.len()].copy_from_slice(part))?;
            bytes = rest;
        }
        Ok(())
    }

    /// Commits when the changed pages might not fit one log entry after one more step.
    fn commit_if_many(&mut self) -> Result<()> {
        match self.table.pages.changed() > MOST_PAGES_IN_ENTRY - MOST_PAGES_IN_STEP {
            true => self.commit(),
            false => Ok(()),
        }
    }

    fn commit(&mut self) -> Result<()> {
        let Some(log) = &mut self.log else { return Ok(()) };
        let pages = self.table.pages.changes();
        if !self.unsynced && pages.is_empty() {
            return Ok(());
        }
        self.storage.sync()?;
        self.unsynced = false;
        if pages.is_empty() {
            return Ok(());
        }
        log.append(&*self.storage, &pages, self.space.end())?;
        for (at, page) in &pages {
            self.storage.write_at(&page[..], *at)?;
        }
        self.table.pages.mark_unchanged();
        for (offset, len) in self.released.drain(..) {
            self.storage.punch_hole(offset, len)?;
            self.space.release(offset, len);
        }
        Ok(())
    }

    fn change(&mut self, offset: u64, len: u64, mut act: impl FnMut(&mut Self, Step) -> Result<()>) -> Result<()> {
        check_range(&self.info, self.path(), offset, len)?;
        let mut run = || {
            for step in in_units(offset, len, self.table.geometry.block_size) {
                self.commit_if_many()?;
                act(self, step)?;
            }
            Ok(())
        };
        run().map_err(|error: Error| error.at(self.path()))
    }
}

/// Writes the header over the one that is not current, and syncs: it is current from then on. Returns its place.
fn write_header(storage: &dyn Storage, header: &mut Header, slot: usize) -> Result<usize> {
    let target = usize::from(slot == 0);
    let newer = header.sequence.checked_add(1);
    header.sequence = newer.ok_or_else(|| Finding::new(VhdxFinding::Sequence, HEADERS[slot]))?;
    storage.write_at(&header.encode(), HEADERS[target])?;
    storage.sync()?;
    Ok(target)
}

impl Image for VhdxMut {
    fn storage(&self) -> &dyn ReadAt {
        &*self.storage
    }

    fn info(&self) -> &ImageInfo {
        &self.info
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        self.table.extent_at(offset, len).map_err(|error| error.at(self.path()))
    }

    fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}

impl ImageMut for VhdxMut {
    fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        self.change(offset, wide(bytes.len()), |image, step| {
            image.write_in_block(step.unit, step.within, &bytes[index(step.done)..][..index(step.len)])
        })
    }

    fn zero_at(&mut self, offset: u64, len: u64) -> Result<()> {
        self.change(offset, len, |image, step| image.zero_in_block(step.unit, step.within, step.len))
    }

    fn set_identity(&mut self, identity: Uuid) -> Result<()> {
        let Some(place) = metadata::place_of(&*self.storage, self.metadata, metadata::DISK_ID)? else {
            let finding = Finding::new(VhdxFinding::IdentityPlace, self.metadata.offset);
            return Err(finding.at(self.path()).into());
        };
        self.begin()?;
        self.change_bytes(place, &identity.to_bytes_le())?;
        self.info.identity = Some(identity);
        self.commit()
    }

    fn set_parent(&mut self, parent: &ParentRecord) -> Result<()> {
        if self.info.parent.is_none() {
            return Err(no_parent(self.path()));
        }
        // One commit carries the item and the table entry that says where it is, and nothing else.
        self.commit()?;
        let reference = ParentReference::from(parent);
        let edits = metadata::replace_locator(&*self.storage, self.metadata, &reference)
            .map_err(|error| error.at(self.path()))?;
        self.begin_file()?;
        for (at, bytes) in edits {
            self.change_bytes(at, &bytes)?;
        }
        self.info.parent = Some(reference);
        self.commit()
    }

    fn set_data_identity(&mut self, identity: Uuid) -> Result<()> {
        if self.info.data_identity == Some(identity) {
            self.renewed = true;
            return Ok(());
        }
        self.put_data_identity(identity)
    }

    fn remove_parent(&mut self) -> Result<()> {
        if self.info.parent.is_none() {
            return Err(no_parent(self.path()));
        }
        self.commit()?;
        self.begin_file()?;
        let mut run = || {
            self.complete_blocks()?;
            for (at, bytes) in metadata::remove_locator(&*self.storage, self.metadata)? {
                self.change_bytes(at, &bytes)?;
            }
            self.commit()
        };
        run().map_err(|error: Error| error.at(self.path()))?;
        self.table.geometry = self.table.geometry.without_parent();
        self.info.parent = None;
        self.info.kind = Kind::Dynamic;
        Ok(())
    }

    fn syncer(&self) -> Syncer {
        Syncer::new(&self.storage)
    }

    fn flush(&mut self) -> Result<()> {
        self.commit()
    }

    fn close(mut self: Box<Self>) -> Result<()> {
        self.commit()?;
        if self.log.take().is_some() {
            // What the last growth took too much is named by nothing.
            if self.table.bounds.file_len > self.space.end() {
                self.storage.set_len(self.space.end())?;
            }
            // The last commit's pages reach their places before the log stops naming them.
            self.storage.sync()?;
            self.header.log = Uuid::nil();
            self.slot = write_header(&*self.storage, &mut self.header, self.slot)?;
            // Both headers agree, so that losing one of them loses nothing.
            write_header(&*self.storage, &mut self.header, self.slot)?;
        }
        Ok(())
    }
}
