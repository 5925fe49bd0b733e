//! One command at a time works on what a folder stands for.

use std::fs::File;
use std::path::Path;

use super::lock;
use crate::error::{Error, Result};

/// A folder that nobody else works on, until this is dropped.
///
/// The lock is one on the folder itself, which no change of a file replaces. Where a file system has no locks for
/// folders, everybody gets it.
#[derive(Debug)]
pub(crate) struct FolderLock {
    folder: File,
}

impl FolderLock {
    /// Takes it, unless another has it.
    ///
    /// # Errors
    /// `Refused` with who has it; `Io` when the folder cannot be opened.
    pub(crate) fn take(folder: &Path) -> Result<Self> {
        let file = File::open(folder).map_err(|e| Error::io("open the folder", folder, e))?;
        lock::exclusive(&file, folder)?;
        Ok(Self { folder: file })
    }
}

impl Drop for FolderLock {
    fn drop(&mut self) {
        lock::release(&self.folder);
    }
}
