//! What `zsap check` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::FormatOption;

#[derive(Clone, Debug, Args)]
pub(crate) struct Check {
    /// Images
    #[arg(required = true)]
    pub(crate) path: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) format: FormatOption,
}
