//! An image gets another name or folder, and all that know it by the old one are told.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::Serialize;

use super::guard::refuse_change;
use super::kin::refuse_link;
use super::{Plan, Search, children_of};
use crate::chain::{Chain, Companion, Disk, OpenOptions, record_of, records_absolute};
use crate::error::{Error, Result};
use crate::image::{ImageInfo, ParentRecord, folder_of, format_of_name, open_image_mut, open_place_mut};
use crate::storage::{
    Access, FileStorage, Storage, is_marked_read_only, link, real, refuse_existing, remove, sync_folder,
};

/// An image to be moved or renamed.
#[derive(Clone, Debug)]
pub struct MoveImage {
    source: PathBuf,
    target: PathBuf,
    search: Search,
}

impl MoveImage {
    /// The image at `source` to `target`, on the same file system: a new name, or a folder in which it keeps its name.
    pub fn new(source: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        let (source, mut target) = (source.into(), target.into());
        if let Some(name) = source.file_name().filter(|_| target.is_dir()) {
            target.push(name);
        }
        Self { source, target, search: Search::default() }
    }

    /// Where to search for children beside the image's own folder.
    pub fn with_search(mut self, search: Search) -> Self {
        self.search = search;
        self
    }

    /// What moving would do. A move that was cut short is carried on.
    ///
    /// # Errors
    /// `Refused` when something else stands at the target, or the image or a child of it is in use; `Usage` when the
    /// target is on another file system, or its ending speaks of another format; otherwise as [`Chain::open`].
    pub fn plan(self) -> Result<MovePlan> {
        refuse_link(&self.source)?;
        refuse_change(&self.source)?;
        let image = Chain::open(&self.source, &OpenOptions::new())?;
        if !has_both_names(&self.source, &self.target)? {
            refuse_existing(&self.target)?;
        }
        if format_of_name(&self.target) != format_of_name(&self.source) {
            return Err(Error::usage(
                format!("{} does not end as {} does", self.target.display(), self.source.display()),
                "a new ending would speak of another format; `copy` makes one",
            ));
        }
        let folder = folder_of(&self.target);
        let device = |path: &Path| -> Result<u64> {
            use std::os::unix::fs::MetadataExt;
            std::fs::metadata(path).map(|found| found.dev()).map_err(|e| Error::io("look up", path, e))
        };
        if device(&folder)? != device(&self.source)? {
            return Err(Error::usage(
                format!("{} is on another file system", folder.display()),
                "copy the image there (`copy`, with --depth chain to keep its layers)",
            ));
        }
        let info = image.info().clone();
        let own_parent = image.layers().get(1).map(|parent| parent.path().to_owned());
        drop(image);
        // Whoever reads it, or writes to a child of it, is told of now rather than half-way.
        let held = FileStorage::open(&self.source, Access::Amend)?;
        // Those that stand where it is going read through it, too.
        let children = children_of(&self.source, &self.search.clone().and_beside(folder))?;
        // Those that recorded it and do not find it are told where it is, too.
        let told: Vec<PathBuf> = children.all().cloned().collect();
        for child in &told {
            FileStorage::open(child, Access::Amend)?;
        }
        let mut plan = Plan { operation: "move", ..Plan::default() };
        let (from, to) = (self.source.display(), self.target.display());
        plan.steps.push(format!("give {from} the second name {to}"));
        for child in told.iter().chain(own_parent.is_some().then_some(&self.source)) {
            plan.steps.push(format!("record the new place in {}", child.display()));
            plan.files.change.push(child.clone());
        }
        plan.steps.push(format!("take the name {from} away"));
        plan.files.rename.push((self.source.clone(), self.target.clone()));
        if told.is_empty() && is_marked_read_only(&self.source)? {
            plan.warnings.push(format!(
                "{from} was frozen for children, and none was found in {}: whoever has some elsewhere must relink them \
                 (`relink`)",
                children.place()
            ));
        }
        Ok(MovePlan {
            plan,
            request: self,
            info,
            own_parent,
            children: told,
            looked: children.looked,
            held: Arc::new(held),
        })
    }
}

/// Whether these are two names of one file, as a move that was cut short leaves them.
fn has_both_names(source: &Path, target: &Path) -> Result<bool> {
    use std::os::unix::fs::MetadataExt;
    let (Ok(one), Ok(other)) = (std::fs::symlink_metadata(source), std::fs::symlink_metadata(target)) else {
        return Ok(false);
    };
    // A name compared with itself, by whatever way and spelling, leads to the same entry of a folder.
    let entry = |path: &Path| real(&folder_of(path)).map(|folder| (folder, path.file_name().map(OsStr::to_owned)));
    let is_one_name = one.nlink() < 2 || entry(source)? == entry(target)?;
    Ok((one.dev(), one.ino()) == (other.dev(), other.ino()) && !is_one_name)
}

/// A checked plan to move an image.
pub struct MovePlan {
    plan: Plan,
    request: MoveImage,
    info: ImageInfo,
    own_parent: Option<PathBuf>,
    children: Vec<PathBuf>,
    looked: Vec<PathBuf>,
    /// Keeps others away from the image until it has moved.
    held: Arc<FileStorage>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct MoveOutcome {
    /// Where the image stands now.
    pub path: PathBuf,
    /// The children that were told.
    pub children: Vec<PathBuf>,
    /// The folders in which children were looked for.
    pub looked: Vec<PathBuf>,
}

impl MovePlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Moves the image. First it has both names, and records a way to its own parent that is good from both; then each
    /// child records the new one; then the old one goes. At every moment, also after a crash, each child finds its
    /// parent; the same move carries on from there.
    ///
    /// # Errors
    /// `Refused` when the image or a child is in use; `Io`.
    pub fn run(&self) -> Result<MoveOutcome> {
        let MoveImage { source, target, .. } = &self.request;
        if !has_both_names(source, target)? {
            refuse_existing(target)?;
            link(source, target)?;
            sync_folder(target)?;
        }
        let kept_absolute = records_absolute(self.info.parent.as_ref());
        if let Some(parent) = &self.own_parent {
            // The relative way holds from the new folder; from the old one the absolute way leads there.
            self.record_own(parent, true)?;
        }
        for child in &self.children {
            let absolute = self.child_records_absolute(child)?;
            let record = record_of(&real(child)?, target, &self.info, absolute)?;
            record_in(open_place_mut(child, Access::Amend)?.0, &record)?;
        }
        // The last name of a file is never taken away.
        if !has_both_names(source, target)? {
            let error = std::io::Error::other("another program changed its names meanwhile");
            return Err(Error::io("take away the old name of", source, error));
        }
        remove(source)?;
        sync_folder(source)?;
        if let Some(parent) = self.own_parent.as_ref().filter(|_| !kept_absolute) {
            self.record_own(parent, false)?;
        }
        self.tell_companions();
        Ok(MoveOutcome { path: target.clone(), children: self.children.clone(), looked: self.looked.clone() })
    }

    /// The companion goes along, and the parent's knows the new place; best effort, as ever with companions.
    fn tell_companions(&self) {
        let MoveImage { source, target, .. } = &self.request;
        if let Ok(Some(companion)) = Companion::of(source) {
            let known = companion.child_paths(source);
            _ = Companion::change_children(target, &[], &known).and_then(|()| Companion::remove(source));
        }
        if let Some(parent) = &self.own_parent {
            _ = Companion::change_children(parent, std::slice::from_ref(source), std::slice::from_ref(target));
        }
    }

    fn record_parent(&self, image: &Path, parent: &Path, absolute: bool) -> Result<ParentRecord> {
        let info = Chain::open(parent, &OpenOptions::new().with_look(true))?.info().clone();
        record_of(&real(image)?, parent, &info, absolute)
    }

    fn child_records_absolute(&self, child: &Path) -> Result<bool> {
        let image = crate::image::open_image(crate::image::open_place(child, Access::Look)?.storage, None)?;
        Ok(records_absolute(image.info().parent.as_ref()))
    }

    /// Records the moved image's own parent, through the handle that keeps others away.
    fn record_own(&self, parent: &Path, absolute: bool) -> Result<()> {
        record_in(self.held.clone(), &self.record_parent(&self.request.target, parent, absolute)?)
    }
}

fn record_in(storage: Arc<dyn Storage>, record: &ParentRecord) -> Result<()> {
    let mut image = open_image_mut(storage, None)?;
    image.set_parent(record)?;
    image.close()
}
