//! Names and modes of files on the host. All that changes them goes through here.

use std::fs::{File, Permissions};
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use rustix::fs::{CWD, RenameFlags, renameat_with};
use rustix::io::Errno;

use super::changes::{self, HostChange};
use crate::error::{Error, Refusal, Result};

/// Refuses a target where something, even a dangling link, already stands.
pub(crate) fn refuse_existing(target: &Path) -> Result<()> {
    match std::fs::symlink_metadata(target) {
        Ok(_) => Err(exists(target)),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(Error::io("look up", target, error)),
    }
}

fn exists(target: &Path) -> Error {
    Error::refused(
        Refusal::Exists { path: target.to_owned() },
        format!("{} already exists and is never overwritten", target.display()),
        "choose another name, or move that file away first",
    )
}

/// Gives a file or folder its final name, replacing nothing.
pub(crate) fn rename_new(temporary: &Path, target: &Path) -> Result<()> {
    let rename = || renameat_with(CWD, temporary, CWD, target, RenameFlags::NOREPLACE).map_err(Into::into);
    match changes::change(target, || HostChange::Rename(temporary.to_owned(), target.to_owned()), rename) {
        Ok(()) => Ok(()),
        Err(error) => match Errno::from_io_error(&error) {
            Some(Errno::EXIST) => Err(exists(target)),
            // Where the file system cannot rename without replacing, a second name for the file never replaces.
            Some(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => {
                link(temporary, target)?;
                remove(temporary)
            }
            _ => Err(Error::io("put into place", target, error)),
        },
    }
}

/// Puts a file in the place of another, which goes; the name is never without a file.
pub(crate) fn rename_over(source: &Path, target: &Path) -> Result<()> {
    let rename = || {
        keep_aside(target)?;
        std::fs::rename(source, target)
    };
    changes::change(target, || HostChange::Rename(source.to_owned(), target.to_owned()), rename)
        .map_err(|e| Error::io("put a file in the place of", target, e))
}

/// Has a recording keep the file whose last name is about to go.
fn keep_aside(path: &Path) -> std::io::Result<bool> {
    match changes::place_aside(path) {
        Some(aside) => std::fs::rename(path, aside).map(|()| true),
        None => Ok(false),
    }
}

/// Gives a file a second name, replacing nothing.
pub(crate) fn link(file: &Path, second: &Path) -> Result<()> {
    let act = || std::fs::hard_link(file, second);
    let linked = changes::change(second, || HostChange::Link(file.to_owned(), second.to_owned()), act);
    linked.map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => exists(second),
        _ => Error::io("give a second name to", file, error),
    })
}

/// Whether two names lead to one file.
pub(crate) fn is_same_file(one: &Path, other: &Path) -> Result<bool> {
    let found = |path: &Path| std::fs::metadata(path).map_err(|e| Error::io("look up", path, e));
    let (one, other) = (found(one)?, found(other)?);
    Ok((one.dev(), one.ino()) == (other.dev(), other.ino()))
}

/// Takes a name away, and the file with its last one.
pub(crate) fn remove(path: &Path) -> Result<()> {
    let act = || if keep_aside(path)? { Ok(()) } else { std::fs::remove_file(path) };
    changes::change(path, || HostChange::Remove(path.to_owned()), act).map_err(|e| Error::io("remove", path, e))
}

/// Makes a folder where none is yet; durable on return, with whatever else was changed in the folder around it.
pub(crate) fn create_folder(path: &Path) -> Result<()> {
    if path.is_dir() {
        return Ok(());
    }
    let act = || std::fs::create_dir(path);
    changes::change(path, || changes::created_folder(path), act).map_err(|e| Error::io("make the folder", path, e))?;
    sync_folder(path)
}

/// Takes an empty folder away, durably; one that is gone, or holds something, is left as it is.
pub(crate) fn remove_empty_folder(path: &Path) -> Result<()> {
    let is_empty = || std::fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_none());
    let act = || if is_empty() && keep_aside(path)? { Ok(()) } else { std::fs::remove_dir(path) };
    match changes::change(path, || HostChange::RemoveFolder(path.to_owned()), act) {
        Ok(()) => sync_folder(path),
        Err(error) => match error.kind() {
            std::io::ErrorKind::NotFound | std::io::ErrorKind::DirectoryNotEmpty => Ok(()),
            _ => Err(Error::io("remove the folder", path, error)),
        },
    }
}

pub(super) fn set_mode(path: &Path, mode: Permissions) -> std::io::Result<()> {
    changes::change(
        path,
        || HostChange::Mode(path.to_owned(), mode.clone()),
        || std::fs::set_permissions(path, mode.clone()),
    )
}

/// Syncs the folder that `of` stands in.
pub(crate) fn sync_folder(of: &Path) -> Result<()> {
    let folder = match of.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => Path::new("."),
    };
    let sync = || File::open(folder).and_then(|f| f.sync_all());
    changes::change(of, || HostChange::SyncFolder(folder.to_owned()), sync)
        .map_err(|e| Error::io("sync the folder", folder, e))
}
