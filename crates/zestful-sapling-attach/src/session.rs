//! A disk that is attached, from its beginning to its clean end, whatever others use it through.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use zestful_sapling::path_data::PathData;
use zestful_sapling::storage::free_space;

use crate::control::{Answer, Ask, ControlSocket, Description};
use crate::error::AttachError;
use crate::event::Event;
use crate::front::{Ending, Front, InUse, Mode};
use crate::opening::Opened;

/// A scratch folder with less room than this is told of.
const LITTLE_ROOM: u64 = 256 << 20;
const BETWEEN_LOOKS: Duration = Duration::from_millis(250);
/// Looks between two at the room.
const ROOM_EVERY: u32 = 8;

/// A disk that is attached: what others use it through, what is open for that, and what is said of it at a control
/// socket.
pub struct Session {
    path: PathBuf,
    mode: Mode,
    description: String,
    since: Timestamp,
    state: Mutex<State>,
    /// The end came, or was asked for.
    changed: Condvar,
    over: AtomicBool,
}

struct State {
    front: Option<Arc<dyn Front>>,
    opened: Option<Arc<Opened>>,
    /// The host has told us to end, and somebody still uses the disk.
    is_told: bool,
    /// How it ended.
    ended: Option<Result<(), String>>,
}

impl Session {
    /// Others use the disk through `front`. For a folder of images there is none that is open all the time.
    pub fn new(path: &Path, front: Arc<dyn Front>, opened: Option<Opened>) -> Arc<Self> {
        let mode = opened.as_ref().map_or(Mode::ReadOnly, Opened::mode);
        let description = opened.as_ref().map_or("all images of a folder", |opened| opened.export().description());
        Arc::new(Self {
            path: path.to_owned(),
            mode,
            description: description.to_owned(),
            since: Timestamp::now(),
            state: Mutex::new(State { front: Some(front), opened: opened.map(Arc::new), is_told: false, ended: None }),
            changed: Condvar::new(),
            over: AtomicBool::new(false),
        })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn front(&self) -> Option<Arc<dyn Front>> {
        self.state().front.clone()
    }

    /// For a signal: ends it, as soon as nobody uses it whom that would harm.
    pub fn stop(&self) {
        if self.front().is_some_and(|front| front.end(Ending::Told).is_err()) {
            self.state().is_told = true;
        }
    }

    /// For a second signal: ends it whoever uses it; what was written is durable when this returns, as far as the host
    /// could.
    pub fn stop_at_once(&self) {
        if let Some(front) = self.front() {
            _ = front.end(Ending::AtOnce);
        }
    }

    /// Has others use the disk until the end; then it is made durable and tidy, and let go of. Questions at the control
    /// socket are answered meanwhile. `events` is called from many threads.
    ///
    /// # Errors
    /// `Io` when the host takes no requests any more; `Disk` when the disk cannot be made durable.
    pub fn run(&self, control: Option<&ControlSocket>, events: &(dyn Fn(Event) + Sync)) -> Result<(), AttachError> {
        std::thread::scope(|scope| {
            let _over = Over { session: self, control };
            scope.spawn(|| self.watch(events));
            if let Some(control) = control {
                scope.spawn(|| control.run(&|ask| self.answer(ask, events)));
            }
            let ran = self.front().map_or(Ok(()), |front| front.run(events));
            let opened = self.state().opened.clone();
            let settled = opened.map_or(Ok(()), |opened| opened.settle());
            let ended = ran.and(settled.map_err(AttachError::from));
            let mut state = self.state();
            // The locks go with them.
            (state.front, state.opened) = (None, None);
            state.ended = Some(ended.as_ref().map(|_| ()).map_err(ToString::to_string));
            drop(state);
            ended
        })
    }

    fn answer(&self, ask: Ask, events: &(dyn Fn(Event) + Sync)) -> Answer {
        let failed = |message: String| Answer::Failed { message };
        let Some(front) = self.front() else { return Answer::Ending };
        match ask {
            Ask::Describe => {
                let moved = front.moved();
                Answer::Description(Box::new(Description {
                    path: PathData::from(self.path.as_path()),
                    mode: self.mode,
                    place: front.place(),
                    description: self.description.clone(),
                    since: self.since,
                    users: front.users(),
                    bytes_read: moved.read,
                    bytes_written: moved.written,
                }))
            }
            Ask::Detach { force } => {
                let ending = if force { Ending::AtOnce } else { Ending::Asked };
                if let Err(InUse { holders }) = front.end(ending) {
                    return Answer::InUse { holders };
                }
                drop(front);
                let mut state = self.state();
                while state.ended.is_none() && !self.over.load(Ordering::Acquire) {
                    state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
                }
                match state.ended.clone() {
                    Some(Err(message)) => failed(message),
                    _ => Answer::Detached,
                }
            }
            Ask::Grow { size } => {
                let opened = self.state().opened.clone();
                let grown = opened.map(|opened| opened.grow(size));
                match grown {
                    Some(Ok(())) => {
                        front.has_grown();
                        events(Event::Grown { size, devices: front.devices() });
                        Answer::Grown { size }
                    }
                    Some(Err(error)) => failed(error.to_string()),
                    None => failed("a folder of images has no size".to_owned()),
                }
            }
        }
    }

    /// Looks now and then at the room that is left, and whether those who kept it from ending have let go.
    fn watch(&self, events: &(dyn Fn(Event) + Sync)) {
        let scratch = self.state().opened.as_ref().and_then(|opened| opened.scratch().map(Path::to_owned));
        let (mut was_little, mut was_told, mut looks) = (false, false, 0u32);
        while !self.over.load(Ordering::Acquire) {
            if let Some(folder) = scratch.as_ref().filter(|_| looks.is_multiple_of(ROOM_EVERY)) {
                let free = free_space(folder).unwrap_or(u64::MAX);
                if free < LITTLE_ROOM && !was_little {
                    events(Event::LittleRoom { folder: PathData::from(folder.as_path()), free });
                }
                was_little = free < LITTLE_ROOM;
            }
            looks = looks.wrapping_add(1);
            if self.state().is_told
                && let Some(front) = self.front()
                && let Err(InUse { holders }) = front.end(Ending::Told)
                && !std::mem::replace(&mut was_told, true)
            {
                events(Event::StillInUse { holders });
            }
            let state = self.state();
            if !self.over.load(Ordering::Acquire) {
                _ = self.changed.wait_timeout(state, BETWEEN_LOOKS);
            }
        }
    }
}

/// However a session ends, those who wait for that go on.
struct Over<'a> {
    session: &'a Session,
    control: Option<&'a ControlSocket>,
}

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.session.over.store(true, Ordering::Release);
        drop(self.session.state());
        self.session.changed.notify_all();
        if let Some(control) = self.control {
            control.stop();
        }
    }
}
