//! The folder of a machine: opened for a look, or kept from others while it is worked on.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::name;
use crate::error::{Error, Result};
use crate::family::UnderWay;
use crate::image::Format;
use crate::sidecar::{
    CATALOGUE, Catalogue, Checkpoint, GroveDisk, HISTORY, Header, RECORD, image_of_undo, read_record,
    under_way_in_grove, write_catalogue, write_record,
};
use crate::storage::{
    FolderLock, create_folder, files_in, is_temporary_name, real, remove, remove_empty_folder, sync_folder,
};

/// More checkpoints are not named where one is not found.
const MOST_NAMED: usize = 12;

/// A machine's folder, and what its catalogue says.
#[derive(Clone, Debug)]
pub struct Grove {
    folder: PathBuf,
    catalogue: Catalogue,
}

/// Where a disk of a machine stands, now or at a checkpoint.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Place {
    /// The disk's label.
    pub label: String,
    /// The image.
    pub path: PathBuf,
    /// Its format.
    pub format: Format,
    /// The checkpoint; `None` for the present.
    pub checkpoint: Option<String>,
}

impl Grove {
    /// Opens the grove in a folder, or behind a link to one, for a look. It takes no lock: a change that is made
    /// meanwhile is seen wholly or not at all.
    ///
    /// # Errors
    /// `Usage` when the folder is no grove; `Damaged` when its catalogue is; `Unsupported` when a newer version wrote
    /// it; `Io`.
    pub fn open(folder: &Path) -> Result<Self> {
        Self::at(folder)?.ok_or_else(|| {
            Error::usage(
                format!("{} is no grove: there is no {CATALOGUE} in it", folder.display()),
                "make it one, or name the folder of a machine",
            )
        })
    }

    /// The same; `None` when the folder is no grove.
    ///
    /// # Errors
    /// As [`Grove::open`].
    pub fn at(folder: &Path) -> Result<Option<Self>> {
        let folder = real(folder)?;
        Ok(Catalogue::of(&folder)?.map(|catalogue| Self { folder, catalogue }))
    }

    /// The folder, links followed.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// What the catalogue says.
    pub fn catalogue(&self) -> &Catalogue {
        &self.catalogue
    }

    /// What was begun with the whole machine and is not finished.
    ///
    /// # Errors
    /// `Damaged` when its journal is; `Io`.
    pub fn under_way(&self) -> Result<Option<UnderWay>> {
        Ok(under_way_in_grove(&self.folder)?.as_ref().map(UnderWay::of))
    }

    /// Where a path of the catalogue leads.
    pub(super) fn path(&self, way: &Path) -> PathBuf {
        self.folder.join(way)
    }

    /// The image of a disk: at a checkpoint, or now. The only disk need not be named.
    ///
    /// # Errors
    /// `Usage` when there is no such disk or checkpoint, or the disk is not in the checkpoint, or must be named; each
    /// with those that there are.
    pub fn place(&self, disk: Option<&str>, checkpoint: Option<&str>) -> Result<Place> {
        let Some(checkpoint) = checkpoint else {
            let disk = self.disk(disk)?;
            let (label, path) = (disk.label.clone(), self.path(&disk.path));
            return Ok(Place { label, path, format: disk.format, checkpoint: None });
        };
        let found = self.checkpoint(checkpoint)?;
        let labels: Vec<&str> = found.disks.iter().map(|layer| &*layer.label).collect();
        let layer = match (disk, &*found.disks) {
            (None, [only]) => Some(only),
            (None, _) => {
                return Err(Error::usage(
                    format!("the checkpoint {checkpoint} has {} disks", labels.len()),
                    format!("name one of them: {}", labels.join(", ")),
                ));
            }
            (Some(label), _) => found.layer(label),
        };
        let layer = layer.ok_or_else(|| {
            Error::usage(
                format!("the disk {} is not in the checkpoint {checkpoint}", disk.unwrap_or_default()),
                format!("it has these: {}", labels.join(", ")),
            )
        })?;
        let checkpoint = Some(checkpoint.to_owned());
        Ok(Place { label: layer.label.clone(), path: self.path(&layer.path), format: layer.format, checkpoint })
    }

    /// A disk by its label; the only one need not be named.
    ///
    /// # Errors
    /// `Usage`, with the disks that there are.
    pub fn disk(&self, label: Option<&str>) -> Result<&GroveDisk> {
        let labels: Vec<&str> = self.catalogue.disks.iter().map(|disk| &*disk.label).collect();
        let advice = match labels.is_empty() {
            true => "it has none yet".to_owned(),
            false => format!("name one of its disks: {}", labels.join(", ")),
        };
        match (label, &*self.catalogue.disks) {
            (None, [only]) => Ok(only),
            (None, _) => {
                Err(Error::usage(format!("the machine {} has {} disks", self.catalogue.machine, labels.len()), advice))
            }
            (Some(label), _) => self.catalogue.disk(label).ok_or_else(|| {
                Error::usage(format!("the machine {} has no disk {label}", self.catalogue.machine), advice)
            }),
        }
    }

    /// A checkpoint by its name.
    ///
    /// # Errors
    /// `Usage`, with those that there are.
    pub fn checkpoint(&self, name: &str) -> Result<&Checkpoint> {
        self.catalogue.checkpoint(name).ok_or_else(|| {
            let names: Vec<&str> = self.catalogue.checkpoints.iter().filter_map(|one| one.name.as_deref()).collect();
            let first = names.len().saturating_sub(MOST_NAMED);
            let advice = match (names.is_empty(), first) {
                (true, _) => "it has none".to_owned(),
                (false, 0) => format!("it has these: {}", names.join(", ")),
                (false, others) => format!("it has these, and {others} older ones: {}", names[first..].join(", ")),
            };
            Error::usage(format!("the machine {} has no checkpoint {name}", self.catalogue.machine), advice)
        })
    }
}

/// A grove that nobody else changes, until this is dropped.
#[derive(Debug)]
pub(super) struct Locked {
    pub(super) grove: Grove,
    /// What was begun before and is not finished.
    pub(super) begun: Option<Header>,
    lock: Arc<FolderLock>,
}

impl Locked {
    /// # Errors
    /// As [`Grove::open`]; `Refused` with who works on it.
    pub(super) fn take(folder: &Path) -> Result<Self> {
        // So that nothing is made in a folder that is none.
        let folder = Grove::open(folder)?.folder;
        let held = Arc::new(lock(&folder)?);
        Self::read(folder, held)
    }

    fn read(folder: PathBuf, lock: Arc<FolderLock>) -> Result<Self> {
        let grove = Grove::open(&folder)?;
        let begun = under_way_in_grove(&folder)?;
        Ok(Self { grove, begun, lock })
    }

    /// The same grove, under the same lock, as it is now.
    pub(super) fn again(&self) -> Result<Self> {
        Self::read(self.grove.folder.clone(), self.lock.clone())
    }

    /// The same, of a grove with which nothing is under way.
    ///
    /// # Errors
    /// `Refused` also when something is.
    pub(super) fn take_settled(folder: &Path) -> Result<Self> {
        let locked = Self::take(folder)?;
        match &locked.begun {
            None => Ok(locked),
            Some(begun) => Err(unfinished(begun)),
        }
    }
}

/// A grove with which something was begun that has to be carried on or given up first.
pub(super) fn unfinished(begun: &Header) -> Error {
    Error::refused(
        crate::Refusal::UnderWay { image: begun.image().to_owned(), must_go_on: false },
        format!("{} in {} was begun {:.0} and is not finished", begun.work, begun.image().display(), begun.started),
        "carry it on, or give it up",
    )
}

/// Keeps everybody else from changing the grove in a folder.
pub(super) fn lock(folder: &Path) -> Result<FolderLock> {
    let history = folder.join(HISTORY);
    create_folder(&history)?;
    FolderLock::take(&history)
}

/// Replaces the catalogue, and brings the checkpoints' own records into line with it.
pub(super) fn save(folder: &Path, catalogue: &Catalogue) -> Result<()> {
    write_catalogue(folder, catalogue)?;
    for one in &catalogue.checkpoints {
        let found = read_record(&folder.join(&one.folder)).ok().flatten();
        let fits = found.is_some_and(|found| found.checkpoint == *one && found.machine == catalogue.machine);
        if !fits {
            create_folder(&folder.join(&one.folder))?;
            write_record(folder, &catalogue.machine, one)?;
        }
    }
    Ok(())
}

/// Takes away what was made for a checkpoint, where no layer of it is left: its record, what never got its name, its
/// folder.
pub(super) fn clear_folder(folder: &Path) -> Result<()> {
    // What a repair overwrote in a layer that is gone is of no use either.
    let is_lone = |path: &PathBuf| image_of_undo(path).is_some_and(|image| std::fs::symlink_metadata(image).is_err());
    let is_ours = |path: &PathBuf| {
        is_temporary_name(path) || is_lone(path) || path.file_name().is_some_and(|name| name == RECORD)
    };
    let found = if folder.is_dir() { files_in(folder)? } else { Vec::new() };
    for path in found.into_iter().filter(|path| is_ours(path)) {
        remove(&path)?;
        sync_folder(&path)?;
    }
    remove_empty_folder(folder)
}

/// Refuses a name that another checkpoint has.
pub(super) fn check_new_name(catalogue: &Catalogue, wanted: &str) -> Result<()> {
    name::check("a checkpoint", wanted)?;
    match catalogue.checkpoint(wanted) {
        None => Ok(()),
        Some(other) => Err(Error::usage(
            format!("there is a checkpoint {wanted} already, taken {:.0}", other.taken),
            "choose another name, or rename that one",
        )),
    }
}
