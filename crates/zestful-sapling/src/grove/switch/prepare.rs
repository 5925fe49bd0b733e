//! The first part of a switch: second names, records and finished children. Until its end nothing is to be seen of it,
//! and all of it can be done again.

use std::path::{Path, PathBuf};

use super::{ReadyDisk, Switched};
use crate::chain::{OpenOptions, direct_parent, record_of};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override, must_record_children};
use crate::image::{data_identity_at, open_unlocked, recognise};
use crate::ops::BlankChild;
use crate::sidecar::{ChildrenChange, child_at};
use crate::storage::{
    Access, FileId, Held, StagedFile, Storage, inherit, inherit_in_place_mark, is_same_file, link, sync_folder,
};
use crate::transfer::stamp_of;

/// A child that is finished and has no name yet.
pub(super) struct Staged {
    pub(super) file: StagedFile,
    pub(super) ready: ReadyDisk,
}

impl Switched<'_> {
    /// Gives the old image its second name: what it and its relatives know is good from both folders.
    pub(super) fn keep(&self, held: &Held, guard: &Guard) -> Result<()> {
        let parent = self.own_parent()?;
        if let Some(parent) = &parent {
            // Under both names until the first one is another image's.
            let new = [(self.kept.clone(), None), child_at(self.path())];
            must_record_children(parent, &ChildrenChange { new: &new, ..ChildrenChange::default() }, guard)?;
        }
        if !self.kept.exists() {
            link(self.path(), &self.kept)?;
        }
        sync_folder(&self.kept)?;
        self.empty_log(held)?;
        // A guest that has ended may have left the last of what it wrote to the host.
        held.take(self.path(), Access::AmendMetadata)?.sync()?;
        match parent {
            Some(parent) => self.record_own_parent(&parent, &self.kept, true, held),
            None => Ok(()),
        }
    }

    /// The image that the old one reads through, by the way that is good from where it stands.
    pub(super) fn own_parent(&self) -> Result<Option<PathBuf>> {
        let has_both = self.kept.exists() && is_same_file(self.path(), &self.kept).unwrap_or(false);
        let places: &[&Path] = match (has_both, self.kept.exists()) {
            (true, _) => &[self.path(), &self.kept],
            (false, true) => &[&self.kept],
            (false, false) => &[self.path()],
        };
        let mut failed = None;
        for place in places {
            let Some((image, identity)) = recognise(place)? else { continue };
            match direct_parent(&*image, identity, &OpenOptions::new().without_locks()) {
                Ok(found) => return Ok(found.map(|found| found.image.path().to_owned())),
                Err(error) => failed = Some(error),
            }
        }
        failed.map_or(Ok(None), Err)
    }

    /// Records in the old image the way to its parent from the folder of `place`.
    pub(super) fn record_own_parent(&self, parent: &Path, place: &Path, absolute: bool, held: &Held) -> Result<()> {
        let info = open_unlocked(parent)?.info().clone();
        let record = record_of(place, parent, &info, absolute || self.disk.absolute)?;
        let name = if self.kept.exists() { &self.kept } else { self.path() };
        held.record_parent(name, &record)
    }

    /// Changes that wait in the log of the old image are written into it: nobody writes to it any more.
    fn empty_log(&self, held: &Held) -> Result<()> {
        match held.image(self.path())?.info().log_pending {
            true => held.image_mut(self.path())?.close(),
            false => Ok(()),
        }
    }

    /// Makes the new image, with all that the old one has beside its content, and records it as a child.
    pub(super) fn stage(&self, held: &Held, guard: &Guard) -> Result<Staged> {
        let base = self.base_path();
        let info = held.image(base)?.info().clone();
        let blank = BlankChild::new(info.format, &info, record_of(self.path(), base, &info, false)?, None)?;
        let file = StagedFile::create_beside(self.path())?;
        let mut missing: Vec<String> = inherit_in_place_mark(self.path(), file.temporary())?.into_iter().collect();
        blank.create_in(&*file.storage())?;
        missing.extend(inherit(self.path(), file.temporary())?);
        if !missing.is_empty() && !guard.allows(Override::Attributes) {
            return Err(Error::refused(
                Refusal::Attributes { path: self.path().to_owned(), missing: missing.clone() },
                format!(
                    "the file that takes the place of {} does not get all that it has: {}",
                    self.path().display(),
                    missing.join(", ")
                ),
                "do it as an administrator, or allow that it is left out",
            ));
        }
        file.settle()?;
        let identity = data_identity_at(file.temporary()).ok_or_else(|| {
            Error::usage(format!("the new child of {} cannot be read", base.display()), "report this")
        })?;
        let ready = ReadyDisk { old: stamp_of(self.path())?, new: stamp_of(file.temporary())?, identity };
        let new = [(self.path().to_owned(), Some(FileId::of(file.temporary())?))];
        // The image whose second name this is freezes when it has lost the first.
        let freezes = self.base.is_none();
        must_record_children(base, &ChildrenChange { new: &new, freezes, ..ChildrenChange::default() }, guard)?;
        Ok(Staged { file, ready })
    }
}
