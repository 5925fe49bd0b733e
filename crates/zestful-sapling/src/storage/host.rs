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

/// Bytes that the file at `path` takes on the host; none when it is not there.
pub(crate) fn allocated_at(path: &Path) -> u64 {
    std::fs::metadata(path).map_or(0, |found| found.blocks().saturating_mul(512))
}

/// More pieces of a file are not counted.
const MOST_PIECES: u32 = 1 << 20;

/// In how many pieces the host keeps the file at `path` on its disk, as far as it tells: parts that follow each other
/// there count as one.
pub(crate) fn host_pieces(path: &Path) -> Option<u32> {
    let (mut pieces, mut end) = (0, None);
    for extent in fiemap::fiemap(path).ok()? {
        let extent = extent.ok()?;
        if end != Some(extent.fe_physical) {
            pieces += 1;
        }
        if pieces == MOST_PIECES {
            break;
        }
        end = Some(extent.fe_physical.saturating_add(extent.fe_length));
    }
    Some(pieces)
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
