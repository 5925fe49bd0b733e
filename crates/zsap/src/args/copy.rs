//! What `zsap copy` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::disk::DiskOption;
use super::options::ImageOptions;
use super::overrides::overrides;
use super::values::{Depth, IdentityName, size};

#[derive(Clone, Debug, Args)]
pub(crate) struct Copy {
    /// The current image of the disk, a block device, the descriptor of a disk in pieces, the folder of a machine, or -
    /// for the bytes of a raw disk from standard input
    pub(crate) source: PathBuf,
    /// The new file, whose ending names the format, a block device, or - for the bytes of a raw disk on standard
    /// output; with --depth chain a new folder
    pub(crate) target: PathBuf,
    /// From standard input: how large the disk is; of a file that need not be said
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) size: Option<u64>,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
    #[command(flatten)]
    pub(crate) image: ImageOptions,
    /// Whether the copy has an identity of its own [default: fresh]
    #[arg(long, value_enum)]
    pub(crate) identity: Option<IdentityName>,
    /// How much of a chain becomes one image [default: disk]
    #[arg(long, value_enum)]
    pub(crate) depth: Option<Depth>,
    /// Keep only what differs from this image, as a child of it
    #[arg(
        long, value_name = "BASE",
        conflicts_with_all = ["format", "kind", "sectors", "space", "piece_size", "identity", "depth"]
    )]
    pub(crate) onto: Option<PathBuf>,
    /// With --onto: record the base's absolute path as well as the relative one
    #[arg(long, requires = "onto")]
    pub(crate) absolute: bool,
    /// Read the copy back and compare it before it appears
    #[arg(long)]
    pub(crate) verify: bool,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["ending", "sectors", "in-use", "unrecorded-child", "hard-links"])
    )]
    pub(crate) force: Vec<Override>,
}
