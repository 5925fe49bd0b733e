//! What `zsap move` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::WorkOptions;

#[derive(Clone, Debug, Args)]
pub(crate) struct Move {
    /// The image
    pub(crate) source: PathBuf,
    /// Its new name, or a folder on the same file system
    pub(crate) target: PathBuf,
    #[command(flatten)]
    pub(crate) options: WorkOptions,
}
