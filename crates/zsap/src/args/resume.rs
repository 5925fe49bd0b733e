//! What `zsap resume` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::WorkOptions;

#[derive(Clone, Debug, Args)]
pub(crate) struct Resume {
    /// An image that takes part, its journal, or a folder where one thing is under way
    pub(crate) path: PathBuf,
    #[command(flatten)]
    pub(crate) options: WorkOptions,
}
