//! A volume made ready beside the disk.

use std::fs::File;
use std::path::{Path, PathBuf};

use crate::error::{Error, Result};
use crate::size::format_size;
use crate::storage::StagedFile;

/// A sparse file, as long as the volume. Dropped, it is removed; after a kill it is left under a temporary name, which
/// nothing refers to.
pub(super) struct Scratch {
    staged: StagedFile,
    len: u64,
}

impl Scratch {
    /// In this folder, beside an image of that name.
    pub(super) fn new(folder: &Path, image: &Path, len: u64) -> Result<Self> {
        let name = image.file_name().unwrap_or_default();
        let staged = StagedFile::create_beside(&folder.join(name))?;
        staged.storage().set_len(len).map_err(|error| match error {
            Error::Io { source, .. } if source.kind() == std::io::ErrorKind::FileTooLarge => Error::usage(
                format!(
                    "a volume of {} is too large to be made ready in a file: {} holds none so long",
                    format_size(len),
                    folder.display()
                ),
                "name a scratch folder on another file system, or leave the volume unformatted, and format it where \
                 the disk is exposed",
            ),
            other => other,
        })?;
        Ok(Self { staged, len })
    }

    /// Where it is, for programs that are given a path.
    pub(super) fn path(&self) -> &Path {
        self.staged.temporary()
    }

    /// The file, opened anew.
    pub(super) fn open(&self) -> Result<File> {
        let path: PathBuf = self.path().to_owned();
        let file = File::options().read(true).write(true).open(&path);
        file.map_err(|e| Error::io("open the scratch file", &path, e))
    }

    pub(super) fn len(&self) -> u64 {
        self.len
    }
}
