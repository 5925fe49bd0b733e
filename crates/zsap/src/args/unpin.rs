//! What `zsap unpin` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::SearchOption;

#[derive(Clone, Debug, Args)]
pub(crate) struct Unpin {
    /// The bases
    #[arg(required = true)]
    pub(crate) base: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) search: SearchOption,
}
