//! What `zsap compact` is given.

use clap::Args;
use zestful_sapling::family::Override;

use super::disk::CurrentDisk;
use super::overrides::overrides;

#[derive(Clone, Debug, Args)]
pub(crate) struct Compact {
    /// Also give back what the file systems inside mark as free, where they were unmounted and nothing is doubtful;
    /// what they have in use is not searched for zeros then
    #[arg(long)]
    pub(crate) unused: bool,
    /// Also give back what the parent holds as well
    #[arg(long)]
    pub(crate) same_as_parent: bool,
    /// Move nothing: have the host take the space back as holes in the file, also under parts smaller than a block
    #[arg(long)]
    pub(crate) holes_only: bool,
    /// Lay the blocks out in the order of the disk, so that reading it in order is reading the file in order
    #[arg(long, conflicts_with = "holes_only")]
    pub(crate) reorder: bool,
    #[command(flatten)]
    pub(crate) on: CurrentDisk,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&[
            "reserved-space", "ending", "unknown-children", "in-use", "hard-links", "saved-state",
        ])
    )]
    pub(crate) force: Vec<Override>,
}
