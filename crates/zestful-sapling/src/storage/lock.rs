//! One writer or many readers, and who they are.

use std::fs::{File, TryLockError};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::{BlockDevice, HostIdentity};
use crate::error::{Error, Refusal, Result};

pub(super) fn shared(file: &File, path: &Path) -> Result<()> {
    settle(file.try_lock_shared(), file, path, "written to")
}

pub(super) fn exclusive(file: &File, path: &Path) -> Result<()> {
    settle(file.try_lock(), file, path, "used")
}

fn settle(taken: std::result::Result<(), TryLockError>, file: &File, path: &Path, how: &str) -> Result<()> {
    match taken {
        Ok(()) => Ok(()),
        Err(TryLockError::WouldBlock) => {
            let holder = holder_of(file).unwrap_or_else(|| "another process".to_owned());
            Err(Error::refused(
                Refusal::InUse,
                format!("{} is being {how} by {holder}", path.display()),
                "wait until it is done (--wait SECONDS), or end that process",
            ))
        }
        // A file system without locks is used without.
        Err(TryLockError::Error(error))
            if matches!(error.kind(), io::ErrorKind::Unsupported) || error.raw_os_error() == Some(NO_LOCKS) =>
        {
            Ok(())
        }
        Err(TryLockError::Error(error)) => Err(Error::io("lock", path, error)),
    }
}

/// Who writes to the file, or uses the device, as far as this host tells; only programs that take locks are seen.
///
/// # Errors
/// `Io` when the file cannot be opened.
pub fn user_of(path: &Path) -> Result<Option<String>> {
    if BlockDevice::is_at(path) {
        return Ok(super::device::user_of(path));
    }
    let file = File::open(path).map_err(|e| Error::io("open", path, e))?;
    Ok(match file.try_lock_shared() {
        Err(TryLockError::WouldBlock) => Some(holder_of(&file).unwrap_or_else(|| "another process".to_owned())),
        _ => None,
    })
}

/// Which of these files other processes have open for writing, whether they take locks or not, as far as this host lets
/// us see; each with who it is.
pub(crate) fn written_elsewhere<'a>(paths: impl IntoIterator<Item = &'a Path>) -> Vec<(PathBuf, String)> {
    let known: Vec<(HostIdentity, &Path)> = paths
        .into_iter()
        .filter_map(|path| std::fs::metadata(path).ok().map(|found| ((found.dev(), found.ino()), path)))
        .collect();
    let mut found = Vec::new();
    let Ok(processes) = std::fs::read_dir("/proc") else { return found };
    for process in processes.flatten() {
        let name = process.file_name();
        let Some(pid) = name.to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
        if pid == std::process::id() {
            continue;
        }
        let Ok(files) = std::fs::read_dir(process.path().join("fd")) else { continue };
        for file in files.flatten() {
            let Ok(there) = std::fs::metadata(file.path()) else { continue };
            let Some((_, path)) = known.iter().find(|(id, _)| *id == (there.dev(), there.ino())) else { continue };
            let info = process.path().join("fdinfo").join(file.file_name());
            let info = std::fs::read_to_string(info).unwrap_or_default();
            let flags = info.lines().find_map(|line| u32::from_str_radix(line.strip_prefix("flags:")?.trim(), 8).ok());
            if flags.is_some_and(|flags| flags & 3 != 0) {
                found.push(((*path).to_owned(), named(&pid.to_string())));
            }
        }
    }
    found.sort();
    found.dedup();
    found
}

fn named(pid: &str) -> String {
    match std::fs::read_to_string(format!("/proc/{pid}/comm")) {
        Ok(name) => format!("process {pid} ({})", name.trim()),
        Err(_) => format!("process {pid}"),
    }
}

const NO_LOCKS: i32 = rustix::io::Errno::NOLCK.raw_os_error();

/// The process that holds a lock on the file, as far as the host's list of locks tells.
fn holder_of(file: &File) -> Option<String> {
    let metadata = file.metadata().ok()?;
    let locks = std::fs::read_to_string("/proc/locks").ok()?;
    let (major, minor) = (rustix::fs::major(metadata.dev()), rustix::fs::minor(metadata.dev()));
    let wanted = format!("{major:02x}:{minor:02x}:{}", metadata.ino());
    let pid = locks.lines().find_map(|line| {
        let words: Vec<&str> = line.split_whitespace().collect();
        (words.get(1) == Some(&"FLOCK") && words.get(5) == Some(&wanted.as_str())).then(|| words[4].to_owned())
    })?;
    Some(named(&pid))
}
