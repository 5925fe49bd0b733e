//! Commands of the host around a checkpoint: one has the guest let go of its disks, or come to rest; the other lets it
//! go on.

use std::io;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use super::folder::{Grove, check_new_name, lock};
use crate::error::{Error, Result};
use crate::program::{Ended, wait_for};
use crate::progress::Progress;
use crate::sidecar::{Owed, Owing};

/// How long a command may take, unless told otherwise.
pub const HOOK_TIMEOUT: Duration = Duration::from_secs(300);
/// What commands find of the environment of this process.
const PASSED_ON: [&str; 3] = ["PATH", "HOME", "LANG"];

/// Commands of the host around a checkpoint.
///
/// They are run as they are, a program and its arguments, without a shell; with nothing on standard input, what they
/// say going to standard error, and a small environment: `PATH`, `HOME`, `LANG`, `ZSAP_GROVE` with the machine's
/// folder, `ZSAP_CHECKPOINT` with the name, `ZSAP_STAGE` (`before` or `after`), and for the second `ZSAP_TAKEN` (`yes`
/// or `no`).
///
/// The second one runs whatever becomes of the first one and of the checkpoint. That it is to run is recorded in the
/// machine's folder before the first one runs; what it is, is not, so that nobody who can write there can have anything
/// run. One that is owed since its process was killed is told by [`status_of`](super::status_of), and never run by
/// itself.
#[derive(Clone, Debug, Default)]
pub struct Hooks {
    before: Vec<String>,
    after: Vec<String>,
    timeout: Option<Duration>,
}

impl Hooks {
    /// None.
    pub fn new() -> Self {
        Self::default()
    }

    /// Runs this program, with these arguments, before the checkpoint is taken.
    pub fn with_before(mut self, words: Vec<String>) -> Self {
        self.before = words;
        self
    }

    /// Runs this one at the end.
    pub fn with_after(mut self, words: Vec<String>) -> Self {
        self.after = words;
        self
    }

    /// Each may take so long; [`HOOK_TIMEOUT`] unless told otherwise.
    pub fn with_timeout(mut self, timeout: Duration) -> Self {
        self.timeout = Some(timeout);
        self
    }

    /// Runs the first one. Whatever is done then, [`Hooked::end`] is to be called after it.
    ///
    /// # Errors
    /// `Usage` when the folder is no grove, or has a checkpoint of that name; `Refused` when another process does the
    /// same; `Io` when the first one cannot be run, takes too long, or ends with a status but zero, and `Cancelled`:
    /// then the second one was run.
    pub fn begin(&self, folder: &Path, checkpoint: &str, progress: &Progress) -> Result<Hooked> {
        let grove = Grove::open(folder)?;
        // Nobody is put to rest for a checkpoint that cannot be taken.
        check_new_name(grove.catalogue(), checkpoint)?;
        let folder = grove.folder().to_owned();
        let (hooks, checkpoint) = (self.clone(), checkpoint.to_owned());
        let owing = if self.after.is_empty() {
            None
        } else {
            let _turn = lock(&folder)?;
            Some(Owed::begin(&folder, &checkpoint)?)
        };
        let hooked = Hooked { hooks, folder, checkpoint, owing };
        match hooked.run(&self.before, "before", None, Some(progress)) {
            Ok(()) => Ok(hooked),
            Err(error) => {
                // Why it ended is what counts; that the second one failed, too, is told by what is owed.
                _ = hooked.end(false);
                Err(error)
            }
        }
    }
}

/// The first command has run, and the second is owed.
#[derive(Debug)]
pub struct Hooked {
    hooks: Hooks,
    folder: PathBuf,
    checkpoint: String,
    owing: Option<Owing>,
}

impl Hooked {
    /// Runs the second one; it is told whether the checkpoint was taken.
    ///
    /// # Errors
    /// `Io` when it cannot be run, takes too long, or ends with a status but zero: it is owed then.
    pub fn end(self, taken: bool) -> Result<()> {
        self.run(&self.hooks.after, "after", Some(taken), None)?;
        self.owing.map_or(Ok(()), Owing::end)
    }

    fn run(&self, words: &[String], stage: &str, taken: Option<bool>, progress: Option<&Progress>) -> Result<()> {
        let Some((program, arguments)) = words.split_first() else { return Ok(()) };
        let failed = |source: io::Error| Error::io("run", Path::new(program), source);
        let mut command = Command::new(program);
        command.args(arguments).env_clear().stdin(Stdio::null()).stdout(io::stderr()).process_group(0);
        command.envs(PASSED_ON.iter().filter_map(|name| Some((name, std::env::var_os(name)?))));
        command.env("ZSAP_GROVE", &self.folder).env("ZSAP_CHECKPOINT", &self.checkpoint).env("ZSAP_STAGE", stage);
        if let Some(taken) = taken {
            command.env("ZSAP_TAKEN", if taken { "yes" } else { "no" });
        }
        let mut child = command.spawn().map_err(failed)?;
        let until = Instant::now() + self.hooks.timeout.unwrap_or(HOOK_TIMEOUT);
        match wait_for(&mut child, progress, Some(until)).map_err(failed)? {
            Ended::ByItself(status) if status.success() => Ok(()),
            Ended::ByItself(status) => Err(failed(ended(stage, status))),
            Ended::Stopped(error) => Err(error),
            Ended::TooLate => {
                let why = format!("the command {stage} the checkpoint did not end in time, and was ended");
                Err(failed(io::Error::new(io::ErrorKind::TimedOut, why)))
            }
        }
    }
}

fn ended(stage: &str, status: ExitStatus) -> io::Error {
    io::Error::other(format!("the command {stage} the checkpoint ended with {status}"))
}
