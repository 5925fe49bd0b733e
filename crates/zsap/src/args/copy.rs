//! What `zsap copy` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::ImageOptions;
use super::values::{Depth, IdentityName};

#[derive(Clone, Debug, Args)]
pub(crate) struct Copy {
    /// The current image of the disk, a block device, or the descriptor of a disk in pieces
    pub(crate) source: PathBuf,
    /// The new file, whose ending names the format, or a block device; with --depth chain a new folder
    pub(crate) target: PathBuf,
    #[command(flatten)]
    pub(crate) image: ImageOptions,
    /// Whether the copy has an identity of its own [default: fresh]
    #[arg(long, value_enum)]
    pub(crate) identity: Option<IdentityName>,
    /// How much of a chain becomes one image [default: disk]
    #[arg(long, value_enum)]
    pub(crate) depth: Option<Depth>,
    /// Read the copy back and compare it before it appears
    #[arg(long)]
    pub(crate) verify: bool,
}
