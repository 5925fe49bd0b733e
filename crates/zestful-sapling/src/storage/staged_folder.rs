//! New folders appear whole or not at all.

use std::path::{Path, PathBuf};

use super::names::{create_folder, refuse_existing, rename_new, sync_folder};
use super::staged::temporary_name;
use crate::error::Result;

/// A new folder under a temporary name; dropped before [`StagedFolder::publish`] it is removed with all in it.
pub(crate) struct StagedFolder {
    temporary: PathBuf,
    target: PathBuf,
    published: bool,
}

impl StagedFolder {
    /// # Errors
    /// `Refused` when something stands at `target`; `Io`.
    pub(crate) fn create(target: &Path) -> Result<Self> {
        refuse_existing(target)?;
        let temporary = temporary_name(target);
        create_folder(&temporary)?;
        Ok(Self { temporary, target: target.to_owned(), published: false })
    }

    /// Where it stands until it has its name.
    pub(crate) fn temporary(&self) -> &Path {
        &self.temporary
    }

    /// Gives it its name, replacing nothing; all in it must be durable.
    ///
    /// # Errors
    /// `Refused` when something appeared there meanwhile; `Io`.
    pub(crate) fn publish(mut self) -> Result<()> {
        rename_new(&self.temporary, &self.target)?;
        self.published = true;
        sync_folder(&self.target)
    }
}

impl Drop for StagedFolder {
    fn drop(&mut self) {
        if !self.published {
            _ = std::fs::remove_dir_all(&self.temporary);
        }
    }
}
