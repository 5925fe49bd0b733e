//! What `zsap manual` is given.

use std::path::PathBuf;

use clap::Args;

#[derive(Clone, Debug, Args)]
pub(crate) struct Manual {
    /// The folder for the pages; it is made if it is not there, and pages of an older version are replaced
    pub(crate) folder: PathBuf,
}
