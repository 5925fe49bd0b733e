//! `zsap expose`: its arguments.

use std::path::PathBuf;

use clap::Args as ArgGroup;
use zestful_sapling::family::Override;

use super::attach::Attaching;
use super::disk::DiskOption;
use super::overrides::overrides;

/// What is typed after `zsap expose`.
///
/// The folder shows the disk as `disk.raw` and its partitions as `part1`, `part2` and so on, for the host's own tools,
/// until `zsap detach`, an interrupt, or a polite kill ends it: then all that was written is made durable.
#[derive(Debug, ArgGroup)]
pub(crate) struct Expose {
    /// The image, with all that it reads through, or the folder of a machine
    pub(crate) path: PathBuf,
    /// An empty folder in which the disk is shown
    pub(crate) folder: PathBuf,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
    #[command(flatten)]
    pub(crate) attaching: Attaching,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["ending", "unknown-children", "in-use", "hard-links", "saved-state"])
    )]
    pub(crate) force: Vec<Override>,
}
