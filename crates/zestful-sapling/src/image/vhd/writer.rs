//! A VHD image, open for writing, by many at once: opening it, and what it offers.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, RwLock};

use uuid::Uuid;

use super::bitmap::Bitmaps;
use super::footer::{DiskType, FooterPlace};
use super::layout::{Blocks, Layout};
use super::space::Space;
use super::state::{Turn, VhdMut};
use super::{header, locator};
use crate::bytes::{Step, in_units, index, split, wide};
use crate::error::{Error, Refusal, Result};
use crate::finding::{Finding, FindingKind, VhdFinding};
use crate::image::commits::Commits;
use crate::image::moving::Moves;
use crate::image::placement::Arrangement;
use crate::image::renewable::RenewableInfo;
use crate::image::visitors::{Visit, Visitors};
use crate::image::{
    Extent, Image, ImageInfo, ImageMut, Kind, ParentRecord, Placement, Syncer, check_growth, check_range,
    check_shrinking, no_parent,
};
use crate::storage::{Latched, ReadAt, Storage};

/// Fixed images are gone through in steps of this size.
const FIXED_STEP: u64 = 64 << 20;

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
        Ok(Self {
            info: RenewableInfo::new(layout.info()),
            bitmaps: Bitmaps::of(&layout),
            warnings: warnings.into_iter().map(|finding| finding.at(&path)).collect(),
            turn: Mutex::new(Turn {
                space: Space::new(&layout, footer_at),
                new_places: BTreeSet::new(),
                changed_table: BTreeSet::new(),
                released: Vec::new(),
                retired: Vec::new(),
                held: None,
                amended: false,
            }),
            layout: RwLock::new(layout),
            commits: Commits::default(),
            visitors: Visitors::default(),
            begun: AtomicBool::new(false),
            unsynced: AtomicBool::new(false),
            storage,
        })
    }

    fn change(&self, offset: u64, len: u64, size: u64, mut act: impl FnMut(Step) -> Result<()>) -> Result<()> {
        check_range(self.info(), self.path(), offset, len)?;
        for step in in_units(offset, len, size) {
            let _visit = self.visitors.enter();
            act(step)?;
        }
        Ok(())
    }
}

impl Image for VhdMut {
    fn storage(&self) -> &dyn ReadAt {
        &*self.storage
    }

    fn info(&self) -> &ImageInfo {
        self.info.get()
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        let found = self.layout().find(offset, len);
        found.extent(&*self.storage, &self.bitmaps)
    }

    fn placement(&self, _: u64, pack: bool) -> Result<Option<Placement>> {
        let layout = self.layout();
        let Some(blocks) = layout.blocks.as_ref() else { return Ok(None) };
        Ok(Some(blocks.placement(self.storage.len()?, pack)))
    }

    fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}

impl ImageMut for VhdMut {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        let shape = self.shape();
        let size = shape.map_or(FIXED_STEP, |shape| shape.block_size);
        self.change(offset, wide(bytes.len()), size, |step| {
            self.begin()?;
            let part = &bytes[index(step.done)..][..index(step.len)];
            match shape {
                Some(shape) => self.write_in_block(shape, step, |at| self.storage.write_at(part, at)),
                None => self.put(|storage| storage.write_at(part, offset.saturating_add(step.done))),
            }
        })
    }

    fn write_at_once(&self, bytes: &[u8], offset: u64) -> Result<bool> {
        let len = wide(bytes.len());
        if !self.begun.load(Ordering::Acquire) {
            return Ok(false);
        }
        check_range(self.info(), self.path(), offset, len)?;
        let _visit = self.visitors.enter();
        let at = match self.shape() {
            None => Some(offset),
            Some(shape) => {
                let (block, within) = split(offset, shape.block_size);
                let is_inside = within.saturating_add(len) <= shape.block_size;
                if is_inside { self.settled_place(shape, block, within, len)? } else { None }
            }
        };
        at.map_or(Ok(false), |at| self.put(|storage| storage.write_at(bytes, at)).map(|()| true))
    }

    fn zeroes_quickly(&self) -> bool {
        self.info().kind != Kind::Fixed
    }

    fn zero_at(&self, offset: u64, len: u64) -> Result<()> {
        let shape = self.shape();
        let size = shape.map_or(FIXED_STEP, |shape| shape.block_size);
        self.change(offset, len, size, |step| match shape {
            Some(shape) => self.zero_in_block(shape, step),
            None => {
                self.begin()?;
                self.put(|storage| storage.write_zeros(offset.saturating_add(step.done), step.len))
            }
        })
    }

    fn give_to_parent(&self, offset: u64, len: u64) -> Result<()> {
        let Some(shape) = self.shape() else { return Ok(()) };
        self.change(offset, len, shape.block_size, |step| {
            match step.within == 0 && step.len >= shape.visible_len(step.unit) {
                true => self.give_block_to_parent(step.unit),
                false => Ok(()),
            }
        })
    }

    fn dig(&self, offset: u64, len: u64) -> Result<()> {
        let size = self.shape().map_or(FIXED_STEP, |shape| shape.block_size);
        self.change(offset, len, size, |step| self.dig_in_range(offset.saturating_add(step.done), step.len))
    }

    fn visit(&self) -> Visit<'_> {
        self.visitors.enter()
    }

    fn set_identity(&mut self, identity: Uuid) -> Result<()> {
        // The information is put together anew, so that this identity is the one that counts.
        self.info.get_mut();
        self.storage.all_or_nothing(|| self.put_identity(&mut self.turn(), identity))?;
        self.begun.store(true, Ordering::Release);
        Ok(())
    }

    fn set_data_identity(&mut self, identity: Uuid) -> Result<()> {
        // A session that ended between the two footers may have given it this identity already.
        use VhdFinding::{CopyContradicts, CopyDiffers, CopyOutdated};
        let lags = self
            .warnings
            .iter()
            .any(|finding| matches!(finding.kind, FindingKind::Vhd(CopyDiffers | CopyOutdated | CopyContradicts)));
        match lags || self.info().data_identity != Some(identity) {
            true => self.set_identity(identity)?,
            // What a killed session wrote last must be durable before anything is written where it freed space.
            false => self.storage.sync()?,
        }
        self.begun.store(true, Ordering::Release);
        self.turn().amended = true;
        Ok(())
    }

    /// The header is two sectors, so it is not written over: a new one goes behind everything, and the footer switches
    /// to it.
    fn set_parent(&mut self, parent: &ParentRecord) -> Result<()> {
        self.commit()?;
        let mut turn = self.turn();
        let (at, bytes) = {
            let layout = self.layout();
            let Some(blocks) = layout.blocks.as_ref().filter(|blocks| blocks.parent.is_some()) else {
                return Err(no_parent(self.path()));
            };
            let at = turn.space.next.max(blocks.used_end());
            let after = at.saturating_add(wide(header::LEN));
            let (mut locators, bytes) = locator::encode(&parent.relative, parent.absolute.as_deref(), after);
            let own = self.info().parent.as_ref();
            locators.extend(locator::kept(&*self.storage, &blocks.header, own, &parent.relative)?);
            let time_stamp = parent.time_stamp.unwrap_or_default();
            let header = blocks.header.clone().with_parent(parent.identity, time_stamp, &parent.name, &locators);
            (at, [header.bytes(), bytes.as_slice()].concat())
        };
        let put = || self.put_header(&mut turn, at, &bytes, |footer| footer.with_kind(DiskType::DIFFERENCING));
        self.storage.all_or_nothing(put)?;
        drop(turn);
        let info = self.layout().info();
        *self.info.get_mut() = info;
        Ok(())
    }

    fn remove_parent(&mut self) -> Result<()> {
        self.commit()?;
        let remove = || {
            let (shape, places, header) = {
                let layout = self.layout();
                let Some(blocks) = layout.blocks.as_ref().filter(|blocks| blocks.parent.is_some()) else {
                    return Err(no_parent(self.path()));
                };
                let places: Vec<u64> = (0..wide(blocks.table.len())).filter_map(|block| blocks.place(block)).collect();
                (blocks.shape, places, blocks.header.clone().with_parent(Uuid::nil(), 0, "", &[]))
            };
            for place in places {
                let _turn = self.turn_with_room()?;
                self.clear_missing(place, shape)?;
                self.bitmaps.set(&*self.storage, place, 0, shape.sectors())?;
                self.unsynced.store(true, Ordering::Release);
            }
            self.commit()?;
            let mut turn = self.turn();
            let used = self.layout().blocks.as_ref().map_or(0, Blocks::used_end);
            let at = turn.space.next.max(used);
            self.put_header(&mut turn, at, header.bytes(), |footer| footer.with_kind(DiskType::DYNAMIC))
        };
        match self.is_differencing() {
            true => self.storage.all_or_nothing(remove)?,
            false => return Err(no_parent(self.path())),
        }
        let info = self.layout().info();
        *self.info.get_mut() = info;
        Ok(())
    }

    fn grow(&mut self, size: u64) -> Result<()> {
        check_growth(self.info(), self.path(), size)?;
        self.grow_to(size)
    }

    fn shrink(&mut self, size: u64) -> Result<()> {
        check_shrinking(self.info(), self.path(), size)?;
        self.shrink_to(size)
    }

    fn hold_space(&mut self) -> Result<()> {
        self.hold_places()
    }

    fn arrange(&mut self, how: Arrangement, room: u64, watch: &mut dyn FnMut(u64) -> Result<()>) -> Result<()> {
        self.arrange_blocks(how, Moves { room, watch })
    }

    fn syncer(&self) -> Syncer {
        Syncer::new(&self.storage)
    }

    fn flush(&self) -> Result<()> {
        self.commit()
    }

    fn settle(&mut self) -> Result<()> {
        self.commit()?;
        let mut turn = self.turn();
        let layout = self.layout();
        if let (true, Some(blocks)) = (turn.amended, layout.blocks.as_ref()) {
            self.reclaim(&mut turn, blocks.shape);
            let end = blocks.used_end();
            turn.space.give_back(&self.storage, &layout.footer, end)?;
            turn.held.iter_mut().for_each(|held| held.retain(|place| *place < end));
            // What could not be cleared may lie behind the end now; the next opening finds it among the gaps if not.
            turn.retired.clear();
        }
        turn.amended = false;
        drop(layout);
        drop(turn);
        self.begun.store(false, Ordering::Release);
        self.info.get_mut();
        Ok(())
    }

    fn storage_mut(&self) -> Arc<dyn Storage> {
        self.storage.inner()
    }

    fn retire(&self) {
        self.storage.stop();
    }
}
