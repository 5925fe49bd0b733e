//! What `zsap identity` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::WriteOptions;

#[derive(Clone, Debug, Args)]
pub(crate) struct Identity {
    /// The image
    pub(crate) path: PathBuf,
    /// A new identity: no child of the other copy takes it for its parent, no guest for the same disk
    #[arg(long, required = true)]
    pub(crate) fresh: bool,
    #[command(flatten)]
    pub(crate) options: WriteOptions,
}
