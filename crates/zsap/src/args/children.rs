//! What `zsap children` is given.

use std::path::PathBuf;

use clap::Args;

use super::disk::DiskOption;
use super::options::SearchOption;

#[derive(Clone, Debug, Args)]
pub(crate) struct Children {
    /// The image, or the folder of a machine
    pub(crate) image: PathBuf,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
    #[command(flatten)]
    pub(crate) search: SearchOption,
}
