//! Everything that this process changes below a folder of the host, and every state in which a loss of power may leave it.

use std::collections::BTreeMap;
use std::fs::Permissions;
use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::SystemTime;

use super::fault::{Random, apply, tear};
use super::{Access, FileStorage, MemoryStorage, Operation, ReadAt, Storage};
use crate::error::{Error, Result};

/// One change on the host. Files are known by their inode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HostChange {
    /// A new, empty file.
    Create(PathBuf, u64),
    /// A change of a file's content, or its sync; and when the file was last changed, then.
    Content(u64, Operation, Option<SystemTime>),
    /// A second name for a file: the old one, the new one.
    Link(PathBuf, PathBuf),
    /// Another name, in the place of whatever had it.
    Rename(PathBuf, PathBuf),
    /// A name taken away.
    Remove(PathBuf),
    /// Another mode.
    Mode(PathBuf, Permissions),
    /// A folder's names made durable.
    SyncFolder(PathBuf),
}

/// Records, for as long as it lives, what this library changes below a folder; and makes it fail from a chosen change on.
///
/// For tests of work that spans several files. Shared space and reserved space are not recorded.
pub struct Tape {
    shared: Arc<Shared>,
    start: HostState,
}

struct Shared {
    root: PathBuf,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    changes: Vec<HostChange>,
    fail_from: Option<usize>,
}

/// Tapes that run now; hardly ever any, so that one look at a number is all that a change costs.
static RUNNING: AtomicUsize = AtomicUsize::new(0);
static TAPES: Mutex<Vec<Arc<Shared>>> = Mutex::new(Vec::new());

fn tapes() -> MutexGuard<'static, Vec<Arc<Shared>>> {
    TAPES.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Does `act`, and notes on the tape for `path`, if there is one, what it did.
pub(super) fn change<T>(
    path: &Path,
    what: impl FnOnce() -> HostChange,
    act: impl FnOnce() -> io::Result<T>,
) -> io::Result<T> {
    if RUNNING.load(Ordering::Relaxed) == 0 {
        return act();
    }
    let Some(tape) = tapes().iter().find(|tape| path.starts_with(&tape.root)).cloned() else { return act() };
    let mut state = tape.state.lock().unwrap_or_else(PoisonError::into_inner);
    if state.fail_from.is_some_and(|from| state.changes.len() >= from) {
        return Err(io::ErrorKind::StorageFull.into());
    }
    let done = act()?;
    state.changes.push(what());
    Ok(done)
}

/// A new file at `path`, for the tape.
pub(super) fn created(path: &Path) -> HostChange {
    HostChange::Create(path.to_owned(), std::fs::metadata(path).map_or(0, |found| found.ino()))
}

impl Tape {
    /// Begins to record what happens below `root`, named as the calls name it.
    ///
    /// # Errors
    /// `Io` when what stands there cannot be read.
    pub fn start(root: &Path) -> Result<Self> {
        let start = HostState::of(root)?;
        let shared = Arc::new(Shared { root: root.to_owned(), state: Mutex::default() });
        tapes().push(shared.clone());
        RUNNING.fetch_add(1, Ordering::Relaxed);
        Ok(Self { shared, start })
    }

    /// From the change with this number on (counted from zero) every one fails, as on a host that is full.
    pub fn fail_from(&self, change: usize) {
        self.lock().fail_from = Some(change);
    }

    /// What happened so far.
    pub fn changes(&self) -> Vec<HostChange> {
        self.lock().changes.clone()
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.shared.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The states that are worth a look, each with the number of changes that had been issued by then: after each change
    /// all of them; and `subsets` random choices, in which of each file's unsynced changes any part is there, torn and in
    /// any order, and of the unsynced changes of names and modes the first few, as a journaling file system keeps them.
    ///
    /// # Errors
    /// None in practice; the signature is that of every storage.
    pub fn crash_states(&self, seed: u64, subsets: usize) -> Result<Vec<(usize, HostState)>> {
        let changes = self.changes();
        let mut random = Random::new(seed);
        let mut found = Vec::new();
        for issued in 0..=changes.len() {
            let (before, after) = (&changes[..issued], changes.get(issued.wrapping_sub(1)));
            let is_sync = |change: &HostChange| {
                matches!(change, HostChange::SyncFolder(_) | HostChange::Content(_, Operation::Sync, _))
            };
            if !after.is_some_and(is_sync) {
                found.push((issued, self.start.after(before.iter().cloned().map(Some))?));
            }
            for _ in 0..subsets {
                found.push((issued, self.start.after(some_of(before, &mut random).into_iter())?));
            }
        }
        Ok(found)
    }
}

impl Drop for Tape {
    fn drop(&mut self) {
        tapes().retain(|tape| !Arc::ptr_eq(tape, &self.shared));
        RUNNING.fetch_sub(1, Ordering::Relaxed);
    }
}

impl std::fmt::Debug for Tape {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Tape").field("root", &self.shared.root).finish_non_exhaustive()
    }
}

/// A legal choice among changes: what was lost is `None`.
fn some_of(changes: &[HostChange], random: &mut Random) -> Vec<Option<HostChange>> {
    let names_durable = changes.iter().rposition(|change| matches!(change, HostChange::SyncFolder(_))).unwrap_or(0);
    let names_upto = names_durable + random.below(changes.len() + 1 - names_durable);
    let mut chosen: Vec<Option<HostChange>> = Vec::new();
    for (number, change) in changes.iter().enumerate() {
        let kept = match change {
            HostChange::Content(file, operation, time) => {
                let synced = |later: &HostChange| matches!(later, HostChange::Content(synced, Operation::Sync, _) if synced == file);
                match (changes[number..].iter().any(synced), random.below(2), random.below(4)) {
                    (true, ..) => Some(change.clone()),
                    (false, 0, _) => None,
                    (false, _, 0) => Some(HostChange::Content(*file, tear(operation, random), *time)),
                    _ => Some(change.clone()),
                }
            }
            _ => (number < names_upto).then(|| change.clone()),
        };
        chosen.push(kept);
    }
    chosen
}

/// Files below a folder: their names, contents and modes.
#[derive(Clone, Debug, Default)]
pub struct HostState {
    names: BTreeMap<PathBuf, u64>,
    files: BTreeMap<u64, HostFile>,
    root: PathBuf,
}

#[derive(Clone, Debug, Default)]
struct HostFile {
    content: MemoryStorage,
    mode: Option<Permissions>,
    modified: Option<SystemTime>,
}

impl HostState {
    fn of(root: &Path) -> Result<Self> {
        let mut state = Self { root: root.to_owned(), ..Self::default() };
        let mut folders = vec![root.to_owned()];
        while let Some(folder) = folders.pop() {
            let failed = |e| Error::io("read the folder", &folder, e);
            for entry in std::fs::read_dir(&folder).map_err(failed)? {
                let path = entry.map_err(failed)?.path();
                if path.is_dir() {
                    folders.push(path);
                    continue;
                }
                let found = std::fs::metadata(&path).map_err(|e| Error::io("look up", &path, e))?;
                let content = MemoryStorage::new();
                copy(&FileStorage::open(&path, Access::Look)?, &content)?;
                let (mode, modified) = (Some(found.permissions()), found.modified().ok());
                state.files.insert(found.ino(), HostFile { content, mode, modified });
                state.names.insert(path, found.ino());
            }
        }
        Ok(state)
    }

    /// The state after some changes.
    fn after(&self, changes: impl Iterator<Item = Option<HostChange>>) -> Result<Self> {
        let mut state = self.clone();
        for change in changes.flatten() {
            match change {
                HostChange::Create(path, file) => {
                    state.files.insert(file, HostFile::default());
                    state.names.insert(path, file);
                }
                HostChange::Content(file, operation, time) => {
                    let file = state.files.entry(file).or_default();
                    apply(&file.content, &operation)?;
                    file.modified = time.or(file.modified);
                }
                HostChange::Link(file, second) => {
                    if let Some(file) = state.names.get(&file).copied() {
                        state.names.insert(second, file);
                    }
                }
                HostChange::Rename(from, to) => {
                    if let Some(file) = state.names.remove(&from) {
                        state.names.insert(to, file);
                    }
                }
                HostChange::Remove(path) => _ = state.names.remove(&path),
                HostChange::Mode(path, mode) => {
                    if let Some(file) = state.names.get(&path).and_then(|file| state.files.get_mut(file)) {
                        file.mode = Some(mode);
                    }
                }
                HostChange::SyncFolder(_) => {}
            }
        }
        Ok(state)
    }

    /// Lays the files out below another folder, which has the same folders in it.
    ///
    /// # Errors
    /// `Io`.
    pub fn write_to(&self, folder: &Path) -> Result<()> {
        let mut written: BTreeMap<u64, PathBuf> = BTreeMap::new();
        for (name, file) in &self.names {
            let path = folder.join(name.strip_prefix(&self.root).unwrap_or(name));
            if let Some(first) = written.get(file) {
                super::link(first, &path)?;
                continue;
            }
            let Some(held) = self.files.get(file) else { continue };
            let created = std::fs::File::create(&path).map_err(|e| Error::io("create", &path, e))?;
            copy(&held.content, &FileStorage::open(&path, Access::Write)?)?;
            let mode = held.mode.clone().unwrap_or_else(|| Permissions::from_mode(0o644));
            let time = held.modified.map_or(Ok(()), |time| created.set_modified(time));
            time.and_then(|()| created.set_permissions(mode)).map_err(|e| Error::io("set the mode of", &path, e))?;
            written.insert(*file, path);
        }
        Ok(())
    }
}

fn copy(from: &dyn ReadAt, to: &dyn Storage) -> Result<()> {
    to.set_len(from.len()?)?;
    let mut at = 0;
    while let Some(data) = from.next_data(at)? {
        let mut buffer = vec![0; (data.end - data.start).min(1 << 20) as usize];
        from.read_at(&mut buffer, data.start)?;
        to.write_at(&buffer, data.start)?;
        at = data.start + buffer.len() as u64;
    }
    Ok(())
}
