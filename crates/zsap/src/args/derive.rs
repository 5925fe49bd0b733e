//! What `zsap derive` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::disk::DiskOption;
use super::overrides::overrides;
use super::values::size;

#[derive(Clone, Debug, Args)]
pub(crate) struct Derive {
    /// The image to grow from; it becomes read-only on this host; or, with --checkpoint, the folder of a machine
    pub(crate) base: PathBuf,
    /// The new files
    #[arg(required = true)]
    pub(crate) child: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
    /// Record the base's absolute path as well as the relative one
    #[arg(long)]
    pub(crate) absolute: bool,
    /// The unit of allocation: 1M to 256M for vhdx, 512K or 2M for vhd [default: by the disk's size]
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) block_size: Option<u64>,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["unrecorded-child", "in-use", "hard-links"])
    )]
    pub(crate) force: Vec<Override>,
}
