//! What can go wrong, in families that ask for different answers.
//!
//! *Damaged* wants `check` and a backup, *unsupported* a newer version, *usage* another call,
//! *refused* a decision by the user, and *I/O* a look at the host.

use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::finding::{Class, Finding};
pub use crate::finding::{ParentProblem, ParentProblemKind};
pub use crate::inside::{InsideProblem, InsideProblemKind};
pub use crate::refusal::{Hold, Holder, Refusal};
use crate::size::NotASize;

/// The result of every fallible call of this library.
pub type Result<T> = std::result::Result<T, Error>;

/// Why a call did not succeed. The text of each says what, where, why and what to do next.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The bytes of an image break the rules of its format.
    #[error("{0}")]
    Damaged(Box<Finding>),
    /// The image is well formed but needs something that this version does not know.
    #[error("{0}")]
    Unsupported(Box<Finding>),
    /// A parent in a chain is missing, is another disk than recorded, or leads in a circle.
    #[error("{0}")]
    Parent(Box<ParentProblem>),
    /// What lies inside a disk is not there, is damaged, or cannot be read here.
    #[error("{0}")]
    Inside(Box<InsideProblem>),
    /// The call itself asks for something impossible.
    #[error("{0}")]
    Usage(Box<Advice>),
    /// Possible, but not safe: the reason is told and nothing was changed.
    #[error("{1}")]
    Refused(Refusal, Box<Advice>),
    /// The host's file system answered with an error.
    #[error("cannot {action} {}", path.display())]
    Io {
        /// What was being done, as a verb: "read", "open for writing".
        action: String,
        /// The file.
        path: PathBuf,
        /// What the host said.
        #[source]
        source: io::Error,
    },
    /// Work on a block device ended before it was done.
    #[error(
        "{} was begun and shows no disk now: begin again, nothing of its old content is left to rely on",
        path.display()
    )]
    Unfinished {
        /// The device.
        path: PathBuf,
        /// Why it ended.
        source: Box<Error>,
    },
    /// Work on several files was begun and is not finished; whatever reads them reads as before.
    #[error(
        "what was begun with {} is not finished, and it reads as before; it can be carried on, or given up",
        path.display()
    )]
    UnderWay {
        /// The image.
        path: PathBuf,
        /// Why it ended.
        source: Box<Error>,
    },
    /// What was read back from a new copy is not what was written into it; the copy was thrown away.
    #[error(
        "{}: what is read back differs from what was written: the host's disk or memory cannot be trusted; the copy is \
         thrown away, check the host before the next one",
        path.display()
    )]
    VerifyFailed {
        /// The copy.
        path: PathBuf,
    },
    /// A thread of this work ended without a reason, which is a fault of this program.
    #[error("a part of the work ended before its time and left no reason; nothing was left half-made, report this")]
    WorkerEnded,
    /// The work was stopped on request; nothing half-made is left under a final name.
    #[error("stopped on request before it was done; nothing was left half-made")]
    Cancelled,
}

/// A message and what to do about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Advice {
    /// What happened and why.
    pub message: String,
    /// The next step; may be empty.
    pub advice: String,
}

impl std::fmt::Display for Advice {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.message)?;
        if !self.advice.is_empty() {
            write!(f, "; {}", self.advice)?;
        }
        Ok(())
    }
}

/// A finding that ends the work, as an error of the family that it belongs to.
impl From<Finding> for Error {
    fn from(finding: Finding) -> Self {
        match finding.kind.rule().class {
            Class::Unsupported => Error::Unsupported(Box::new(finding)),
            _ => Error::Damaged(Box::new(finding)),
        }
    }
}

/// A text that is no size is a wrong call.
impl From<NotASize> for Error {
    fn from(wrong: NotASize) -> Self {
        Error::usage(wrong.to_string(), NotASize::ADVICE)
    }
}

impl Error {
    /// An error of the host for `path`.
    pub(crate) fn io(action: impl Into<String>, path: &Path, source: io::Error) -> Self {
        Error::Io { action: action.into(), path: path.to_owned(), source }
    }

    /// A call that asks for something impossible.
    pub fn usage(message: impl Into<String>, advice: impl Into<String>) -> Self {
        Error::Usage(Box::new(Advice { message: message.into(), advice: advice.into() }))
    }

    /// Something possible that is not safe.
    pub fn refused(why: Refusal, message: impl Into<String>, advice: impl Into<String>) -> Self {
        Error::Refused(why, Box::new(Advice { message: message.into(), advice: advice.into() }))
    }

    /// The end of work on a block device whose content is no longer what it was.
    pub(crate) fn on_device(self, path: &Path) -> Self {
        Error::Unfinished { path: path.to_owned(), source: Box::new(self) }
    }

    /// The end of work that can be carried on.
    pub(crate) fn under_way(self, path: &Path) -> Self {
        Error::UnderWay { path: path.to_owned(), source: Box::new(self) }
    }

    pub(crate) fn parent(child: &Path, kind: ParentProblemKind) -> Self {
        Error::Parent(Box::new(ParentProblem { child: child.to_owned(), kind }))
    }
}

/// What an error is about, which decides what is to be done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum ErrorFamily {
    /// The bytes of a file break the rules of its format.
    Damaged,
    /// A file needs something that this version does not know.
    Unsupported,
    /// A parent is missing, or is another image than recorded.
    Parent,
    /// The call asks for something impossible.
    Usage,
    /// It is not safe, and somebody has to decide.
    Refused,
    /// Somebody stopped it.
    Stopped,
    /// The host, or this program, has failed.
    Host,
}

impl ErrorFamily {
    /// Its name, for scripts.
    pub fn name(self) -> &'static str {
        match self {
            Self::Damaged => "damaged",
            Self::Unsupported => "unsupported",
            Self::Parent => "parent",
            Self::Usage => "usage",
            Self::Refused => "refused",
            Self::Stopped => "stopped",
            Self::Host => "host",
        }
    }
}

impl Error {
    /// What it is about; of work that was begun, why that ended.
    pub fn family(&self) -> ErrorFamily {
        match self {
            Error::Damaged(_) => ErrorFamily::Damaged,
            Error::Inside(problem) => match problem.kind {
                InsideProblemKind::Damaged(_) => ErrorFamily::Damaged,
                InsideProblemKind::NotRead(_)
                | InsideProblemKind::Unsupported(_)
                | InsideProblemKind::Unknown
                | InsideProblemKind::NotTrusted(_)
                | InsideProblemKind::Lost(_) => ErrorFamily::Unsupported,
                _ => ErrorFamily::Usage,
            },
            Error::Unsupported(_) => ErrorFamily::Unsupported,
            Error::Parent(_) => ErrorFamily::Parent,
            Error::Usage(_) => ErrorFamily::Usage,
            Error::Refused(..) => ErrorFamily::Refused,
            Error::Cancelled => ErrorFamily::Stopped,
            Error::Unfinished { source, .. } | Error::UnderWay { source, .. } => source.family(),
            Error::Io { .. } | Error::VerifyFailed { .. } | Error::WorkerEnded => ErrorFamily::Host,
        }
    }

    /// The message together with all its causes, as one text for a user.
    ///
    /// ```
    /// use zestful_sapling::chain::{Chain, OpenOptions};
    /// let Err(error) = Chain::open("/nothing/here.vhdx".as_ref(), &OpenOptions::new()) else { unreachable!() };
    /// assert_eq!(error.to_string(), "cannot open /nothing/here.vhdx");
    /// assert!(error.with_causes().starts_with("cannot open /nothing/here.vhdx: No such file"));
    /// ```
    pub fn with_causes(&self) -> String {
        match self {
            // What was begun is told after the reason that ended it.
            Error::Unfinished { source, .. } | Error::UnderWay { source, .. } => {
                format!("{}; {self}", source.with_causes())
            }
            _ => {
                let mut text = self.to_string();
                let mut cause = std::error::Error::source(self);
                while let Some(next) = cause {
                    text = format!("{text}: {next}");
                    cause = next.source();
                }
                text
            }
        }
    }

    /// The same with the file named in its finding, if it has one.
    pub(crate) fn at(mut self, path: &Path) -> Self {
        if let Error::Damaged(finding) | Error::Unsupported(finding) = &mut self {
            finding.path.get_or_insert_with(|| path.to_owned());
        }
        self
    }
}
