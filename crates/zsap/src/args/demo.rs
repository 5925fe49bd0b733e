//! What `zsap demo` is given.

use std::path::PathBuf;

use clap::Args;

#[derive(Clone, Debug, Args)]
pub(crate) struct Demo {
    /// A new folder for it [default: harrow-fen in the host's temporary folder]
    pub(crate) folder: Option<PathBuf>,
}
