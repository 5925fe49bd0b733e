//! What `zsap remove` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::LettingGoOptions;

#[derive(Clone, Debug, Args)]
pub(crate) struct Remove {
    /// The images, those that others grow from behind those
    #[arg(required = true)]
    pub(crate) path: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) options: LettingGoOptions,
}
