//! What `zsap show` is given.

use std::path::PathBuf;

use clap::Args;

use super::disk::DiskOption;
use super::options::{DepthOption, FormatOption};

#[derive(Clone, Debug, Args)]
pub(crate) struct Show {
    /// Images or folders; with --disk or --checkpoint the folder of a machine
    #[arg(required = true)]
    pub(crate) path: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) depth: DepthOption,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
    #[command(flatten)]
    pub(crate) format: FormatOption,
}
