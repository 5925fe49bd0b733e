//! The files of a host's folder, for a new volume.

use std::collections::HashSet;
use std::fs::Metadata;
use std::path::{Path, PathBuf};

use super::request::{NewFileSystem, NewVolume};
use crate::error::{Error, Result};
use crate::size::format_size;

/// A file of FAT is shorter than this.
const MOST_OF_FAT: u64 = u32::MAX as u64;
const MOST_NAME: usize = 255;

/// What is in a folder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Amount {
    pub(super) entries: u64,
    pub(super) bytes: u64,
}

/// Counts what is to go into a volume.
///
/// # Errors
/// `Usage` when the file system cannot hold something of it, or nothing at all can be put into such a volume here.
pub(super) fn count(number: usize, volume: &NewVolume, len: u64) -> Result<Amount> {
    let Some(folder) = &volume.fill else { return Ok(Amount::default()) };
    let is_fat = volume.file_system == NewFileSystem::Fat;
    if !is_fat && volume.file_system != NewFileSystem::Ext4 {
        return Err(Error::usage(
            format!("volume {number} is to be {}, into which no files are put here", volume.file_system),
            "FAT and ext4 can be filled; make this one empty, and copy the files in where the disk is exposed",
        ));
    }
    let mut amount = Amount::default();
    walk(folder, &mut |path, found, siblings| {
        if is_fat {
            judge_for_fat(path, found, siblings)?;
        }
        amount.entries += 1;
        amount.bytes = amount.bytes.saturating_add(if found.is_file() { found.len() } else { 0 });
        Ok(())
    })?;
    if amount.bytes > len {
        return Err(Error::usage(
            format!(
                "{} holds {}, which does not fit into volume {number} of {}",
                folder.display(),
                format_size(amount.bytes),
                format_size(len)
            ),
            "make the volume larger",
        ));
    }
    Ok(amount)
}

/// Takes what a folder holds: its path, what it is, and a set of its own for each folder.
type Visit<'a> = dyn FnMut(&Path, &Metadata, &mut HashSet<String>) -> Result<()> + 'a;

/// What is in a folder, by name; links are not followed.
pub(super) fn children_of(folder: &Path) -> Result<Vec<(PathBuf, Metadata)>> {
    let failed = |e| Error::io("read the folder", folder, e);
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let path = entry.map_err(failed)?.path();
        let meta = path.symlink_metadata().map_err(|e| Error::io("look up", &path, e))?;
        found.push((path, meta));
    }
    found.sort_by(|one, other| one.0.cmp(&other.0));
    Ok(found)
}

/// Visits everything below a folder.
fn walk(root: &Path, visit: &mut Visit<'_>) -> Result<()> {
    let mut folders = vec![root.to_owned()];
    while let Some(folder) = folders.pop() {
        let mut siblings = HashSet::new();
        for (path, found) in children_of(&folder)? {
            visit(&path, &found, &mut siblings)?;
            if found.is_dir() {
                folders.push(path);
            }
        }
    }
    Ok(())
}

fn judge_for_fat(path: &Path, found: &Metadata, siblings: &mut HashSet<String>) -> Result<()> {
    let wrong = |why: &str| {
        let advice = "leave it out of the folder, or make the volume ext4";
        Err(Error::usage(format!("{} cannot be on a FAT volume: {why}", path.display()), advice))
    };
    if !found.is_file() && !found.is_dir() {
        return wrong("FAT has files and folders, and no links or devices");
    }
    if found.len() > MOST_OF_FAT && found.is_file() {
        return wrong("it is longer than 4 GiB");
    }
    let Some(name) = path.file_name().and_then(|name| name.to_str()) else {
        return wrong("its name is no Unicode");
    };
    let fits = |c: char| match c {
        '\0'..='\x1F' | '"' | '*' | '/' | ':' | '<' | '>' | '?' | '\\' | '|' | '\x7F' => false,
        c => c <= '\u{FFFF}',
    };
    if !name.chars().all(fits) || name.ends_with(['.', ' ']) || name.encode_utf16().count() > MOST_NAME {
        return wrong("FAT has no such names");
    }
    match siblings.insert(name.to_uppercase()) {
        true => Ok(()),
        false => wrong("another name differs from it only in the case of its letters"),
    }
}
