//! Changes on the host as they are asked for: all of them go through here, so that a test can record them, have them
//! fail, or hold them up. What watches is in `testing`; without it a change costs one look at a number.

use std::fs::Permissions;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::SystemTime;

/// One change to a file.
#[cfg_attr(not(feature = "testing"), allow(dead_code, reason = "only whoever watches reads it"))]
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FileChange {
    /// Bytes written at an offset.
    Write(u64, Vec<u8>),
    /// The length was set.
    SetLen(u64),
    /// A range was zeroed: offset and length.
    Punch(u64, u64),
    /// Space behind the end was set aside, from an offset on; nothing else changed.
    Reserve(u64, u64),
    /// Everything before was made durable.
    Sync,
}

/// One change on the host. Files are known by their inode.
#[cfg_attr(not(feature = "testing"), allow(dead_code, reason = "only whoever watches reads it"))]
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum HostChange {
    /// A new, empty file.
    Create(PathBuf, u64),
    /// A change of a file's content, or its sync; and when the file was last changed, then.
    Content(u64, FileChange, Option<SystemTime>),
    /// A second name for a file: the old one, the new one.
    Link(PathBuf, PathBuf),
    /// Another name, in the place of whatever had it.
    Rename(PathBuf, PathBuf),
    /// A name taken away.
    Remove(PathBuf),
    /// Another mode.
    Mode(PathBuf, Permissions),
    /// A new, empty folder.
    CreateFolder(PathBuf, u64),
    /// An empty folder taken away.
    RemoveFolder(PathBuf),
    /// A folder's names made durable.
    SyncFolder(PathBuf),
}

pub(super) type What<'a> = Box<dyn FnOnce() -> HostChange + 'a>;
pub(super) type Act<'a> = Box<dyn FnOnce() -> io::Result<()> + 'a>;

/// Somebody who watches what is changed below a folder, and may keep it from happening.
pub(super) trait Observer: Send + Sync {
    /// The folder, named as the calls name it.
    fn root(&self) -> &Path;

    /// A change is asked for: `act` does it, `what` tells what it was to be or, afterwards, what it was.
    fn change(&self, what: What<'_>, act: Act<'_>) -> io::Result<()>;

    /// Where files go instead of losing their last name.
    fn aside(&self) -> &Path;

    /// The free space that is to be seen there, if another than there is.
    fn free_space(&self) -> Option<u64>;
}

/// Observers that there are now; hardly ever any, so that one look at a number is all that a change costs.
static WATCHING: AtomicUsize = AtomicUsize::new(0);
static OBSERVERS: Mutex<Vec<Arc<dyn Observer>>> = Mutex::new(Vec::new());

fn observers() -> MutexGuard<'static, Vec<Arc<dyn Observer>>> {
    OBSERVERS.lock().unwrap_or_else(PoisonError::into_inner)
}

/// From here on this observer sees what is changed below its folder.
#[cfg(feature = "testing")]
pub(super) fn begin_to_watch(observer: Arc<dyn Observer>) {
    observers().push(observer);
    WATCHING.fetch_add(1, Ordering::Relaxed);
}

/// From here on it does not.
#[cfg(feature = "testing")]
pub(super) fn end_watching(observer: &Arc<impl Observer + 'static>) {
    let observer: Arc<dyn Observer> = observer.clone();
    observers().retain(|other| !Arc::ptr_eq(other, &observer));
    WATCHING.fetch_sub(1, Ordering::Relaxed);
}

fn observer_of(path: &Path) -> Option<Arc<dyn Observer>> {
    if WATCHING.load(Ordering::Relaxed) == 0 {
        return None;
    }
    observers().iter().find(|observer| path.starts_with(observer.root())).cloned()
}

/// Does `act`, which changes something at `path`, unless whoever watches there has it fail.
pub(super) fn change<T>(
    path: &Path,
    what: impl FnOnce() -> HostChange,
    act: impl FnOnce() -> io::Result<T>,
) -> io::Result<T> {
    let Some(observer) = observer_of(path) else { return act() };
    let mut done = None;
    observer.change(Box::new(what), Box::new(|| act().map(|value| done = Some(value))))?;
    done.ok_or_else(|| io::Error::other("whoever watches did not let it happen"))
}

/// A new file at `path`, as a change.
pub(super) fn created(path: &Path) -> HostChange {
    HostChange::Create(path.to_owned(), std::fs::metadata(path).map_or(0, |found| found.ino()))
}

/// A new folder at `path`, as a change.
pub(super) fn created_folder(path: &Path) -> HostChange {
    HostChange::CreateFolder(path.to_owned(), std::fs::metadata(path).map_or(0, |found| found.ino()))
}

/// Where the file at `path` is to go instead of losing its last name, if somebody keeps it.
pub(super) fn place_aside(path: &Path) -> Option<PathBuf> {
    let observer = observer_of(path)?;
    let is_last = |found: &std::fs::Metadata| found.is_dir() || found.is_file() && found.nlink() == 1;
    let found = std::fs::symlink_metadata(path).ok().filter(is_last)?;
    Some(observer.aside().join(found.ino().to_string()))
}

/// The free space that is to be seen at `path`, if another than there is.
pub(super) fn pretended_space(path: &Path) -> Option<u64> {
    observer_of(path)?.free_space()
}
