//! How a chain is to be opened.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::error::Result;
use crate::image::{Format, Place, is_single_file, open_place};
use crate::storage::{Access, FileStorage, Held};

/// More layers than any sound chain has.
pub const MAX_DEPTH: usize = 4096;

/// How to open a chain.
#[derive(Clone, Debug, Default)]
pub struct OpenOptions {
    format: Option<Format>,
    pub(super) parent: Option<PathBuf>,
    unlocked: bool,
    held: Option<Arc<Held>>,
}

impl OpenOptions {
    /// The format comes from signature and name, the parents from the recorded paths.
    pub fn new() -> Self {
        Self::default()
    }

    /// The format of the image itself (not of its parents), whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// The format that was asked for, if one was.
    pub(crate) fn of_format(format: Option<Format>) -> Self {
        Self { format, ..Self::default() }
    }

    /// The image's parent is this file, wherever the image says it is. Its identity must match all the same.
    pub fn with_parent(mut self, parent: impl Into<PathBuf>) -> Self {
        self.parent = Some(parent.into());
        self
    }

    /// Take no locks: to look at images that another process may be writing to.
    pub fn without_locks(mut self) -> Self {
        self.unlocked = true;
        self
    }

    /// Files are opened through these, and what is not among them yet is kept there, locked for reading.
    pub(crate) fn with_held(mut self, held: &Arc<Held>) -> Self {
        self.held = Some(held.clone());
        self
    }

    pub(crate) fn format(&self) -> Option<Format> {
        self.format
    }

    /// Opens what stands at `path` for reading.
    pub(crate) fn open_place(&self, path: &Path) -> Result<Place> {
        if self.held.is_none() || !is_single_file(path) {
            return open_place(path, self.access());
        }
        let file = self.open_file(path)?;
        Ok(Place { identity: file.host_identity()?, storage: file, pieces: None })
    }

    /// Opens the regular file at `path` for reading.
    pub(crate) fn open_file(&self, path: &Path) -> Result<Arc<FileStorage>> {
        match &self.held {
            Some(held) => held.take(path, Access::Read),
            None => FileStorage::open(path, self.access()).map(Arc::new),
        }
    }

    fn access(&self) -> Access {
        if self.unlocked { Access::ReadUnlocked } else { Access::Read }
    }
}
