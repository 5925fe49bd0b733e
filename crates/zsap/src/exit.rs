//! What the end of a command means to a script.

use std::process::ExitCode;

use zestful_sapling::Error;
use zestful_sapling::error::ErrorFamily;
use zestful_sapling::family::Health;
use zestful_sapling_attach::{AttachError, DetachError, GrowError, TakeError};

use crate::advice;
use crate::console::{Console, print_error, print_message};
use crate::report::json::ErrorTold;
use crate::tips;

/// How a command that did not fail ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Outcome {
    Done,
    /// Something is unfinished, or wants to be looked at.
    WantsALook,
    FoundDamage,
}

impl From<Health> for Outcome {
    fn from(state: Health) -> Self {
        match state {
            Health::Healthy => Self::Done,
            Health::Broken => Self::FoundDamage,
            _ => Self::WantsALook,
        }
    }
}

/// Why a command failed.
#[derive(Debug)]
pub(crate) enum Failure {
    Library(Error),
    /// Writing the output failed.
    Output(std::io::Error),
    /// A server could not begin.
    Attach(AttachError),
    /// What was to be detached is not.
    Detach(DetachError),
    /// A process that has a machine's disks open has not taken a checkpoint of it.
    Take(TakeError),
    /// A process that has a disk open has not made it larger.
    Grow(GrowError),
    /// It would lay open what is to be kept; the message says what to do.
    Unsafe(String),
    /// Another process of ours has told why, and ended with this status.
    Told(u8),
}

impl From<AttachError> for Failure {
    fn from(error: AttachError) -> Self {
        Self::Attach(error)
    }
}

impl From<DetachError> for Failure {
    fn from(error: DetachError) -> Self {
        Self::Detach(error)
    }
}

impl From<TakeError> for Failure {
    fn from(error: TakeError) -> Self {
        Self::Take(error)
    }
}

impl From<GrowError> for Failure {
    fn from(error: GrowError) -> Self {
        Self::Grow(error)
    }
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        Self::Library(error)
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        Self::Output(error)
    }
}

/// What a script learns of an error.
pub(crate) fn status(error: &Error) -> u8 {
    match error {
        Error::Usage(_) => 2,
        Error::Inside(_) if error.family() == ErrorFamily::Usage => 2,
        Error::Refused(..) => 4,
        Error::UnderWay { source, .. } => status(source),
        _ => 1,
    }
}

pub(crate) fn settle(console: &Console, result: Result<Outcome, Failure>) -> ExitCode {
    match result {
        Ok(Outcome::Done) => ExitCode::SUCCESS,
        Ok(Outcome::FoundDamage) => ExitCode::from(3),
        Ok(Outcome::WantsALook) => ExitCode::from(5),
        // Whoever read the output has seen enough.
        Err(Failure::Output(error)) if error.kind() == std::io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(Failure::Output(error)) => {
            console.error(&format!("cannot write the output: {error}"));
            ExitCode::FAILURE
        }
        Err(Failure::Told(status)) => ExitCode::from(status),
        Err(Failure::Unsafe(message)) => fail(console, "refused", message, 4),
        Err(Failure::Attach(error)) => match error {
            AttachError::Disk(error) => settle(console, Err(Failure::Library(error))),
            AttachError::SocketInUse { .. }
            | AttachError::NotASocket { .. }
            | AttachError::MountFolder { .. }
            | AttachError::NotOurs { .. } => fail(console, "refused", error.to_string(), 4),
            _ => fail(console, "host", error.to_string(), 1),
        },
        Err(Failure::Detach(error)) => match error {
            DetachError::Attach(error) => settle(console, Err(Failure::Attach(error))),
            DetachError::NotAttached { .. } | DetachError::Several { .. } => {
                fail(console, "usage", error.to_string(), 2)
            }
            DetachError::InUse { .. } => fail(console, "refused", error.to_string(), 4),
            _ => fail(console, "host", error.to_string(), 1),
        },
        Err(Failure::Grow(error)) => match error {
            GrowError::Attach(error) => settle(console, Err(Failure::Attach(error))),
            GrowError::NotGrown { .. } => fail(console, "refused", error.to_string(), 4),
            _ => fail(console, "host", error.to_string(), 1),
        },
        Err(Failure::Take(error)) => match error {
            TakeError::Attach(error) => settle(console, Err(Failure::Attach(error))),
            TakeError::Several { .. } => fail(console, "refused", error.to_string(), 4),
            TakeError::NotTaken { family, .. } => {
                let status = match family {
                    ErrorFamily::Usage => 2,
                    ErrorFamily::Refused => 4,
                    _ => 1,
                };
                fail(console, family.name(), error.to_string(), status)
            }
            _ => fail(console, "host", error.to_string(), 1),
        },
        Err(Failure::Library(error)) => {
            let (message, next) = (error.with_causes(), advice::next(&error));
            if console.json() {
                let told = ErrorTold { kind: error.family().name(), message, next: advice::first(&next) };
                console.error_document(told);
            } else {
                console.error(&message);
                advice::lines(&next, "  ").iter().for_each(|line| console.hint(line));
            }
            ExitCode::from(status(&error))
        }
    }
}

/// A failure about which nothing more can be said.
fn fail(console: &Console, kind: &'static str, message: String, status: u8) -> ExitCode {
    match console.json() {
        true => console.error_document(ErrorTold { kind, message, next: None }),
        false => console.error(&message),
    }
    ExitCode::from(status)
}

/// What was typed is none of what can be: told by the parser of arguments or, where JSON was asked for, as a document.
pub(crate) fn misused(error: &clap::Error) -> ExitCode {
    let asked_for_json = std::env::args_os().any(|word| word == "--json");
    if let Some(message) = tips::told(error) {
        match asked_for_json {
            true => _ = print_error(ErrorTold { kind: "usage", message, next: None }, Vec::new()),
            false => print_message(&message),
        }
        return ExitCode::from(2);
    }
    if !error.use_stderr() || !asked_for_json {
        _ = error.print();
    } else {
        let message = error.render().to_string();
        let message = message.trim().trim_start_matches("error: ");
        print_error(ErrorTold { kind: "usage", message: message.to_owned(), next: None }, Vec::new());
    }
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2))
}
