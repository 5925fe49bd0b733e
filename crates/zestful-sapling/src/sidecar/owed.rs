//! What is still to be done for a guest after a checkpoint: that it is owed, and never what it is.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::catalogue::{VERSION, parse};
use super::record::this_host;
use crate::error::{Error, Refusal, Result};
use crate::storage::{Access, FileStorage, StagedFile, remove, sync_folder};

/// Its place in a machine's folder.
const OWED: &str = "grove.owed.json";

/// A guest was quieted for a checkpoint, and is to be let go on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Owed {
    version: u32,
    /// The checkpoint that it was for.
    pub(crate) checkpoint: String,
    /// Since when.
    pub(crate) since: Timestamp,
    /// The host that began it.
    host: String,
    /// Its process.
    pub(crate) process: u32,
}

/// The same while its process is at it, which the lock of the file tells others.
#[derive(Debug)]
pub(crate) struct Owing {
    place: PathBuf,
    _file: Arc<FileStorage>,
}

fn place_in(grove: &Path) -> PathBuf {
    grove.join(OWED)
}

impl Owed {
    /// What is owed in the folder of a machine, and nobody is at any more.
    ///
    /// # Errors
    /// `Damaged`, `Io`; `Unsupported` when a newer version wrote it.
    pub(crate) fn of(grove: &Path) -> Result<Option<Self>> {
        let place = place_in(grove);
        let Some(owed) = parse(&place)? else { return Ok(None) };
        match FileStorage::open_at_once(&place, Access::Read) {
            Err(Error::Refused(Refusal::InUse { .. }, _)) => Ok(None),
            // It was done this moment.
            Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => Ok(None),
            other => other.map(|_| Some(owed)),
        }
    }

    /// Records it, durably, before anything is done to the guest. What was owed before is owed in this.
    ///
    /// # Errors
    /// `Refused` when another process is at it; `Io`.
    pub(crate) fn begin(grove: &Path, checkpoint: &str) -> Result<Owing> {
        let place = place_in(grove);
        // Whoever has it keeps it until this is known.
        let _turn = match place.exists() {
            true => Some(FileStorage::open(&place, Access::Write)?),
            false => None,
        };
        let (checkpoint, host) = (checkpoint.to_owned(), this_host());
        let owed = Self { version: VERSION, checkpoint, since: Timestamp::now(), host, process: std::process::id() };
        let text = serde_json::to_vec_pretty(&owed)
            .map_err(|error| Error::usage(format!("it cannot be recorded: {error}"), "report this"))?;
        let staged = StagedFile::create_beside(&place)?;
        staged.storage().write_at(&text, 0)?;
        Ok(Owing { _file: staged.replace_open()?, place })
    }

    /// Nothing is owed any more.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn clear(grove: &Path) -> Result<()> {
        let place = place_in(grove);
        if place.exists() {
            remove(&place)?;
            sync_folder(&place)?;
        }
        Ok(())
    }
}

impl Owing {
    /// It was done.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn end(self) -> Result<()> {
        remove(&self.place)?;
        sync_folder(&self.place)
    }
}
