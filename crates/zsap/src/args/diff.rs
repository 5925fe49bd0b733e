//! What `zsap diff` is given.

use std::path::PathBuf;

use clap::Args;

#[derive(Clone, Debug, Args)]
pub(crate) struct Diff {
    /// One image
    pub(crate) one: PathBuf,
    /// The other
    pub(crate) other: PathBuf,
    /// Read what may differ and compare it; without, the tables alone tell
    #[arg(long)]
    pub(crate) contents: bool,
}
