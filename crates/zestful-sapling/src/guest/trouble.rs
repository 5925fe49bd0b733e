//! Why something inside a volume cannot be read.

use crate::error::Error;

/// Why something inside a volume cannot be read.
#[derive(Debug)]
pub(super) enum Trouble {
    /// It breaks the rules of its file system.
    Damaged(String),
    /// It needs what is not known here.
    Unsupported(String),
    /// What lies below the volume could not be read, or whoever asked has had enough.
    Failed(Error),
}

impl std::fmt::Display for Trouble {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Failed(error) => f.write_str(&error.with_causes()),
            Self::Damaged(what) => write!(f, "damaged: {what}"),
            Self::Unsupported(what) => f.write_str(what),
        }
    }
}

impl From<Error> for Trouble {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}
