//! What is wrong with a parent.

use std::path::PathBuf;

/// A parent that cannot be used.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ParentProblem {
    /// The image whose parent it is.
    pub child: PathBuf,
    /// What is wrong.
    pub kind: ParentProblemKind,
}

/// What is wrong with a parent.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ParentProblemKind {
    /// No file stands at any recorded path, nor under that name beside the child.
    Missing {
        /// Where was looked.
        tried: Vec<PathBuf>,
        /// The paths as the child records them.
        recorded: Vec<String>,
    },
    /// A file is there, but it is not the disk that the child was made from.
    Mismatch {
        /// The file that was found.
        parent: PathBuf,
        /// The data identity that the child recorded.
        expected: String,
        /// The data identity that the file has now.
        found: String,
    },
    /// The file found as the parent cannot be opened.
    Unreadable {
        /// The file that was found.
        parent: PathBuf,
        /// Why it cannot be opened.
        reason: String,
    },
    /// The chain leads back to an image that is already part of it.
    Cycle {
        /// The file that comes up twice.
        again: PathBuf,
    },
    /// The chain is longer than any sensible one.
    TooDeep {
        /// The limit.
        limit: usize,
    },
    /// Child and parent disagree on the logical sector size.
    SectorSize {
        /// The parent.
        parent: PathBuf,
        /// The child's logical sector size in bytes.
        child_bytes: u32,
        /// The parent's logical sector size in bytes.
        parent_bytes: u32,
    },
}

impl std::fmt::Display for ParentProblem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.child.display(), self.kind)
    }
}

impl std::fmt::Display for ParentProblemKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Missing { tried, recorded } => {
                let list = |items: Vec<String>| match items.is_empty() {
                    true => "none that this host can follow".to_owned(),
                    false => items.join(", "),
                };
                write!(
                    f,
                    "its parent was not found; recorded as {}, looked at {}; it may have been moved or \
                     renamed: find it by its identity, or put it back",
                    list(recorded.clone()),
                    list(tried.iter().map(|p| p.display().to_string()).collect()),
                )
            }
            Self::Mismatch { parent, expected, found } => write!(
                f,
                "{} is not the parent that this child was made from (data identity {found}, expected \
                 {expected}); the parent was changed since, or is another disk, so that nothing read through it is \
                 certain: restore it from a copy, or find the right one by its identity",
                parent.display()
            ),
            Self::Unreadable { parent, reason } => {
                write!(f, "its parent {} cannot be opened: {reason}", parent.display())
            }
            Self::Cycle { again } => write!(
                f,
                "the chain of parents leads back to {}; a disk cannot be its own ancestor, one of these \
                 files stands in for another: restore it from a copy",
                again.display()
            ),
            Self::TooDeep { limit } => {
                write!(f, "the chain of parents is deeper than {limit} layers, which no sound chain is")
            }
            Self::SectorSize { parent, child_bytes, parent_bytes } => write!(
                f,
                "it has {child_bytes}-byte sectors, but its parent {} has {parent_bytes}-byte ones; they \
                 cannot belong together",
                parent.display()
            ),
        }
    }
}
