//! Programs of the host, run as the calling user: waited for, and ended with all that they have started.

use std::io;
use std::process::{Child, ExitStatus};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process_group};

use crate::error::Error;
use crate::progress::Progress;

/// How often it is looked whether one has ended.
const BETWEEN_LOOKS: Duration = Duration::from_millis(20);
/// How long one that was told to end may take before it is ended.
const GRACE: Duration = Duration::from_secs(5);

/// How a program came to its end.
pub(crate) enum Ended {
    ByItself(ExitStatus),
    /// It was ended, because somebody asked for that.
    Stopped(Error),
    /// It was ended, because it took too long.
    TooLate,
}

/// Waits for a program, which leads a process group of its own.
///
/// # Errors
/// What the host says when it cannot be waited for.
pub(crate) fn wait_for(child: &mut Child, progress: Option<&Progress>, until: Option<Instant>) -> io::Result<Ended> {
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(Ended::ByItself(status));
        }
        if let Err(error) = progress.map_or(Ok(()), Progress::check) {
            end_all(child);
            return Ok(Ended::Stopped(error));
        }
        if until.is_some_and(|until| Instant::now() > until) {
            end_all(child);
            return Ok(Ended::TooLate);
        }
        std::thread::sleep(BETWEEN_LOOKS);
    }
}

/// Ends a program with all that it has started: politely, and then not.
fn end_all(child: &mut Child) {
    let Some(group) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) else { return };
    _ = kill_process_group(group, Signal::TERM);
    let until = Instant::now() + GRACE;
    while matches!(child.try_wait(), Ok(None)) && Instant::now() < until {
        std::thread::sleep(BETWEEN_LOOKS);
    }
    _ = kill_process_group(group, Signal::KILL);
    _ = child.wait();
}
