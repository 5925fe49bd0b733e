//! What `zsap unfreeze` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::LettingGoOptions;

#[derive(Clone, Debug, Args)]
pub(crate) struct Unfreeze {
    /// The image
    pub(crate) image: PathBuf,
    #[command(flatten)]
    pub(crate) options: LettingGoOptions,
}
