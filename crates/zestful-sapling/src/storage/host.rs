//! What the host says about a place: free space, and the mark on frozen files.

use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use rustix::fs::statvfs;

use super::names::set_mode;
use crate::error::{Error, Result};

/// Bytes that an ordinary user can still write on the file system that holds `path` (a file or folder).
///
/// # Errors
/// `Io` when there is no such place.
pub fn free_space(path: &Path) -> Result<u64> {
    if let Some(pretended) = super::changes::pretended_space(path) {
        return Ok(pretended);
    }
    let stat = statvfs(path).map_err(|e| Error::io("look into", path, e.into()))?;
    Ok(stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// Takes the write permission away from a file, so that nothing changes a parent by accident.
///
/// # Errors
/// `Io` when the host refuses.
pub fn mark_read_only(path: &Path) -> Result<()> {
    let act = || {
        let mut permissions = std::fs::metadata(path)?.permissions();
        if !permissions.readonly() {
            permissions.set_readonly(true);
            set_mode(path, permissions)?;
        }
        Ok(())
    };
    act().map_err(|e| Error::io("mark as read-only", path, e))
}

/// Whether the file has no write permission for anybody.
///
/// # Errors
/// `Io` when the host cannot tell.
pub fn is_marked_read_only(path: &Path) -> Result<bool> {
    std::fs::metadata(path).map(|m| m.permissions().readonly()).map_err(|e| Error::io("look up", path, e))
}

/// Gives the owner of a file its write permission back.
///
/// # Errors
/// `Io` when the host refuses.
pub(crate) fn unmark_read_only(path: &Path) -> Result<()> {
    let act = || {
        let mut permissions = std::fs::metadata(path)?.permissions();
        if permissions.readonly() {
            permissions.set_mode(permissions.mode() | 0o200);
            set_mode(path, permissions)?;
        }
        Ok(())
    };
    act().map_err(|e| Error::io("mark as writable", path, e))
}

/// Whether names can be made and taken away in a folder, as far as the host tells beforehand.
pub(crate) fn is_writable_folder(folder: &Path) -> bool {
    rustix::fs::access(folder, rustix::fs::Access::WRITE_OK | rustix::fs::Access::EXEC_OK).is_ok()
}

/// Gives `file` the owner, the mode and the extended attributes of the one whose place it is to take.
///
/// # Errors
/// `Io` when the host refuses; an owner that only an administrator may give stays as it is.
pub(crate) fn inherit(from: &Path, file: &Path) -> Result<()> {
    let act = || -> std::io::Result<()> {
        let (theirs, own) = (std::fs::metadata(from)?, std::fs::metadata(file)?);
        if (theirs.uid(), theirs.gid()) != (own.uid(), own.gid()) {
            match std::os::unix::fs::chown(file, Some(theirs.uid()), Some(theirs.gid())) {
                Err(error) if error.kind() != std::io::ErrorKind::PermissionDenied => return Err(error),
                _ => {}
            }
        }
        set_mode(file, theirs.permissions())?;
        copy_attributes(from, file)
    };
    act().map_err(|e| Error::io("hand owner and mode on to", file, e))
}

fn copy_attributes(from: &Path, file: &Path) -> std::io::Result<()> {
    let mut names = vec![0; 64 << 10];
    let Ok(len) = rustix::fs::listxattr(from, &mut names) else { return Ok(()) };
    for name in names[..len].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let mut value = vec![0; 64 << 10];
        let Ok(len) = rustix::fs::getxattr(from, name, &mut value) else { continue };
        match rustix::fs::setxattr(file, name, &value[..len], rustix::fs::XattrFlags::empty()) {
            // Kept as far as we may.
            Ok(()) | Err(rustix::io::Errno::PERM | rustix::io::Errno::OPNOTSUPP) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}
