//! What `zsap check` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::{DepthOption, FormatOption};

/// Quick by default: structures only. Exit status: 0 sound, 3 damage was found.
#[derive(Clone, Debug, Args)]
pub(crate) struct Check {
    /// Images, and folders whose images are meant
    #[arg(required = true)]
    pub(crate) path: Vec<PathBuf>,
    /// Read all content as well: what the host cannot read, what is not as it was pinned, pieces that changed
    #[arg(long)]
    pub(crate) data: bool,
    /// Also tell which partitions, structures and files the damage hits, and how much of it is free space
    #[arg(long)]
    pub(crate) impact: bool,
    #[command(flatten)]
    pub(crate) depth: DepthOption,
    #[command(flatten)]
    pub(crate) format: FormatOption,
}
