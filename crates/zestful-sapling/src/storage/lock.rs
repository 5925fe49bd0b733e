//! One writer or many readers, and who they are.

use std::fs::{File, TryLockError};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::Duration;

use jiff::Timestamp;

use super::device::BlockDevice;
use crate::error::{Error, Hold, Holder, Refusal, Result};

/// How often a lock is asked for again: a look at an image by another command takes an instant.
const TRIES: usize = 4;
const BETWEEN_TRIES: Duration = Duration::from_millis(8);

pub(super) fn shared(file: &File, path: &Path, patient: bool) -> Result<()> {
    settle(patient, || file.try_lock_shared(), file, path, "written to")
}

pub(super) fn exclusive(file: &File, path: &Path) -> Result<()> {
    settle(true, || file.try_lock(), file, path, "used")
}

fn settle(
    patient: bool,
    take: impl Fn() -> std::result::Result<(), TryLockError>,
    file: &File,
    path: &Path,
    how: &str,
) -> Result<()> {
    for tried in 1.. {
        match take() {
            Ok(()) => return Ok(()),
            Err(TryLockError::WouldBlock) if patient && tried < TRIES => std::thread::sleep(BETWEEN_TRIES),
            Err(TryLockError::WouldBlock) => break,
            // A file system without locks is used without.
            Err(TryLockError::Error(error)) if has_no_locks(&error) => return Ok(()),
            Err(TryLockError::Error(error)) => return Err(Error::io("lock", path, error)),
        }
    }
    let holder = holder_of(file).unwrap_or_else(somebody);
    let message = format!("{} is being {how} by {}", path.display(), holder.name);
    let refusal = Refusal::InUse { path: path.to_owned(), holder: Some(Box::new(holder)) };
    Err(Error::refused(refusal, message, "wait until it is done, or end that process"))
}

/// Whether a file system has no locks for such a file at all.
pub(super) fn has_no_locks(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::Unsupported)
        || [NO_LOCKS, NOT_FOR_FOLDERS].contains(&error.raw_os_error().unwrap_or_default())
}

/// Who writes to the file, or uses the device, as far as this host tells; only programs that take locks are seen.
///
/// # Errors
/// `Io` when the file cannot be opened.
pub fn user_of(path: &Path) -> Result<Option<Holder>> {
    if BlockDevice::is_at(path) {
        return Ok(super::device::user_of(path));
    }
    let file = File::open(path).map_err(|e| Error::io("open", path, e))?;
    Ok(match file.try_lock_shared() {
        Err(TryLockError::WouldBlock) => Some(holder_of(&file).unwrap_or_else(somebody)),
        _ => None,
    })
}

/// A lock that no process is known to hold.
fn somebody() -> Holder {
    Holder { name: "another process".to_owned(), process: None, since: None, how: Hold::Lock }
}

/// A process, by its number and its program.
pub(super) fn process(pid: u32, how: Hold) -> Holder {
    let name = match std::fs::read_to_string(format!("/proc/{pid}/comm")) {
        Ok(program) => format!("process {pid} ({})", program.trim()),
        Err(_) => format!("process {pid}"),
    };
    Holder { name, process: Some(pid), since: started(pid), how }
}

/// When a process was started, as far as the host tells.
fn started(pid: u32) -> Option<Timestamp> {
    // Whatever its own clock, the kernel tells these times in hundredths of a second.
    const TICKS: i64 = 100;
    let state = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // Behind the name, which may hold anything, the time since the host was started is the twentieth word.
    let since: i64 = state.rsplit_once(')')?.1.split_ascii_whitespace().nth(19)?.parse().ok()?;
    let host = std::fs::read_to_string("/proc/stat").ok()?;
    let begin: i64 = host.lines().find_map(|line| line.strip_prefix("btime "))?.trim().parse().ok()?;
    Timestamp::from_second(begin.checked_add(since / TICKS)?).ok()
}

const NO_LOCKS: i32 = rustix::io::Errno::NOLCK.raw_os_error();
/// A network file system has no exclusive lock for what is open for reading only, as folders are.
const NOT_FOR_FOLDERS: i32 = rustix::io::Errno::BADF.raw_os_error();

/// The process that holds a lock on the file, as far as the host's list of locks tells.
fn holder_of(file: &File) -> Option<Holder> {
    let metadata = file.metadata().ok()?;
    let locks = std::fs::read_to_string("/proc/locks").ok()?;
    let (major, minor) = (rustix::fs::major(metadata.dev()), rustix::fs::minor(metadata.dev()));
    let wanted = format!("{major:02x}:{minor:02x}:{}", metadata.ino());
    let pid = locks.lines().find_map(|line| {
        let words: Vec<&str> = line.split_whitespace().collect();
        (words.get(1) == Some(&"FLOCK") && words.get(5) == Some(&wanted.as_str())).then(|| words[4].to_owned())
    })?;
    Some(process(pid.parse().ok()?, Hold::Lock))
}
