//! What stands in a folder.

use std::fs::DirEntry;
use std::path::{Path, PathBuf};

use crate::error::{Error, Result};

/// The entries of a folder, in the order in which the host has them.
///
/// # Errors
/// `Io` when the folder cannot be read, also half-way.
pub(crate) fn entries_in(folder: &Path) -> Result<impl Iterator<Item = Result<DirEntry>>> {
    let failed = |folder: &Path, error| Error::io("read the folder", folder, error);
    let entries = std::fs::read_dir(folder).map_err(|error| failed(folder, error))?;
    let folder = folder.to_owned();
    Ok(entries.map(move |entry| entry.map_err(|error| failed(&folder, error))))
}

/// The paths of all entries of a folder, sorted.
///
/// # Errors
/// As [`entries_in`].
pub(crate) fn files_in(folder: &Path) -> Result<Vec<PathBuf>> {
    let mut paths: Vec<PathBuf> = entries_in(folder)?.map(|entry| Ok(entry?.path())).collect::<Result<_>>()?;
    paths.sort();
    Ok(paths)
}
