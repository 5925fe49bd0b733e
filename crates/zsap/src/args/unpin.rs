//! What `zsap unpin` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::SearchOption;

#[derive(Clone, Debug, Args)]
pub(crate) struct Unpin {
    /// The base
    pub(crate) base: PathBuf,
    #[command(flatten)]
    pub(crate) search: SearchOption,
}
