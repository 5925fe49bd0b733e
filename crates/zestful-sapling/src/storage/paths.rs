//! Paths of the host: where a file stands, and the way from one to another.

use std::ffi::OsStr;
use std::path::{Component, Path, PathBuf};

use crate::error::{Error, Result};

/// The folder that relative paths in an image begin from.
pub(crate) fn folder_of(path: &Path) -> PathBuf {
    match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder.to_owned(),
        _ => PathBuf::from("."),
    }
}

/// The path without links and dots.
pub(crate) fn real(path: &Path) -> Result<PathBuf> {
    std::fs::canonicalize(path).map_err(|e| Error::io("look up", path, e))
}

/// The entry of a folder that a path leads to, whether a file is there or not.
pub(crate) fn entry(path: &Path) -> Result<PathBuf> {
    let folder = real(&folder_of(path))?;
    Ok(path.file_name().map_or_else(|| folder.clone(), |name| folder.join(name)))
}

/// The way from a folder to a file, both canonical; it begins with `.` or `..`.
pub(crate) fn relative_path(folder: &Path, file: &Path) -> PathBuf {
    let (mut from, mut to) = (folder.components().peekable(), file.components().peekable());
    while from.peek().is_some() && from.peek() == to.peek() {
        from.next();
        to.next();
    }
    let mut parts: Vec<&OsStr> = from.map(|_| OsStr::new("..")).collect();
    if parts.is_empty() {
        parts.push(OsStr::new("."));
    }
    parts.into_iter().chain(to.map(Component::as_os_str)).collect()
}

/// Takes `.` and, where it is certain, `name/..` out of a path.
pub(crate) fn tidy(path: &Path) -> PathBuf {
    let mut clean = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => {}
            // Behind a symbolic link `..` is another place; the folder before it is canonical, what a child recorded
            // may not be, so only names that are no links are taken back.
            Component::ParentDir if !clean.is_symlink() && clean.file_name().is_some() => {
                clean.pop();
            }
            other => clean.push(other),
        }
    }
    clean
}
