//! Everything that this process changes below a folder of the host: recorded, made to fail, or stopped at a chosen
//! change.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::ThreadId;

use super::fault::Fault;
use super::host_state::HostState;
use crate::error::Result;
use crate::storage::changes::{Act, FileChange, HostChange, Observer, What, begin_to_watch, end_watching};
use crate::storage::turn::has_turn;

/// Records, for as long as it lives, what this library changes below a folder; and makes it fail, or wait, at a chosen
/// change.
///
/// For tests of work that spans several files. Shared space and reserved space are not recorded. Files that lose their
/// last name are kept aside, so that [`HostRecorder::restore`] can bring back the very same ones.
pub struct HostRecorder(Arc<Shared>);

struct Shared {
    root: PathBuf,
    /// Where files go that lose their last name.
    aside: PathBuf,
    start: HostState,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    changes: Vec<HostChange>,
    /// Changes that were asked for, those that failed included.
    asked: usize,
    fail_from: Option<usize>,
    fail_at: Option<(usize, Fault)>,
    lose_beside: Option<(ThreadId, usize)>,
    pause: Option<(usize, ThreadId, Arc<Gate>)>,
    free: Option<u64>,
    stopped: bool,
}

/// Where a thread waits before a change.
#[derive(Default)]
struct Gate {
    state: Mutex<(bool, bool)>,
    moved: Condvar,
}

/// A stop before a chosen change; the change goes on when this is dropped.
pub struct Pause(Arc<Gate>);

impl Pause {
    /// Whether somebody waits there now.
    pub fn is_reached(&self) -> bool {
        self.0.state.lock().unwrap_or_else(PoisonError::into_inner).0
    }
}

impl Drop for Pause {
    fn drop(&mut self) {
        self.0.state.lock().unwrap_or_else(PoisonError::into_inner).1 = true;
        self.0.moved.notify_all();
    }
}

impl Observer for Shared {
    fn root(&self) -> &Path {
        &self.root
    }

    fn change(&self, what: What<'_>, act: Act<'_>) -> io::Result<()> {
        self.wait_at_pause();
        let mut state = self.lock();
        let number = state.asked;
        state.asked += 1;
        if state.fail_from.is_some_and(|from| number >= from) {
            return Err(io::ErrorKind::StorageFull.into());
        }
        match state.fail_at {
            Some((at, Fault::Error(code))) if at == number => return Err(io::Error::from_raw_os_error(code)),
            Some((at, Fault::LostWrites)) if at == number => {
                // All at once: whoever else changes something waits.
                self.lose_writes(&state.changes, &what())?;
                return Err(io::Error::from_raw_os_error(rustix::io::Errno::IO.raw_os_error()));
            }
            _ => {}
        }
        if let Some((_, left)) = state.lose_beside.filter(|(thread, _)| *thread != std::thread::current().id()) {
            let asked = what();
            let is_sync = matches!(asked, HostChange::Content(_, FileChange::Sync, _));
            state.lose_beside =
                state.lose_beside.map(|(thread, left)| (thread, left.saturating_sub(usize::from(is_sync))));
            if is_sync && left == 0 {
                state.lose_beside = None;
                self.lose_writes(&state.changes, &asked)?;
                return Err(io::Error::from_raw_os_error(rustix::io::Errno::IO.raw_os_error()));
            }
            act()?;
            state.changes.push(asked);
            return Ok(());
        }
        act()?;
        if !state.stopped {
            state.changes.push(what());
        }
        Ok(())
    }

    fn aside(&self) -> &Path {
        &self.aside
    }

    fn free_space(&self) -> Option<u64> {
        self.lock().free
    }
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait_at_pause(&self) {
        let gate = {
            let mut state = self.lock();
            let is_here = |(at, exempt, _): &(usize, ThreadId, Arc<Gate>)| {
                state.asked >= *at && std::thread::current().id() != *exempt && !has_turn()
            };
            match state.pause.as_ref().is_some_and(is_here) {
                true => state.pause.take().map(|(.., gate)| gate),
                false => None,
            }
        };
        let Some(gate) = gate else { return };
        let mut state = gate.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.0 = true;
        while !state.1 {
            state = gate.moved.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Puts a file back to what its last sync made durable.
    fn lose_writes(&self, changes: &[HostChange], failed: &HostChange) -> io::Result<()> {
        let HostChange::Content(file, FileChange::Sync, _) = failed else { return Ok(()) };
        let is_sync = |change: &HostChange| matches!(change, HostChange::Content(f, FileChange::Sync, _) if f == file);
        let durable = changes.iter().rposition(is_sync).map_or(0, |last| last + 1);
        let state = self.start.after(changes[..durable].iter().cloned().map(Some));
        state.and_then(|state| state.rewrite(*file, &self.root)).map_err(io::Error::other)
    }
}

impl HostRecorder {
    /// Begins to record what happens below `root`, named as the calls name it.
    ///
    /// # Errors
    /// `Io` when what stands there cannot be read.
    pub fn start(root: &Path) -> Result<Self> {
        let start = HostState::of(root)?;
        let mut aside = root.as_os_str().to_owned();
        aside.push(".aside");
        let aside = PathBuf::from(aside);
        std::fs::create_dir_all(&aside).map_err(|e| crate::Error::io("create", &aside, e))?;
        let shared = Arc::new(Shared { root: root.to_owned(), aside, start, state: Mutex::default() });
        begin_to_watch(shared.clone());
        Ok(Self(shared))
    }

    /// From the change with this number on (counted from zero) every one fails, as on a host that is full.
    pub fn fail_from(&self, change: usize) {
        self.0.lock().fail_from = Some(change);
    }

    /// The change with this number fails, once.
    pub fn fail_once(&self, change: usize, fault: Fault) {
        self.0.lock().fail_at = Some((change, fault));
    }

    /// Of the syncs of files that other threads than the one that calls this ask for, the one with this number
    /// (counted from zero) fails as [`Fault::LostWrites`] says.
    pub fn lose_writes_beside(&self, number: usize) {
        self.0.lock().lose_beside = Some((std::thread::current().id(), number));
    }

    /// Whoever asks for the change with this number or a later one waits before it, the thread that calls this left
    /// out. Nobody is stopped while others wait for a small file that it is changing.
    pub fn pause_at(&self, change: usize) -> Pause {
        let gate = Arc::new(Gate::default());
        self.0.lock().pause = Some((change, std::thread::current().id(), gate.clone()));
        Pause(gate)
    }

    /// The host has so many free bytes, as far as this library sees.
    pub fn pretend_free_space(&self, bytes: u64) {
        self.0.lock().free = Some(bytes);
    }

    /// Ends what was asked for and records no more; files are still kept aside.
    pub fn stop(&self) {
        let mut state = self.0.lock();
        let changes = std::mem::take(&mut state.changes);
        *state = State { changes, stopped: true, ..State::default() };
    }

    /// All is as it was when the recording began, the files the very same ones, and nothing was asked for yet.
    ///
    /// # Errors
    /// `Io`.
    pub fn rewind(&self) -> Result<()> {
        *self.0.lock() = State::default();
        self.restore(&self.0.start)
    }

    /// How many changes were asked for so far, those that failed included.
    pub fn asked(&self) -> usize {
        self.0.lock().asked
    }

    /// What happened so far.
    pub fn changes(&self) -> Vec<HostChange> {
        self.0.lock().changes.clone()
    }

    /// The states that are worth a look, each with the number of changes that had been issued by then: after each
    /// change all of them; and `subsets` random choices, in which of each file's unsynced changes any part is there,
    /// torn and in any order, and of each folder's unsynced changes of names and modes the first few. Each folder
    /// stands for a file system of its own: a sync makes durable only what lies in it.
    ///
    /// # Errors
    /// None in practice; the signature is that of every storage.
    pub fn crash_states(&self, seed: u64, subsets: usize) -> Result<Vec<(usize, HostState)>> {
        self.0.start.crash_states(&self.changes(), seed, subsets)
    }

    /// Lays a state out below the folder that is recorded. Files that existed before are the very same ones again.
    ///
    /// # Errors
    /// `Io`.
    pub fn restore(&self, state: &HostState) -> Result<()> {
        state.restore(&self.0.root, &self.0.aside)
    }
}

impl Drop for HostRecorder {
    fn drop(&mut self) {
        end_watching(&self.0);
        // What is left there is what a test has no more use for.
        _ = std::fs::remove_dir_all(&self.0.aside);
    }
}

impl std::fmt::Debug for HostRecorder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("HostRecorder").field("root", &self.0.root).finish_non_exhaustive()
    }
}
