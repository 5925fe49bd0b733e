//! What the end of a command means to a script.

use std::process::ExitCode;

use zestful_sapling::Error;

use crate::advice;
use crate::console::Console;

/// How a command that did not fail ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Outcome {
    Done,
    FoundDamage,
}

/// Why a command failed.
#[derive(Debug)]
pub(crate) enum Failure {
    Library(Error),
    /// Writing the output failed.
    Output(std::io::Error),
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

/// The family of an error, for scripts.
fn kind(error: &Error) -> &'static str {
    match error {
        Error::Damaged(_) => "damaged",
        Error::Unsupported(_) => "unsupported",
        Error::Parent(_) => "parent",
        Error::Usage(_) => "usage",
        Error::Refused(..) => "refused",
        Error::Cancelled => "stopped",
        Error::Unfinished { source, .. } | Error::UnderWay { source, .. } => kind(source),
        _ => "host",
    }
}

fn status(error: &Error) -> u8 {
    match error {
        Error::Usage(_) => 2,
        Error::Refused(..) => 4,
        Error::UnderWay { source, .. } => status(source),
        _ => 1,
    }
}

pub(crate) fn settle(console: &Console, result: Result<Outcome, Failure>) -> ExitCode {
    match result {
        Ok(Outcome::Done) => ExitCode::SUCCESS,
        Ok(Outcome::FoundDamage) => ExitCode::from(3),
        // Whoever read the output has seen enough.
        Err(Failure::Output(error)) if error.kind() == std::io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(Failure::Output(error)) => {
            console.error(&format!("cannot write the output: {error}"));
            ExitCode::FAILURE
        }
        Err(Failure::Library(error)) => {
            let (message, next) = (error.with_causes(), advice::next(&error));
            console.error(&message);
            if let Some(next) = &next {
                console.hint(next);
            }
            if console.json() {
                let told = serde_json::json!({ "kind": kind(&error), "message": message, "next": next });
                // Standard output may be gone as well; the exit status still tells.
                _ = console.document(&serde_json::json!({ "error": told }));
            }
            ExitCode::from(status(&error))
        }
    }
}
