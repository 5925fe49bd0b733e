//! What `serve` and `expose` have in common: a disk is opened for others, and is theirs until the end.

use std::io::{self, BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Stdio};
use std::sync::{Arc, Mutex};

use serde_json::Value;
use zestful_sapling::family::{Guard, Override};
use zestful_sapling::image::{Format, check_ending};
use zestful_sapling_attach::{ControlSocket, Front, Mode, Opened, Opening, Session};

use crate::args::attach::Attaching;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::events::Told;
use crate::report::text;
use crate::watch;

/// A disk that is to be opened for others.
pub(super) struct AttachedDisk<'a> {
    pub(super) path: &'a Path,
    /// Instead of that of its file.
    pub(super) name: Option<&'a str>,
    /// The one that its machine knows.
    pub(super) format: Option<Format>,
    pub(super) mode: Mode,
}

/// Opens a disk for others.
pub(super) fn open(
    console: &Console,
    disk: &AttachedDisk<'_>,
    typed: &Attaching,
    overrides: &[Override],
) -> Result<Opened, Failure> {
    // A mount must not be left behind by a signal that comes early.
    watch::note_stops();
    let format: Option<Format> = typed.format.map(Into::into).or(disk.format);
    if typed.format.is_some() && !overrides.contains(&Override::Ending) {
        check_ending(disk.path, format)?;
    }
    let guard = overrides.iter().copied().fold(Guard::new().with_search(typed.search.search()), Guard::with_override);
    let opening = Opening::new(disk.path, disk.mode).with_guard(guard).with_scratch(&typed.scratch);
    let opening = format.into_iter().fold(opening, Opening::with_format);
    let opening = disk.name.into_iter().fold(opening, Opening::with_name);
    Ok(watch::patiently(console, || opening.open())?)
}

/// What may go wrong later for want of room.
fn warn_of_room(console: &Console, opened: &Opened) {
    let Some(room) = opened.room().filter(|room| room.most > room.free) else { return };
    console.warn(&format!(
        "{} more can be written to it, and {} has room for {}",
        console.size(room.most),
        room.place.display(),
        console.size(room.free)
    ));
}

/// Has others use a disk through `front` until the end; `first` is told when they may.
pub(super) fn run(
    console: &Console,
    path: &Path,
    typed: &Attaching,
    front: Arc<dyn Front>,
    opened: Vec<Opened>,
    first: &First,
) -> Result<Outcome, Failure> {
    // Without one the disk is there all the same; only nobody lists it.
    let control = ControlSocket::new().inspect_err(|error| console.warn(&format!("it cannot be listed: {error}"))).ok();
    let teller = Teller { console, is_quiet: typed.detached, turn: Mutex::new(()) };
    opened.iter().for_each(|opened| warn_of_room(console, opened));
    let session = Session::new(path, front, opened);
    let stopped = session.clone();
    watch::on_stop(move |again| if again { stopped.stop_at_once() } else { stopped.stop() });
    teller.first(first)?;
    // Whoever started it that way waits for this.
    _ = sd_notify::notify(&[sd_notify::NotifyState::Ready]);
    let ended = session.run(control.as_ref(), &|event| teller.tell(&Told::Happened(event)));
    _ = sd_notify::notify(&[sd_notify::NotifyState::Stopping]);
    ended?;
    teller.tell(&Told::Ended { kept: typed.mode() != Mode::Throwaway });
    Ok(Outcome::Done)
}

/// What is said when others may use the disk.
pub(super) struct First {
    /// For people.
    pub(super) lines: Vec<String>,
    /// For scripts.
    pub(super) told: Told,
}

/// Starts the same command on its own, and passes on what it says when others may use the disk; `target` is what would
/// end it.
pub(super) fn in_background(console: &Console, target: &Path) -> Result<Outcome, Failure> {
    let words = std::env::args_os().skip(1).filter(|word| word != "--background");
    let mut started = std::process::Command::new(std::env::current_exe()?)
        .args(words)
        .arg("--detached")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .spawn()?;
    let out = started.stdout.take().map(BufReader::new);
    let mut lines: Vec<String> = out.into_iter().flat_map(BufRead::lines).map_while(Result::ok).collect();
    if lines.is_empty() {
        return Err(Failure::Told(failed(&mut started)));
    }
    // What it warned of before is not lost.
    if let Some(mut told) = started.stderr.take() {
        _ = io::copy(&mut told, &mut io::stderr());
    }
    let process = started.id();
    if console.json() {
        let mut value: serde_json::Map<String, Value> = serde_json::from_str(&lines[0]).map_err(io::Error::other)?;
        value.remove("event");
        value.insert("process".to_owned(), process.into());
        console.document(&value)?;
        return Ok(Outcome::Done);
    }
    lines.push(format!("process {process} goes on until: zsap detach {}", text::path(target)));
    console.say(lines)?;
    Ok(Outcome::Done)
}

/// How one that did not come so far ended; what it had to say is passed on.
fn failed(started: &mut Child) -> u8 {
    if let Some(mut told) = started.stderr.take() {
        _ = io::copy(&mut told, &mut io::stderr());
    }
    let status = started.wait().ok().and_then(|status| status.code());
    status.and_then(|code| u8::try_from(code).ok()).unwrap_or(1)
}

/// Tells what happens: lines for people, one JSON object a line for scripts.
struct Teller<'a> {
    console: &'a Console,
    /// One in the background has nobody who reads on.
    is_quiet: bool,
    /// Whole lines take turns.
    turn: Mutex<()>,
}

impl Teller<'_> {
    fn first(&self, first: &First) -> io::Result<()> {
        if self.is_quiet {
            match self.console.json() {
                true => writeln_out(&serde_json::to_string(&first.told)?)?,
                false => first.lines.iter().try_for_each(|line| writeln_out(line))?,
            }
            return close_output();
        }
        match self.console.json() {
            true => self.console.line(&first.told),
            false => self.console.say(&first.lines),
        }
    }

    fn tell(&self, told: &Told) {
        let _turn = self.turn.lock();
        if self.is_quiet {
            return self.console.note(&told.to_string());
        }
        // With standard output gone the others are still there.
        _ = match self.console.json() {
            true => self.console.line(told),
            false => self.console.say([text::now() + "  " + &text::safe(&told.to_string())]),
        };
    }
}

fn writeln_out(line: &str) -> io::Result<()> {
    use io::Write;
    writeln!(io::stdout(), "{line}")
}

/// Whoever waits for the end of what is said goes on; nothing is written to a pipe that nobody reads.
fn close_output() -> io::Result<()> {
    let nothing = std::fs::OpenOptions::new().read(true).write(true).open("/dev/null")?;
    rustix::stdio::dup2_stdout(&nothing)?;
    rustix::stdio::dup2_stderr(&nothing)?;
    Ok(())
}
