//! What `zsap tree` is given.

use std::path::PathBuf;

use clap::Args;

use super::disk::DiskOption;
use super::options::DepthOption;

#[derive(Clone, Debug, Args)]
pub(crate) struct Tree {
    /// An image or a folder
    #[arg(default_value = ".")]
    pub(crate) path: PathBuf,
    #[command(flatten)]
    pub(crate) depth: DepthOption,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
}
