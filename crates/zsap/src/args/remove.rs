//! What `zsap remove` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::LettingGoOptions;

#[derive(Clone, Debug, Args)]
pub(crate) struct Remove {
    /// The image
    pub(crate) path: PathBuf,
    #[command(flatten)]
    pub(crate) options: LettingGoOptions,
}
