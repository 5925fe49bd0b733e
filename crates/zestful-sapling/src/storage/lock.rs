//! One writer or many readers, and who they are.

use std::fs::{File, Metadata, TryLockError};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::Duration;

use jiff::Timestamp;

use super::attached::is_attached_by;
use super::device::BlockDevice;
use crate::error::{Error, Hold, Holder, Refusal, Result};

/// How often a lock is asked for again: a look at an image by another command takes an instant.
const TRIES: usize = 4;
/// The same, each with that many tries, for a lock that must not be lost.
const TRIES_AT_LAST: usize = 500;
const BETWEEN_TRIES: Duration = Duration::from_millis(8);

pub(super) fn shared(file: &File, path: &Path, patient: bool) -> Result<()> {
    settle(patient, || file.try_lock_shared(), file, path, "written to")
}

pub(super) fn exclusive(file: &File, path: &Path) -> Result<()> {
    settle(true, || file.try_lock(), file, path, "used")
}

/// An exclusive lock becomes a shared one. The host lets go of the first before it gives the other, so that somebody
/// may come between; whoever does finds out what the file is, and leaves again.
pub(super) fn shared_at_last(file: &File, path: &Path) -> Result<()> {
    let mut tried = 0;
    loop {
        tried += 1;
        match shared(file, path, true) {
            Err(Error::Refused(Refusal::InUse { .. }, _)) if tried < TRIES_AT_LAST => {}
            other => return other,
        }
    }
}

/// Lets go of a lock now. Closing the file is not enough: a program that another thread starts at this moment has a
/// copy of every open file until it runs, and a lock lasts as long as the last copy.
pub(super) fn release(file: &File) {
    // A host that refuses has no locks, or lets go with the last copy.
    _ = file.unlock();
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
    match file.try_lock_shared() {
        Err(TryLockError::WouldBlock) => Ok(Some(holder_of(&file).unwrap_or_else(somebody))),
        _ => {
            release(&file);
            server_of(path)
        }
    }
}

/// Who has handed the file on to others for reading, as far as this host tells; see [`Attachment`](super::Attachment).
///
/// # Errors
/// `Io` when the file cannot be looked up.
pub fn server_of(path: &Path) -> Result<Option<Holder>> {
    let found = std::fs::metadata(path).map_err(|e| Error::io("look up", path, e))?;
    let serves = |pid: &u32| is_attached_by(*pid, &found);
    Ok(holders_of(&found).into_iter().find(serves).map(|pid| process(pid, Hold::Lock)))
}

/// A lock that no process is known to hold.
fn somebody() -> Holder {
    Holder { name: "another process".to_owned(), process: None, since: None, how: Hold::Lock }
}

/// A process, by its number, what it was started as, and when.
pub(super) fn process(pid: u32, how: Hold) -> Holder {
    let since = started(pid);
    let when = since.map_or_else(String::new, |since| format!(", since {since:.0}"));
    let name = match words_of(pid) {
        Some(words) => format!("process {pid} ({words}){when}"),
        None => format!("process {pid}"),
    };
    Holder { name, process: Some(pid), since, how }
}

/// What a process was started as, as far as that is short; its program where it says no more.
fn words_of(pid: u32) -> Option<String> {
    const MOST: usize = 160;
    let words = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
    let words: Vec<_> =
        words.split(|byte| *byte == 0).filter(|word| !word.is_empty()).map(String::from_utf8_lossy).collect();
    let Some((program, rest)) = words.split_first() else {
        let program = std::fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
        return Some(program.trim().to_owned());
    };
    let program = Path::new(&**program).file_name().unwrap_or_default().to_string_lossy();
    let told = std::iter::once(&*program).chain(rest.iter().map(|word| &**word)).collect::<Vec<_>>().join(" ");
    let short = &told[..told.floor_char_boundary(MOST)];
    Some(if short.len() < told.len() { format!("{short}...") } else { told })
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

/// The process that holds a lock on the file, as far as the host's list of locks tells; one that serves it first.
fn holder_of(file: &File) -> Option<Holder> {
    let found = file.metadata().ok()?;
    let holders = holders_of(&found);
    let server = holders.iter().find(|pid| is_attached_by(**pid, &found));
    server.or(holders.first()).map(|pid| process(*pid, Hold::Lock))
}

/// The processes that hold locks on a file.
fn holders_of(found: &Metadata) -> Vec<u32> {
    let locks = std::fs::read_to_string("/proc/locks").unwrap_or_default();
    let (major, minor) = (rustix::fs::major(found.dev()), rustix::fs::minor(found.dev()));
    let wanted = format!("{major:02x}:{minor:02x}:{}", found.ino());
    let holder = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().collect();
        let is_ours = words.get(1) == Some(&"FLOCK") && words.get(5) == Some(&wanted.as_str());
        words.get(4).filter(|_| is_ours)?.parse().ok()
    };
    locks.lines().filter_map(holder).collect()
}
