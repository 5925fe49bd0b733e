//! What `zsap status` is given.

use std::path::PathBuf;

use clap::Args;

#[derive(Clone, Debug, Args)]
pub(crate) struct Status {
    /// A folder
    #[arg(default_value = ".")]
    pub(crate) folder: PathBuf,
}
