//! What `zsap diff` is given.

use clap::Args;

use super::two_disks::TwoDisks;

#[derive(Clone, Debug, Args)]
pub(crate) struct Diff {
    #[command(flatten)]
    pub(crate) disks: TwoDisks,
    /// Read what may differ and compare it; without, the tables alone tell
    #[arg(long)]
    pub(crate) contents: bool,
    /// Also name the partitions, structures and files that lie in what differs, of both
    #[arg(long)]
    pub(crate) files: bool,
}
