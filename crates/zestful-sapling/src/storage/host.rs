//! What the host says about a place: free space, and the mark on frozen files.

use std::path::Path;

use rustix::fs::statvfs;

use crate::error::{Error, Result};

/// Bytes that an ordinary user can still write on the file system that holds `path` (a file or folder).
///
/// # Errors
/// `Io` when there is no such place.
pub fn free_space(path: &Path) -> Result<u64> {
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
            std::fs::set_permissions(path, permissions)?;
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
