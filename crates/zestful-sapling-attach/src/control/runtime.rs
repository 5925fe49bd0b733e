//! Where control sockets are, and the sockets of servers that were given no other place: a folder of their user, which
//! goes with the host's next start.

use std::fs::{DirBuilder, Metadata, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use rustix::process::geteuid;

use crate::error::AttachError;

/// The folder of this user, for nobody else: `$XDG_RUNTIME_DIR/zsap`, `/run/zsap` for root, and where there is neither
/// one in the folder for temporary files.
///
/// # Errors
/// `NotOurs` when another user made it; `Io`.
pub fn runtime_folder() -> Result<PathBuf, AttachError> {
    let (folder, user) = (place(), geteuid().as_raw());
    let failed = |action: &str, error| AttachError::io(format!("{action} {}", folder.display()), error);
    match DirBuilder::new().mode(0o700).create(&folder) {
        Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(failed("make the folder", error)),
        _ => {}
    }
    // In a folder for all, somebody else may have made it first.
    let found = std::fs::symlink_metadata(&folder).map_err(|error| failed("look at", error))?;
    if !found.is_dir() || found.uid() != user {
        return Err(AttachError::NotOurs { path: folder, owner: found.uid() });
    }
    if found.permissions().mode() & 0o077 != 0 {
        std::fs::set_permissions(&folder, Permissions::from_mode(0o700))
            .map_err(|error| failed("close to others", error))?;
    }
    Ok(folder)
}

fn place() -> PathBuf {
    let user = geteuid().as_raw();
    match std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from) {
        Some(own) if own.is_dir() => own.join("zsap"),
        _ if user == 0 => PathBuf::from("/run/zsap"),
        _ => std::env::temp_dir().join(format!("zsap-{user}")),
    }
}

/// The folders of this user, or for root of all users, each with whose it is.
pub(super) fn all_folders() -> Vec<(PathBuf, u32)> {
    let user = geteuid().as_raw();
    let mut folders = vec![place()];
    if user == 0 {
        folders.push(PathBuf::from("/run/zsap"));
        folders.extend(inside("/run/user").map(|folder| folder.join("zsap")));
        let is_one = |path: &PathBuf| {
            path.file_name().and_then(|name| name.to_str()).is_some_and(|name| name.starts_with("zsap-"))
        };
        folders.extend(inside("/tmp").filter(is_one));
    }
    folders.sort();
    folders.dedup();
    let of = |folder: PathBuf| {
        let found: Metadata = std::fs::symlink_metadata(&folder).ok()?;
        let is_wanted = found.is_dir() && (user == 0 || found.uid() == user);
        is_wanted.then(|| (folder, found.uid()))
    };
    folders.into_iter().filter_map(of).collect()
}

fn inside(folder: impl AsRef<Path>) -> impl Iterator<Item = PathBuf> {
    std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path())
}
