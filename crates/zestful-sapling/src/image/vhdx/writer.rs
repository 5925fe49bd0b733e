//! A VHDX image, open for writing, by many at once: opening it, and what it offers.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use uuid::Uuid;

use super::header::Header;
use super::layout::Layout;
use super::replay::refuse_unfit;
use super::session::write_header;
use super::space::SpaceMap;
use super::state::{Session, Turn, VhdxMut};
use super::{metadata, metadata_edits};
use crate::bytes::{Step, in_units, index, split, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, VhdxFinding};
use crate::image::commits::Commits;
use crate::image::moving::Moves;
use crate::image::placement::Arrangement;
use crate::image::renewable::RenewableInfo;
use crate::image::visitors::{Visit, Visitors};
use crate::image::{
    Extent, Image, ImageInfo, ImageMut, Kind, ParentRecord, ParentReference, Placement, Syncer, check_growth,
    check_range, check_shrinking, no_parent,
};
use crate::storage::{Latched, ReadAt, Storage};

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
            info: RenewableInfo::new(layout.info()),
            warnings,
            log_place: layout.log,
            metadata: layout.metadata,
            session: Mutex::new(Session {
                header: layout.header.clone(),
                slot: layout.slot,
                log: None,
                renewed: false,
                unplaced: Vec::new(),
            }),
            turn: Mutex::new(Turn { space, released: Vec::new(), retired: Vec::new(), holds: false }),
            commits: Commits::default(),
            visitors: Visitors::default(),
            begun: AtomicBool::new(false),
            unsynced: AtomicBool::new(false),
            storage,
        })
    }

    fn change(&self, offset: u64, len: u64, mut act: impl FnMut(Step) -> Result<()>) -> Result<()> {
        check_range(self.info(), self.path(), offset, len)?;
        let mut run = || {
            for step in in_units(offset, len, self.table.geometry.block_size) {
                let _visit = self.visitors.enter();
                act(step)?;
            }
            Ok(())
        };
        run().map_err(|error: Error| error.at(self.path()))
    }
}

impl Image for VhdxMut {
    fn storage(&self) -> &dyn ReadAt {
        &*self.storage
    }

    fn info(&self) -> &ImageInfo {
        self.info.get()
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        self.table.extent_at(offset, len).map_err(|error| error.at(self.path()))
    }

    fn placement(&self, most: u64, pack: bool) -> Result<Option<Placement>> {
        let layout =
            Layout::read(self.storage.clone(), &mut Vec::new()).and_then(|layout| layout.placement(most, pack));
        layout.map_err(|error| error.at(self.path()))
    }

    fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}

impl ImageMut for VhdxMut {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.change(offset, wide(bytes.len()), |step| {
            self.write_in_block(step.unit, step.within, &bytes[index(step.done)..][..index(step.len)])
        })
    }

    fn write_at_once(&self, bytes: &[u8], offset: u64) -> Result<bool> {
        let (block, within) = split(offset, self.table.geometry.block_size);
        let len = wide(bytes.len());
        let is_inside = within.saturating_add(len) <= self.table.geometry.visible_len(block);
        if !self.begun.load(Ordering::Acquire) || !is_inside {
            return Ok(false);
        }
        check_range(self.info(), self.path(), offset, len)?;
        let _visit = self.visitors.enter();
        let at = self.settled_place(block, within, len).map_err(|error| error.at(self.path()))?;
        at.map_or(Ok(false), |at| self.put(|storage| storage.write_at(bytes, at)).map(|()| true))
    }

    fn zeroes_quickly(&self) -> bool {
        self.info().kind != Kind::Fixed
    }

    fn zero_at(&self, offset: u64, len: u64) -> Result<()> {
        self.change(offset, len, |step| self.zero_in_block(step.unit, step.within, step.len))
    }

    fn give_to_parent(&self, offset: u64, len: u64) -> Result<()> {
        self.change(offset, len, |step| match self.is_whole(step.unit, step.within, step.len) {
            true => self.give_block_to_parent(step.unit),
            false => Ok(()),
        })
    }

    fn dig(&self, offset: u64, len: u64) -> Result<()> {
        self.change(offset, len, |step| self.dig_in_range(offset.saturating_add(step.done), step.len))
    }

    fn visit(&self) -> Visit<'_> {
        self.visitors.enter()
    }

    fn set_identity(&mut self, identity: Uuid) -> Result<()> {
        let Some(place) = metadata::place_of(&*self.storage, self.metadata, metadata::DISK_ID)? else {
            let finding = Finding::new(VhdxFinding::IdentityPlace, self.metadata.offset);
            return Err(finding.at(self.path()).into());
        };
        self.storage.all_or_nothing(|| {
            self.begin()?;
            self.change_bytes(place, &identity.to_bytes_le())?;
            self.commit()
        })?;
        self.info.get_mut().identity = Some(identity);
        Ok(())
    }

    fn set_parent(&mut self, parent: &ParentRecord) -> Result<()> {
        if self.info().parent.is_none() {
            return Err(no_parent(self.path()));
        }
        // One commit carries the item and the table entry that says where it is, and nothing else.
        self.commit()?;
        let reference = ParentReference::from(parent);
        let edits = metadata_edits::replace_locator(&*self.storage, self.metadata, &reference)
            .map_err(|error| error.at(self.path()))?;
        self.storage.all_or_nothing(|| {
            self.begin_file(&mut self.session())?;
            for (at, bytes) in edits {
                self.change_bytes(at, &bytes)?;
            }
            self.commit()
        })?;
        self.info.get_mut().parent = Some(reference);
        Ok(())
    }

    fn set_data_identity(&mut self, identity: Uuid) -> Result<()> {
        if self.info().data_identity == Some(identity) {
            self.session().renewed = true;
            return Ok(());
        }
        // The information is put together anew, so that this one is the one that counts.
        self.info.get_mut();
        self.storage.all_or_nothing(|| self.put_data_identity(&mut self.session(), identity))
    }

    fn remove_parent(&mut self) -> Result<()> {
        if self.info().parent.is_none() {
            return Err(no_parent(self.path()));
        }
        self.commit()?;
        let run = || {
            self.begin_file(&mut self.session())?;
            self.complete_blocks()?;
            for (at, bytes) in metadata_edits::remove_locator(&*self.storage, self.metadata)? {
                self.change_bytes(at, &bytes)?;
            }
            self.commit()
        };
        self.storage.all_or_nothing(run).map_err(|error: Error| error.at(self.path()))?;
        self.table.geometry = self.table.geometry.without_parent();
        let info = self.info.get_mut();
        info.parent = None;
        info.kind = Kind::Dynamic;
        Ok(())
    }

    fn grow(&mut self, size: u64) -> Result<()> {
        check_growth(self.info(), self.path(), size)?;
        if size > super::MAX_VIRTUAL_SIZE {
            return Err(Error::usage("a vhdx disk has 64 TiB at most", "make it no larger"));
        }
        self.grow_to(size).map_err(|error| error.at(self.path()))
    }

    fn shrink(&mut self, size: u64) -> Result<()> {
        check_shrinking(self.info(), self.path(), size)?;
        self.shrink_to(size).map_err(|error| error.at(self.path()))
    }

    fn hold_space(&mut self) -> Result<()> {
        self.turn().holds = true;
        Ok(())
    }

    fn arrange(&mut self, how: Arrangement, room: u64, watch: &mut dyn FnMut(u64) -> Result<()>) -> Result<()> {
        self.arrange_blocks(how, Moves { room, watch }).map_err(|error| error.at(self.path()))
    }

    fn syncer(&self) -> Syncer {
        Syncer::new(&self.storage)
    }

    fn flush(&self) -> Result<()> {
        self.commit()
    }

    fn settle(&mut self) -> Result<()> {
        let ended = self.end_session();
        self.info.get_mut();
        ended
    }

    fn storage_mut(&self) -> Arc<dyn Storage> {
        self.storage.inner()
    }

    fn retire(&self) {
        self.storage.stop();
    }
}
