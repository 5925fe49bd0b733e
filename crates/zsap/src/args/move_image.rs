//! What `zsap move` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::options::SearchOption;
use super::overrides::{WORK, overrides};

#[derive(Clone, Debug, Args)]
pub(crate) struct Move {
    /// The image
    pub(crate) source: PathBuf,
    /// Its new name, or a folder on the same file system
    pub(crate) target: PathBuf,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(WORK)
    )]
    pub(crate) force: Vec<Override>,
}
