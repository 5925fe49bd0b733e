//! What `zsap diff` is given.

use std::path::PathBuf;

use clap::Args;

#[derive(Clone, Debug, Args)]
pub(crate) struct Diff {
    /// One image; or the folder of a machine, of which a disk is compared with itself at a checkpoint
    pub(crate) one: PathBuf,
    /// The other
    #[arg(required_unless_present = "checkpoint", conflicts_with = "checkpoint")]
    pub(crate) other: Option<PathBuf>,
    /// Of the machine in that folder, the disk with this label; the only one need not be named
    #[arg(long, value_name = "LABEL")]
    pub(crate) disk: Option<String>,
    /// The disk at this checkpoint, against another checkpoint or the present; may be given twice
    #[arg(long, value_name = "NAME")]
    pub(crate) checkpoint: Vec<String>,
    /// Read what may differ and compare it; without, the tables alone tell
    #[arg(long)]
    pub(crate) contents: bool,
}
