//! Disks that are attached, from their beginning to their clean end, whatever others use them through.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use zestful_sapling::path_data::PathData;
use zestful_sapling::storage::free_space;

use crate::checkpoint;
use crate::control::{Answer, Ask, ControlSocket, Description, is_same};
use crate::error::AttachError;
use crate::event::Event;
use crate::front::{Ending, Front, InUse, Mode};
use crate::opening::Opened;

/// A scratch folder with less room than this is told of.
const LITTLE_ROOM: u64 = 256 << 20;
const BETWEEN_LOOKS: Duration = Duration::from_millis(250);
/// How long a thread may take to let go of what it has told to end.
const LETTING_GO: Duration = Duration::from_secs(1);
/// Looks between two at the room.
const ROOM_EVERY: u32 = 8;

/// Disks that are attached together: what others use them through, what is open for that, and what is said of them at
/// a control socket.
pub struct Session {
    path: PathBuf,
    mode: Mode,
    description: String,
    since: Timestamp,
    state: Mutex<State>,
    /// The end came, or was asked for.
    changed: Condvar,
    /// Held by whoever changes what is open: the last is the end.
    changing: Mutex<()>,
    over: AtomicBool,
}

struct State {
    front: Option<Arc<dyn Front>>,
    opened: Vec<Arc<Opened>>,
    /// The host has told us to end, and somebody still uses the disk.
    is_told: bool,
    /// How it ended.
    ended: Option<Result<(), String>>,
}

impl Session {
    /// Others use the disks through `front`: an image, or those of a machine. For a folder of images there is none that
    /// is open all the time.
    pub fn new(path: &Path, front: Arc<dyn Front>, opened: Vec<Opened>) -> Arc<Self> {
        let is_writable = opened.iter().any(|opened| opened.mode() == Mode::Writable);
        let mode = match opened.first() {
            Some(_) if is_writable => Mode::Writable,
            first => first.map_or(Mode::ReadOnly, Opened::mode),
        };
        let description = match &*opened {
            [] => "all disks of a folder".to_owned(),
            [one] => one.export().description().to_owned(),
            several => format!("{} disks", several.len()),
        };
        Arc::new(Self {
            path: path.to_owned(),
            mode,
            description,
            since: Timestamp::now(),
            state: Mutex::new(State {
                front: Some(front),
                opened: opened.into_iter().map(Arc::new).collect(),
                is_told: false,
                ended: None,
            }),
            changed: Condvar::new(),
            changing: Mutex::default(),
            over: AtomicBool::new(false),
        })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn opened(&self) -> Vec<Arc<Opened>> {
        self.state().opened.clone()
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
            let _last = self.changing.lock().unwrap_or_else(PoisonError::into_inner);
            // One that fails keeps none of the others from being made durable.
            let settled = self.opened().iter().map(|opened| opened.settle()).fold(Ok(()), Result::and);
            let ended = ran.and(settled.map_err(AttachError::from));
            let mut state = self.state();
            // The locks go with them.
            state.opened.clear();
            let front = state.front.take().map(|front| Arc::downgrade(&front));
            state.ended = Some(ended.as_ref().map(|_| ()).map_err(ToString::to_string));
            drop(state);
            // Whoever has told it to end lets go this moment, and then its socket, or its mount, is gone.
            let until = Instant::now() + LETTING_GO;
            while front.as_ref().is_some_and(|front| front.strong_count() > 0) && Instant::now() < until {
                std::thread::sleep(Duration::from_millis(1));
            }
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
                    images: self.opened().iter().map(|opened| PathData::from(opened.path())).collect(),
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
            Ask::Grow { size, image } => {
                let _turn = self.changing.lock().unwrap_or_else(PoisonError::into_inner);
                let opened = self.opened();
                let is_meant =
                    |opened: &&Arc<Opened>| image.as_ref().is_none_or(|image| is_same(opened.path(), &image.to_path()));
                let meant: Vec<_> = opened.iter().filter(is_meant).collect();
                let [opened] = &*meant else {
                    return failed(format!("{} disks that this may mean are attached here", meant.len()));
                };
                match opened.grow(size) {
                    Ok(()) => {
                        front.has_grown();
                        let devices = front.devices();
                        events(Event::Grown { size, devices: devices.clone() });
                        Answer::Grown { size, devices }
                    }
                    Err(error) => failed(error.to_string()),
                }
            }
            Ask::TakeCheckpoint { request, plan } => {
                let _turn = self.changing.lock().unwrap_or_else(PoisonError::into_inner);
                // The end may have come first.
                let opened = self.opened();
                match self.front() {
                    Some(_) => checkpoint::answer(&opened, &request, plan, events),
                    None => Answer::Ending,
                }
            }
        }
    }

    /// Looks now and then at the room that is left, and whether those who kept it from ending have let go.
    fn watch(&self, events: &(dyn Fn(Event) + Sync)) {
        let scratch = self.opened().iter().find_map(|opened| opened.scratch().map(Path::to_owned));
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
