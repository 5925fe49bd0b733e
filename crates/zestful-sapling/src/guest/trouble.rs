//! Why something inside a volume cannot be read.

use crate::error::Error;

/// Why something inside a volume cannot be read.
#[derive(Debug)]
pub(super) enum Trouble {
    /// It breaks the rules of its file system.
    Damaged(String),
    /// It needs what is not known here.
    Unsupported(String),
    /// A crate has panicked over it, and must be begun anew.
    Panicked(String),
    /// What lies below the volume could not be read, or whoever asked has had enough.
    Failed(Error),
}

impl From<Error> for Trouble {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}
