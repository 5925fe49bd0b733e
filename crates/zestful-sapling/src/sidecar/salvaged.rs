//! What is missing in a disk that was saved from a damaged one: `IMAGE.zsap.salvage.json`, beside the new image.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::catalogue::{VERSION, parse};
use crate::error::{Error, Result};
use crate::path_data::PathData;
use crate::ranges::Ranges;
use crate::storage::{StagedFile, remove, sync_folder};

const ENDING: &str = ".zsap.salvage.json";

/// What is missing, and may be taken up once more of the source can be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Salvaged {
    version: u32,
    /// The damaged image.
    pub(crate) source: PathData,
    /// When it was saved.
    pub(crate) made: Timestamp,
    /// When the new image was last changed then; nothing while it is being changed.
    pub(crate) modified: Option<Timestamp>,
    /// Nothing is left of them: zeros stand there.
    pub(crate) lost: Ranges,
    /// What stands there may be wrong.
    pub(crate) doubtful: Ranges,
}

/// Whether this is the name of such a list.
pub(crate) fn is_salvage_list(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.as_encoded_bytes().ends_with(ENDING.as_bytes()))
}

/// Where the list stands.
fn list_of(image: &Path) -> PathBuf {
    let mut name = OsString::from(image);
    name.push(ENDING);
    PathBuf::from(name)
}

impl Salvaged {
    pub(crate) fn new(source: &Path, modified: Option<Timestamp>, lost: Ranges, doubtful: Ranges) -> Self {
        let source = PathData::from(source);
        Self { version: VERSION, source, made: Timestamp::now(), modified, lost, doubtful }
    }

    /// The same while the image is being changed: its time says nothing.
    pub(crate) fn being_changed(&self) -> Self {
        Self { modified: None, ..self.clone() }
    }

    /// The list of an image, if it has one.
    ///
    /// # Errors
    /// `Damaged`, `Io`; `Unsupported` when a newer version wrote it.
    pub(crate) fn of(image: &Path) -> Result<Option<Self>> {
        parse(&list_of(image))
    }

    /// Writes it, durably, in the place of one that is there.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn put(&self, image: &Path) -> Result<PathBuf> {
        let place = list_of(image);
        let text = serde_json::to_vec_pretty(self)
            .map_err(|error| Error::usage(format!("it cannot be recorded: {error}"), "report this"))?;
        let staged = StagedFile::create_beside(&place)?;
        staged.storage().write_at(&text, 0)?;
        staged.replace()?;
        Ok(place)
    }

    /// Takes it away, durably.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn clear(image: &Path) -> Result<()> {
        let place = list_of(image);
        match place.exists() {
            true => remove(&place).and_then(|()| sync_folder(&place)),
            false => Ok(()),
        }
    }
}
