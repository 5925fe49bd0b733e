//! What `zsap abandon` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::WorkOptions;

#[derive(Clone, Debug, Args)]
pub(crate) struct Abandon {
    /// An image that takes part, its journal, or a folder where one thing is under way
    pub(crate) path: PathBuf,
    #[command(flatten)]
    pub(crate) options: WorkOptions,
}
