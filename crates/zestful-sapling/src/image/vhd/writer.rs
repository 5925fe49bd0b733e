//! A VHD image, open for writing.
//!
//! The format has no log, so the order of writes keeps the image valid. A new block is invisible until the table names
//! it, and a sector of a differencing image until its bit is set. A commit therefore
//!
//! 1. writes the bitmaps of new blocks, and syncs: data and bitmaps are in place, nothing names them yet;
//! 2. writes changed bitmaps of blocks that were there before and the changed sectors of the table, and syncs.
//!
//! Each write of step 2 is one sector, which a disk writes whole or not at all, and each makes visible only what step 1
//! made durable; whichever of them a power loss keeps, the image is valid and holds the commit before. Blocks of
//! dynamic images carry a full bitmap from the start, so that theirs never changes.
//!
//! The file always ends with a footer: to grow, a new one is written at the new end and synced before anything is
//! written over the old one. It grows by several blocks at a time; closing gives the rest back.

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;

use uuid::Uuid;

use super::bitmap::{self, Bitmaps};
use super::footer::{DiskType, Footer, FooterPlace};
use super::layout::{Blocks, Layout, UNUSED};
use super::reader::extent_at;
use super::{SECTOR, header, locator};
use crate::bytes::{Step, fit_u32, in_units, index, wide};
use crate::error::{Error, Refusal, Result};
use crate::finding::{Finding, FindingKind, VhdFinding};
use crate::image::{Extent, Image, ImageInfo, ImageMut, ParentRecord, Syncer, check_range, no_parent, reads_zero};
use crate::storage::{Latched, ReadAt, Storage};

/// Bytes that the file grows by at a time, at least.
const GROWTH: u64 = 64 << 20;
/// After so many places that hold something no more are tried: a file may hold terabytes of them.
const MOST_FOREIGN: usize = 64;
/// Bytes of changed bitmaps that are held back at most.
const MOST_CHANGED: usize = 1 << 20;

/// A VHD image, open for writing.
///
/// See [`ImageMut`] for what is guaranteed. The identity, which children record, changes before the first write of a
/// session, so that a child that nobody knew of fails to open and never reads wrong data.
pub struct VhdMut {
    storage: Arc<Latched>,
    layout: Layout,
    bitmaps: Bitmaps,
    info: ImageInfo,
    warnings: Vec<Finding>,
    /// Where the footer at the end stands.
    footer_at: u64,
    /// Where the next new block may go.
    next: u64,
    /// From here up to the footer the file certainly holds zeros.
    clean_from: u64,
    /// What lies between the blocks, the first last.
    free: Vec<Range<u64>>,
    /// Places between the blocks that were not free after all.
    foreign: usize,
    /// The same, once the next commit is done.
    released: Vec<u64>,
    /// Places of blocks that no commit has named yet.
    new_places: BTreeSet<u64>,
    /// Sectors of the table that changed, by number.
    changed_table: BTreeSet<u64>,
    unsynced: bool,
    /// Whether the identity is a new one.
    begun: bool,
    /// Whether this session has written anything.
    amended: bool,
}

impl VhdMut {
    /// Opens an image for writing.
    ///
    /// # Errors
    /// As [`super::Vhd::open`]; `Refused` when the footer at the end is lost: such an image is only read.
    pub fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        let path = storage.path().to_owned();
        let storage = Arc::new(Latched::new(storage));
        let mut warnings = Vec::new();
        let layout = Layout::read(&*storage, &mut warnings).map_err(|error| error.at(&path))?;
        let FooterPlace::End(footer_at) = layout.footer_place else {
            return Err(Error::refused(
                Refusal::ReadOnly { path: path.to_owned(), marked: false },
                format!("the footer at the end of {} is lost, so it is only read", path.display()),
                "copy it into a new image, which is whole again",
            ));
        };
        if let Some(finding) =
            warnings.iter().find(|finding| matches!(finding.kind, FindingKind::Vhd(VhdFinding::TablePlace { .. })))
        {
            return Err(Error::refused(
                Refusal::ReadOnly { path: path.to_owned(), marked: false },
                format!("{} cannot be changed so that a crash does no harm: {}", path.display(), finding.message()),
                "copy it into a new image",
            ));
        }
        let next = layout.blocks.as_ref().map_or(0, Blocks::used_end);
        let mut free = layout.blocks.as_ref().map_or_else(Vec::new, Blocks::gaps);
        free.reverse();
        Ok(Self {
            info: layout.info(),
            layout,
            bitmaps: Bitmaps::default(),
            warnings: warnings.into_iter().map(|finding| finding.at(&path)).collect(),
            footer_at,
            next,
            clean_from: footer_at,
            free,
            foreign: 0,
            released: Vec::new(),
            new_places: BTreeSet::new(),
            changed_table: BTreeSet::new(),
            unsynced: false,
            begun: false,
            amended: false,
            storage,
        })
    }

    /// Before the first write of a session: a new identity.
    fn begin(&mut self) -> Result<()> {
        if self.begun {
            return Ok(());
        }
        self.put_identity(Uuid::new_v4())?;
        self.begun = true;
        Ok(())
    }

    /// A new identity.
    fn put_identity(&mut self, id: Uuid) -> Result<()> {
        self.switch_footer(self.layout.footer.clone().with_unique_id(id))?;
        self.info.data_identity = Some(id);
        Ok(())
    }

    /// Another footer at the end, which rules, then as the copy: each is one sector, so that a crash leaves the old
    /// state or the new one.
    fn switch_footer(&mut self, footer: Footer) -> Result<()> {
        self.storage.write_at(footer.bytes(), self.footer_at)?;
        self.storage.sync()?;
        if self.layout.blocks.is_some() {
            self.storage.write_at(footer.bytes(), 0)?;
            self.storage.sync()?;
        }
        self.layout.footer = footer;
        self.amended = true;
        Ok(())
    }

    /// A place for a block; its data reads as zero.
    fn allocate(&mut self) -> Result<u64> {
        let Some(blocks) = &self.layout.blocks else { return Ok(0) };
        let stride = blocks.stride();
        self.unsynced = true;
        while let Some(gap) = self.free.pop() {
            let Some(place) = blocks.place_in(&gap) else { continue };
            self.free.push(place.saturating_add(stride)..gap.end);
            // Some programs keep things of their own between the blocks, which nothing points at.
            if reads_zero(&*self.storage, place, stride)? {
                self.new_places.insert(place);
                return Ok(place);
            }
            self.foreign = self.foreign.saturating_add(1);
            if self.foreign == MOST_FOREIGN {
                self.free.clear();
            }
        }
        let place = blocks.aligned(self.next);
        let end = place.saturating_add(stride);
        if end > self.footer_at {
            self.grow(place.saturating_add(stride.max(GROWTH)))?;
        }
        if place < self.clean_from {
            self.storage.punch_hole(place, end.min(self.clean_from).saturating_sub(place))?;
        }
        self.next = end;
        self.new_places.insert(place);
        Ok(place)
    }

    /// Moves the footer to `end`.
    fn grow(&mut self, end: u64) -> Result<()> {
        if end / SECTOR >= u64::from(UNUSED) {
            return Err(Error::refused(
                Refusal::NoSpace { path: self.path().to_owned(), needed: end, free: 0 },
                format!("{} has reached 2 TiB, the format's largest file", self.path().display()),
                "copy the disk into a vhdx image",
            ));
        }
        self.put_footer(end)?;
        let old = std::mem::replace(&mut self.footer_at, end);
        self.storage.write_zeros(old, SECTOR)
    }

    fn put_footer(&mut self, at: u64) -> Result<()> {
        self.storage.write_at(self.layout.footer.bytes(), at)?;
        self.storage.sync()
    }

    fn write_in_block(&mut self, block: u64, within: u64, bytes: &[u8]) -> Result<()> {
        let data = self.block_for(block, within, wide(bytes.len()))?;
        self.unsynced = true;
        self.storage.write_at(bytes, data.saturating_add(within))
    }

    /// Where the data of a block stands, allocated if need be, the bits of the range set.
    fn block_for(&mut self, block: u64, within: u64, len: u64) -> Result<u64> {
        let Some(blocks) = &self.layout.blocks else { return Ok(0) };
        let (bitmap_len, block_size, differencing) = (blocks.bitmap_len, blocks.block_size, blocks.parent.is_some());
        let place = match blocks.place(block) {
            Some(place) => place,
            None => {
                let place = self.allocate()?;
                let mut bytes = vec![0; index(bitmap_len)];
                if !differencing {
                    bitmap::fill(&mut bytes, 0, block_size / SECTOR);
                }
                self.bitmaps.put(place, bytes);
                self.set_entry(block, fit_u32(place / SECTOR));
                place
            }
        };
        let storage = self.storage.clone();
        if differencing {
            self.bitmaps.set(&*storage, place, bitmap_len, within / SECTOR, len / SECTOR)?;
        } else {
            self.complete_bitmap(place, bitmap_len, block_size)?;
        }
        Ok(place.saturating_add(bitmap_len))
    }

    /// A new dynamic header, and what follows it, behind everything; the footer switches to it.
    fn put_header(&mut self, at: u64, bytes: &[u8], kind: DiskType) -> Result<()> {
        let end = at.saturating_add(wide(bytes.len()));
        if end > self.footer_at {
            self.grow(end)?;
        }
        self.storage.write_at(bytes, at)?;
        self.storage.sync()?;
        self.switch_footer(self.layout.footer.clone().with_data_offset(at).with_kind(kind))?;
        self.layout = Layout::read(&*self.storage, &mut Vec::new()).map_err(|error| error.at(self.path()))?;
        self.info = self.layout.info();
        self.next = end;
        Ok(())
    }

    /// Zeros in the file for the sectors of a block whose bits are clear; returns whether there were any.
    fn clear_missing(&mut self, place: u64, bitmap_len: u64, sectors: u64) -> Result<bool> {
        let (mut first, mut cleared) = (0u64, false);
        while first < sectors {
            let look = |bytes: &[u8]| bitmap::run(bytes, first, sectors.saturating_sub(first));
            let (present, run) = self.bitmaps.with(&*self.storage, place, bitmap_len, look)?;
            if !present {
                let at = place.saturating_add(bitmap_len).saturating_add(first.saturating_mul(SECTOR));
                self.storage.punch_hole(at, run.saturating_mul(SECTOR))?;
                cleared = true;
            }
            first = first.saturating_add(run);
        }
        Ok(cleared)
    }

    /// Other programs leave the bits of a dynamic image's unwritten sectors clear. All are set before the first write
    /// to such a block, after making sure that those sectors are zero on the disk.
    fn complete_bitmap(&mut self, place: u64, bitmap_len: u64, block_size: u64) -> Result<()> {
        let (storage, sectors) = (self.storage.clone(), block_size / SECTOR);
        if self.clear_missing(place, bitmap_len, sectors)? {
            storage.sync()?;
            self.bitmaps.set(&*storage, place, bitmap_len, 0, sectors)?;
            let bytes = self.bitmaps.with(&*storage, place, bitmap_len, <[u8]>::to_vec)?;
            storage.write_at(&bytes, place)?;
            storage.sync()?;
        }
        Ok(())
    }

    fn zero_in_block(&mut self, block: u64, within: u64, len: u64) -> Result<()> {
        let Some(blocks) = &self.layout.blocks else {
            self.begin()?;
            self.unsynced = true;
            let at = block.saturating_mul(FIXED_STEP).saturating_add(within);
            return self.storage.write_zeros(at, len);
        };
        let whole = within == 0 && len >= blocks.visible_len(block);
        match (blocks.place(block), blocks.parent.is_some()) {
            // Zeros already: not even the identity changes.
            (None, false) => Ok(()),
            (Some(place), false) if whole => {
                self.begin()?;
                self.released.push(place);
                self.set_entry(block, UNUSED);
                Ok(())
            }
            _ => {
                self.begin()?;
                let data = self.block_for(block, within, len)?;
                self.unsynced = true;
                self.storage.punch_hole(data.saturating_add(within), len)
            }
        }
    }

    fn set_entry(&mut self, block: u64, entry: u32) {
        if let Some(slot) = self.layout.blocks.as_mut().and_then(|blocks| blocks.table.get_mut(index(block))) {
            *slot = entry;
            self.changed_table.insert(block / ENTRIES_PER_SECTOR);
        }
    }

    fn commit(&mut self) -> Result<()> {
        let changes = self.bitmaps.changes();
        if !self.unsynced && changes.is_empty() && self.changed_table.is_empty() {
            return Ok(());
        }
        let (new, old): (Vec<_>, Vec<_>) = changes.iter().partition(|(place, _)| self.new_places.contains(place));
        for (place, bytes) in new {
            self.storage.write_at(bytes, *place)?;
        }
        self.storage.sync()?;
        if !old.is_empty() || !self.changed_table.is_empty() {
            for (place, bytes) in old {
                self.storage.write_at(bytes, *place)?;
            }
            self.write_table()?;
            self.storage.sync()?;
        }
        self.unsynced = false;
        self.bitmaps.mark_unchanged();
        self.new_places.clear();
        self.changed_table.clear();
        for place in std::mem::take(&mut self.released) {
            let stride = self.layout.blocks.as_ref().map_or(0, Blocks::stride);
            self.bitmaps.forget(place);
            self.storage.punch_hole(place, stride)?;
            self.free.push(place..place.saturating_add(stride));
        }
        Ok(())
    }

    fn write_table(&self) -> Result<()> {
        let Some(blocks) = &self.layout.blocks else { return Ok(()) };
        for sector in &self.changed_table {
            let first = index(sector.saturating_mul(ENTRIES_PER_SECTOR));
            let entries = blocks.table.iter().skip(first).take(index(ENTRIES_PER_SECTOR));
            let bytes: Vec<u8> = entries.flat_map(|entry| entry.to_be_bytes()).collect();
            self.storage.write_at(&bytes, blocks.table_offset.saturating_add(sector.saturating_mul(SECTOR)))?;
        }
        Ok(())
    }

    fn change(&mut self, offset: u64, len: u64, mut act: impl FnMut(&mut Self, Step) -> Result<()>) -> Result<()> {
        check_range(&self.info, self.path(), offset, len)?;
        let size = self.layout.blocks.as_ref().map_or(FIXED_STEP, |blocks| blocks.block_size);
        for step in in_units(offset, len, size) {
            if self.bitmaps.changed() >= MOST_CHANGED {
                self.commit()?;
            }
            act(self, step)?;
        }
        Ok(())
    }
}

/// Fixed images are gone through in steps of this size.
const FIXED_STEP: u64 = 64 << 20;
const ENTRIES_PER_SECTOR: u64 = SECTOR / 4;

impl Image for VhdMut {
    fn storage(&self) -> &dyn ReadAt {
        &*self.storage
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

impl ImageMut for VhdMut {
    fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        self.change(offset, wide(bytes.len()), |image, step| {
            image.begin()?;
            let part = &bytes[index(step.done)..][..index(step.len)];
            match image.layout.blocks {
                Some(_) => image.write_in_block(step.unit, step.within, part),
                None => {
                    image.unsynced = true;
                    image.storage.write_at(part, offset.saturating_add(step.done))
                }
            }
        })
    }

    fn zero_at(&mut self, offset: u64, len: u64) -> Result<()> {
        self.change(offset, len, |image, step| image.zero_in_block(step.unit, step.within, step.len))
    }

    fn set_identity(&mut self, identity: Uuid) -> Result<()> {
        self.put_identity(identity)?;
        self.begun = true;
        Ok(())
    }

    fn set_data_identity(&mut self, identity: Uuid) -> Result<()> {
        // A session that ended between the two footers may have given it this identity already.
        use VhdFinding::{CopyContradicts, CopyDiffers, CopyOutdated};
        let lags = self
            .warnings
            .iter()
            .any(|finding| matches!(finding.kind, FindingKind::Vhd(CopyDiffers | CopyOutdated | CopyContradicts)));
        match lags || self.info.data_identity != Some(identity) {
            true => self.put_identity(identity)?,
            // What a killed session wrote last must be durable before anything is written where it freed space.
            false => self.storage.sync()?,
        }
        (self.begun, self.amended) = (true, true);
        Ok(())
    }

    /// The header is two sectors, so it is not written over: a new one goes behind everything, and the footer switches
    /// to it.
    fn set_parent(&mut self, parent: &ParentRecord) -> Result<()> {
        self.commit()?;
        let Some(blocks) = self.layout.blocks.as_ref().filter(|blocks| blocks.parent.is_some()) else {
            return Err(no_parent(self.path()));
        };
        let at = self.next.max(blocks.used_end());
        let after = at.saturating_add(wide(header::LEN));
        let (mut locators, bytes) = locator::encode(&parent.relative, parent.absolute.as_deref(), after);
        locators.extend(locator::kept(&*self.storage, &blocks.header, self.info.parent.as_ref(), &parent.relative)?);
        let time_stamp = parent.time_stamp.unwrap_or_default();
        let header = blocks.header.clone().with_parent(parent.identity, time_stamp, &parent.name, &locators);
        self.put_header(at, &[header.bytes(), bytes.as_slice()].concat(), DiskType::DIFFERENCING)
    }

    fn remove_parent(&mut self) -> Result<()> {
        self.commit()?;
        let Some(blocks) = self.layout.blocks.as_ref().filter(|blocks| blocks.parent.is_some()) else {
            return Err(no_parent(self.path()));
        };
        let (bitmap_len, sectors) = (blocks.bitmap_len, blocks.block_size / SECTOR);
        let at = self.next.max(blocks.used_end());
        let header = blocks.header.clone().with_parent(Uuid::nil(), 0, "", &[]);
        let places: Vec<u64> = (0..wide(blocks.table.len())).filter_map(|block| blocks.place(block)).collect();
        for place in places {
            if self.bitmaps.changed() >= MOST_CHANGED {
                self.commit()?;
            }
            self.clear_missing(place, bitmap_len, sectors)?;
            let storage = self.storage.clone();
            self.bitmaps.set(&*storage, place, bitmap_len, 0, sectors)?;
            self.unsynced = true;
        }
        self.commit()?;
        self.put_header(at, header.bytes(), DiskType::DYNAMIC)
    }

    fn syncer(&self) -> Syncer {
        Syncer::new(&self.storage)
    }

    fn flush(&mut self) -> Result<()> {
        self.commit()
    }

    fn close(mut self: Box<Self>) -> Result<()> {
        self.commit()?;
        let Some(blocks) = self.layout.blocks.as_ref().filter(|_| self.amended) else { return Ok(()) };
        // Space that was taken ahead goes back: first a footer is written behind the last block, then the file is cut.
        let end = blocks.used_end();
        if end < self.footer_at && self.next <= self.footer_at {
            self.put_footer(end)?;
            self.storage.set_len(end.saturating_add(SECTOR))?;
            self.storage.sync()?;
        }
        Ok(())
    }
}
