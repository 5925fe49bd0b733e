//! Programs of the host, run as the calling user: waited for, and ended with all that they have started.

use std::io::{self, Read};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process_group};

use crate::error::{Error, Result};
use crate::progress::Progress;

/// Where the host's own programs are; whatever the caller's environment says of others is not looked at.
const FOLDERS: [&str; 6] = ["/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"];
/// Of what a program says so much is told.
const MOST_TOLD: u64 = 2000;

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

/// Where the host has its own program of this name.
pub(crate) fn find(program: &str) -> Option<PathBuf> {
    find_in(&FOLDERS, program)
}

fn find_in(folders: &[&str], program: &str) -> Option<PathBuf> {
    folders.iter().map(|folder| Path::new(folder).join(program)).find(|path| path.is_file())
}

/// A program that runs with the calling user's rights and an empty environment.
pub(crate) fn command(program: &Path) -> Command {
    let mut command = Command::new(program);
    command.env_clear().env("PATH", FOLDERS.join(":")).env("LC_ALL", "C.UTF-8");
    command.stdin(Stdio::null()).process_group(0);
    command
}

/// Runs it to its end.
///
/// # Errors
/// `Io` with what the program said, when it was not content; `Cancelled`, and then it was ended.
pub(crate) fn run(mut command: Command, program: &Path, progress: &Progress) -> Result<()> {
    let failed = |source: io::Error| Error::io("run", program, source);
    // What is wrong some say on one of the two, and some on the other.
    let (mut told, writer) = io::pipe().map_err(failed)?;
    command.stdout(writer.try_clone().map_err(failed)?).stderr(writer);
    let mut child = command.spawn().map_err(failed)?;
    // With its ends the pipe has none while this process runs.
    drop(command);
    let said = std::thread::spawn(move || {
        let mut text = Vec::new();
        _ = told.by_ref().take(MOST_TOLD).read_to_end(&mut text);
        // A program that nobody listens to any more would be ended by that.
        _ = io::copy(&mut told, &mut io::sink());
        String::from_utf8_lossy(&text).trim().to_owned()
    });
    let ended = wait_for(&mut child, Some(progress), None).map_err(failed)?;
    let said = said.join().unwrap_or_default();
    match ended {
        Ended::ByItself(status) if status.success() => Ok(()),
        Ended::Stopped(error) => Err(error),
        Ended::ByItself(status) => Err(failed(io::Error::other(match said.is_empty() {
            true => format!("it ended with {status}"),
            false => format!("it ended with {status}, and said: {said}"),
        }))),
        Ended::TooLate => Err(failed(io::ErrorKind::TimedOut.into())),
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_is_looked_for_in_the_folders_of_programs_alone() {
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().to_str().unwrap();
        assert_eq!(find_in(&[place], "mkfs.fen"), None);
        std::fs::write(folder.path().join("mkfs.fen"), "").unwrap();
        assert_eq!(find_in(&["/nowhere", place], "mkfs.fen"), Some(folder.path().join("mkfs.fen")));
    }
}
