//! The control socket of a process that has a disk attached.

use std::io::{ErrorKind, Write};
use std::os::unix::net::UnixStream;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, poll};
use rustix::net::sockopt::socket_peercred;
use rustix::process::geteuid;

use super::protocol::{Answer, Ask, MOST_ASKED, PROTOCOL, Question, read_line};
use super::runtime::runtime_folder;
use crate::error::AttachError;
use crate::socket::UnixSocket;

/// The ending of its name, behind the number of the process.
pub(super) const ENDING: &str = "control";
/// Questions that are answered at a time, and how long each may take to come.
const MOST_AT_ONCE: usize = 16;
const PATIENCE: Duration = Duration::from_secs(5);

/// A socket at which this user and root ask what is attached, and have it ended.
pub struct ControlSocket {
    socket: UnixSocket,
    over: AtomicBool,
    wake: (UnixStream, UnixStream),
    busy: AtomicUsize,
}

impl ControlSocket {
    /// The one of this process, in the run-time folder of its user. It goes with the handle; one that a killed process
    /// left is cleared by whoever looks.
    ///
    /// # Errors
    /// As [`UnixSocket::bind`]; `NotOurs` when another user made the folder.
    pub fn new() -> Result<Self, AttachError> {
        let path = runtime_folder()?.join(format!("{}.{ENDING}", std::process::id()));
        let socket = UnixSocket::bind(&path, None)?;
        socket.listener.set_nonblocking(true).map_err(|e| AttachError::io("listen without waiting", e))?;
        let wake = UnixStream::pair().map_err(|e| AttachError::io("make a pair of sockets", e))?;
        Ok(Self { socket, over: AtomicBool::new(false), wake, busy: AtomicUsize::new(0) })
    }

    /// No new questions.
    pub(crate) fn stop(&self) {
        self.over.store(true, Ordering::Release);
        _ = (&self.wake.0).write(&[1]);
    }

    /// Has questions answered until it is stopped; those that came before are.
    pub(crate) fn run(&self, answer: &(dyn Fn(Ask) -> Answer + Sync)) {
        std::thread::scope(|scope| {
            while !self.over.load(Ordering::Acquire) {
                let mut waited =
                    [PollFd::new(&self.socket.listener, PollFlags::IN), PollFd::new(&self.wake.1, PollFlags::IN)];
                _ = poll(&mut waited, None);
                match self.socket.listener.accept() {
                    Ok((asker, _)) if self.may_ask(&asker) => {
                        self.busy.fetch_add(1, Ordering::Relaxed);
                        scope.spawn(move || {
                            // Whoever does not listen to the answer does without.
                            _ = attend(&asker, answer);
                            self.busy.fetch_sub(1, Ordering::Relaxed);
                        });
                    }
                    Ok(_) => {}
                    Err(error) if error.kind() == ErrorKind::WouldBlock => {}
                    Err(_) => std::thread::sleep(Duration::from_millis(20)),
                }
            }
        });
    }

    /// This user and root; the mode of socket and folder says the same, as long as nobody changes it.
    fn may_ask(&self, asker: &UnixStream) -> bool {
        let user = socket_peercred(asker).map(|peer| peer.uid);
        let is_known = user.is_ok_and(|user| user.is_root() || user == geteuid());
        is_known && self.busy.load(Ordering::Relaxed) < MOST_AT_ONCE
    }
}

fn attend(asker: &UnixStream, answer: &dyn Fn(Ask) -> Answer) -> std::io::Result<()> {
    asker.set_nonblocking(false)?;
    asker.set_write_timeout(Some(PATIENCE))?;
    let line = read_line(asker, MOST_ASKED, PATIENCE)?;
    let answer = match serde_json::from_slice::<Question>(&line) {
        Ok(question) if question.protocol != PROTOCOL => Answer::Failed {
            message: format!("protocol {} was spoken, and {PROTOCOL} is understood", question.protocol),
        },
        Ok(question) => answer(question.ask),
        Err(error) => Answer::Failed { message: format!("that is no question that is known here: {error}") },
    };
    let mut bytes = serde_json::to_vec(&answer)?;
    bytes.push(b'\n');
    let mut asker = asker;
    asker.write_all(&bytes)
}
