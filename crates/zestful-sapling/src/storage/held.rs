//! The files that one piece of work keeps others away from, from before its last look at them until its end.

use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use super::file::FileStorage;
use super::{Access, HostIdentity, ReadAt};
use crate::error::{Error, Refusal, Result};

/// Locked files, each open once: whoever takes part in the work reads and writes through these, since a second opening
/// of a file would be refused by the first.
#[derive(Debug, Default)]
pub(crate) struct Held {
    files: Mutex<Vec<(HostIdentity, Arc<FileStorage>)>>,
}

impl Held {
    /// The file at `path`, locked for `access` if it is not held already.
    ///
    /// What is to be changed must be taken for that before it is taken for reading.
    ///
    /// # Errors
    /// As [`FileStorage::open`].
    pub(crate) fn take(&self, path: &Path, access: Access) -> Result<Arc<FileStorage>> {
        if let Some(held) = self.at(path)? {
            return Ok(held);
        }
        let file = Arc::new(FileStorage::open(path, access)?);
        let identity = file.host_identity()?;
        self.files.lock().unwrap_or_else(PoisonError::into_inner).push((identity, file.clone()));
        Ok(file)
    }

    /// Takes the file at `path` in, which is open and locked already.
    ///
    /// # Errors
    /// `Refused` when another file stands there by now; `Io` when nothing does.
    pub(crate) fn adopt(&self, path: &Path, file: &Arc<FileStorage>) -> Result<()> {
        match file.stands_at(path)? {
            true => self.keep(file),
            false => Err(swapped(path)),
        }
    }

    /// The same, wherever it stands.
    pub(crate) fn keep(&self, file: &Arc<FileStorage>) -> Result<()> {
        let identity = file.host_identity()?;
        self.files.lock().unwrap_or_else(PoisonError::into_inner).push((identity, file.clone()));
        Ok(())
    }

    /// Gives the file at `path` out of the hold, before it is removed: dropped after that, its space is free at once.
    ///
    /// # Errors
    /// `Io` when nothing is there.
    pub(crate) fn let_go(&self, path: &Path) -> Result<Option<Arc<FileStorage>>> {
        let file = self.at(path)?;
        if let Some(file) = &file {
            self.files.lock().unwrap_or_else(PoisonError::into_inner).retain(|(_, held)| !Arc::ptr_eq(held, file));
        }
        Ok(file)
    }

    /// Refuses when another file than the one that is held stands at `path` by now.
    ///
    /// # Errors
    /// `Refused`; `Io` when nothing is there.
    pub(crate) fn refuse_swapped(&self, path: &Path) -> Result<()> {
        match self.at(path)? {
            Some(_) => Ok(()),
            None => Err(swapped(path)),
        }
    }

    /// The file that stands at `path` now, if it is one of those held.
    fn at(&self, path: &Path) -> Result<Option<Arc<FileStorage>>> {
        let found = std::fs::metadata(path).map_err(|e| Error::io("open", path, e))?;
        let identity = (found.dev(), found.ino());
        let files = self.files.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(files.iter().find(|(held, _)| *held == identity).map(|(_, file)| file.clone()))
    }
}

/// A program that takes no locks has put another file in the place of one that is locked.
pub(crate) fn swapped(path: &Path) -> Error {
    Error::refused(
        Refusal::changed(path),
        format!("another file stands at {} than when the plan was made", path.display()),
        "look at it, and begin again",
    )
}
