//! What `zsap children` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::SearchOption;

#[derive(Clone, Debug, Args)]
pub(crate) struct Children {
    /// The image
    pub(crate) image: PathBuf,
    #[command(flatten)]
    pub(crate) search: SearchOption,
}
