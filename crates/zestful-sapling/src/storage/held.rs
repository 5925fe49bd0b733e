//! The files that one piece of work keeps others away from, from before its last look at them until its end.

use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use super::{Access, FileStorage, HostIdentity};
use crate::error::{Error, Result};

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

    /// The file that stands at `path` now, if it is one of those held.
    fn at(&self, path: &Path) -> Result<Option<Arc<FileStorage>>> {
        let found = std::fs::metadata(path).map_err(|e| Error::io("open", path, e))?;
        let identity = (found.dev(), found.ino());
        let files = self.files.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(files.iter().find(|(held, _)| *held == identity).map(|(_, file)| file.clone()))
    }
}
