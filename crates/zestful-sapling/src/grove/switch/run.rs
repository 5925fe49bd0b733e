//! The run of a switch: from its beginning, or from wherever it was cut short, to its end; and back.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::super::folder::{Locked, clear_folder, save};
use super::prepare::Staged;
use super::stand::{Stand, open_ways, stands_of};
use super::{ReadyDisk, Switch, SwitchMark, SwitchRecord, Switched, switched};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, must_record_children};
use crate::image::data_identity_at;
use crate::sidecar::{Catalogue, ChildrenChange, Companion, Journal, child_at, write_catalogue, write_record};
use crate::storage::{
    FileStorage, Held, create_folder, files_in, is_same_file, is_temporary_name, link, mark_read_only, real, remove,
    rename_over, sync_folder, temporary_name, unmark_read_only,
};

/// Those who use the disks meanwhile, if there are any.
pub(super) trait Users {
    /// All is ready, and nothing of it is to be seen: the last moment at which it may end for their sake.
    ///
    /// # Errors
    /// Why it is to be taken back.
    fn may_be_seen(&mut self) -> Result<()>;

    /// These are the disks' current images now.
    ///
    /// # Errors
    /// Why they stay with the old ones, all of them.
    fn go_on_in(&mut self, new: Vec<Arc<FileStorage>>) -> Result<()>;

    /// Whether somebody may write from then on.
    fn are_there(&self) -> bool;
}

/// Nobody has the disks open.
pub(super) struct Nobody;

impl Users for Nobody {
    fn may_be_seen(&mut self) -> Result<()> {
        Ok(())
    }

    fn go_on_in(&mut self, _: Vec<Arc<FileStorage>>) -> Result<()> {
        Ok(())
    }

    fn are_there(&self) -> bool {
        false
    }
}

/// Does a switch that was planned, and whose files are locked since.
pub(super) fn run(locked: &Locked, record: &SwitchRecord, held: &Held, guard: &Guard) -> Result<()> {
    let (folder, catalogue) = (locked.grove.folder(), locked.grove.catalogue());
    refuse_changed(record, held)?;
    guard.refuse_writers(record.header.members.iter().map(|member| &*member.path))?;
    Switching { folder, catalogue, held, guard }.run(Journal::begin(record.clone())?, &mut Nobody)
}

/// Refuses when an image is not the one that it was when the plan was made.
pub(super) fn refuse_changed(record: &SwitchRecord, held: &Held) -> Result<()> {
    for member in &record.header.members {
        held.refuse_swapped(&member.path)?;
        if data_identity_at(&member.path) != Some(member.identity) {
            return Err(Error::refused(
                Refusal::changed(&member.path),
                format!("{} was written to by another program since the plan was made", member.path.display()),
                "end what uses it, and begin again",
            ));
        }
    }
    Ok(())
}

/// A switch whose files are locked.
pub(super) struct Switching<'a> {
    pub(super) folder: &'a Path,
    pub(super) catalogue: &'a Catalogue,
    pub(super) held: &'a Held,
    pub(super) guard: &'a Guard,
}

impl Switching<'_> {
    /// From the beginning; where it fails before anything is to be seen, or can be taken back, it is.
    pub(super) fn run(&self, journal: Journal<Switch>, users: &mut dyn Users) -> Result<()> {
        let record = journal.record().clone();
        let disks = switched(self.folder, &record);
        let mut ready = Vec::new();
        let seen = self.prepare(&record, &disks).and_then(|staged| {
            users.may_be_seen()?;
            ready = staged.iter().map(|one| one.ready.clone()).collect();
            journal.mark(&SwitchMark::Ready(ready.clone()))?;
            let new = staged.into_iter().map(|one| one.file.replace_open()).collect::<Result<_>>()?;
            users.go_on_in(new)
        });
        let goes_on = seen.is_ok() && users.are_there();
        let Err(error) = seen.and_then(|()| self.settle(&record, &disks)) else { return journal.end() };
        // What cannot be taken back is carried on later; why it ended is what counts.
        let stands = stands_of(&record, &disks, &ready);
        let back = match open_ways(&stands) {
            (_, true) if !goes_on => self.back(&record, &disks).and_then(|()| journal.end()).is_ok(),
            _ => false,
        };
        Err(if back { error } else { error.under_way(self.folder) })
    }

    fn prepare(&self, record: &SwitchRecord, disks: &[Switched<'_>]) -> Result<Vec<Staged>> {
        let kept = &record.payload.kept;
        create_folder(&self.folder.join(&kept.folder))?;
        if kept.name.is_some() {
            write_record(self.folder, &self.catalogue.machine, kept)?;
        }
        disks.iter().try_for_each(|disk| disk.keep(self.held, self.guard))?;
        disks.iter().map(|disk| disk.stage(self.held, self.guard)).collect()
    }

    /// Carries it on to its end, of which some disks may have seen more than others.
    pub(super) fn forward(&self, journal: &Journal<Switch>, ready: &[ReadyDisk], stands: &[Stand]) -> Result<()> {
        let record = journal.record().as_found();
        let disks = switched(self.folder, &record);
        self.clear_left_over(&disks)?;
        let mut marks = ready.to_vec();
        let mut staged = Vec::new();
        for ((disk, mark), _) in disks.iter().zip(&mut marks).zip(stands).filter(|(_, stand)| stand.is_old()) {
            let one = disk.stage(self.held, self.guard)?;
            mark.clone_from(&one.ready);
            staged.push(one);
        }
        if !staged.is_empty() {
            journal.mark(&SwitchMark::Ready(marks))?;
        }
        staged.into_iter().try_for_each(|one| one.file.replace())?;
        self.settle(&record, &disks)
    }

    /// Takes it back: nothing is lost, since no new image was written to. What was found is that each can be.
    pub(super) fn back(&self, record: &SwitchRecord, disks: &[Switched<'_>]) -> Result<()> {
        let kept = &record.payload.kept;
        let mut catalogue = Catalogue::of(self.folder)?.unwrap_or_else(|| self.catalogue.clone());
        if catalogue.next > kept.number {
            catalogue.checkpoints.retain(|one| one.number != kept.number);
            (catalogue.next, catalogue.after) = (kept.number, kept.parent);
            write_catalogue(self.folder, &catalogue)?;
        }
        disks.iter().try_for_each(|disk| disk.take_back(self.held, self.guard))?;
        self.clear_left_over(disks)?;
        clear_folder(&self.folder.join(&record.payload.kept.folder))
    }

    /// The catalogue and all relatives follow; the old present goes where it was not to be kept.
    fn settle(&self, record: &SwitchRecord, disks: &[Switched<'_>]) -> Result<()> {
        disks.iter().try_for_each(|disk| disk.settle(record.payload.kept.name.is_some(), self.held, self.guard))?;
        let mut catalogue = self.catalogue.clone();
        let kept = &record.payload.kept;
        catalogue.checkpoints.retain(|one| one.number != kept.number);
        if kept.name.is_some() {
            catalogue.checkpoints.push(kept.clone());
        }
        catalogue.next = catalogue.next.max(kept.number + 1);
        catalogue.after = record.payload.after;
        save(self.folder, &catalogue)?;
        if kept.name.is_none() {
            disks.iter().try_for_each(|disk| disk.drop_old(self.held, self.guard))?;
            clear_folder(&self.folder.join(&record.payload.kept.folder))?;
        }
        Ok(())
    }

    /// Children that were being made when it was cut short.
    pub(super) fn clear_left_over(&self, disks: &[Switched<'_>]) -> Result<()> {
        let names: Vec<_> = disks.iter().filter_map(|disk| disk.path().file_name()).collect();
        let is_ours = |path: &PathBuf| {
            let told = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            let of = told.rsplit_once(".partial-").map(|(name, _)| name.to_owned()).unwrap_or_default();
            is_temporary_name(path) && names.iter().any(|name| name.to_string_lossy() == of)
        };
        for left in files_in(self.folder)?.iter().filter(|path| is_ours(path)) {
            remove(left)?;
        }
        Ok(())
    }
}

impl Switched<'_> {
    /// The new image stands under its name, and the old one has only its second one.
    fn settle(&self, keeps: bool, held: &Held, guard: &Guard) -> Result<()> {
        // Whatever was known of the old one under this name is none of the new one's.
        Companion::remove(self.path())?;
        if !keeps {
            return Ok(());
        }
        must_record_children(&self.kept, &ChildrenChange { freezes: true, ..ChildrenChange::default() }, guard)?;
        mark_read_only(&self.kept)?;
        sync_folder(&self.kept)?;
        if let Some(parent) = self.own_parent()? {
            if !self.disk.absolute {
                self.record_own_parent(&parent, &self.kept, false, held)?;
            }
            let is_base = self.base.is_some_and(|base| real(&base.path).is_ok_and(|it| it == parent));
            let gone: Vec<PathBuf> = if is_base { Vec::new() } else { vec![self.path().to_owned()] };
            let new = [child_at(&self.kept)];
            must_record_children(
                &parent,
                &ChildrenChange { gone: &gone, new: &new, ..ChildrenChange::default() },
                guard,
            )?;
        }
        Ok(())
    }

    /// The old image goes, which was not to be kept.
    fn drop_old(&self, held: &Held, guard: &Guard) -> Result<()> {
        if !self.kept.exists() {
            return Ok(());
        }
        let parent = self.own_parent()?;
        if let Some(parent) = parent {
            let is_base = self.base.is_some_and(|base| real(&base.path).is_ok_and(|it| it == parent));
            let mut gone = vec![self.kept.clone()];
            gone.extend((!is_base).then(|| self.path().to_owned()));
            must_record_children(&parent, &ChildrenChange { gone: &gone, ..ChildrenChange::default() }, guard)?;
        }
        Companion::remove(&self.kept)?;
        let _until_removed = held.let_go(&self.kept)?;
        remove(&self.kept)?;
        sync_folder(&self.kept)
    }

    /// The old image stands under its first name only, as before.
    pub(super) fn take_back(&self, held: &Held, guard: &Guard) -> Result<()> {
        let is_there = self.kept.exists();
        if is_there && !is_same_file(self.path(), &self.kept)? {
            let second = temporary_name(self.path());
            link(&self.kept, &second)?;
            rename_over(&second, self.path())?;
            sync_folder(self.path())?;
        }
        unmark_read_only(self.path())?;
        let parent = self.own_parent()?;
        if let Some(parent) = &parent {
            self.record_own_parent(parent, self.path(), true, held)?;
        }
        if let Some(base) = self.base.map(|base| &base.path).filter(|base| Some(*base) != parent.as_ref()) {
            let gone = [self.path().to_owned()];
            must_record_children(base, &ChildrenChange { gone: &gone, ..ChildrenChange::default() }, guard)?;
        }
        if is_there {
            Companion::remove(&self.kept)?;
            remove(&self.kept)?;
            sync_folder(&self.kept)?;
        }
        if let Some(parent) = &parent {
            if !self.disk.absolute {
                self.record_own_parent(parent, self.path(), false, held)?;
            }
            let (gone, new) = ([self.kept.clone()], [child_at(self.path())]);
            must_record_children(
                parent,
                &ChildrenChange { gone: &gone, new: &new, ..ChildrenChange::default() },
                guard,
            )?;
        }
        Ok(())
    }
}
