//! What `zsap unfreeze` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::options::SearchOption;
use super::overrides::overrides;

#[derive(Clone, Debug, Args)]
pub(crate) struct Unfreeze {
    /// The image
    pub(crate) image: PathBuf,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["unknown-children", "in-use", "hard-links"])
    )]
    pub(crate) force: Vec<Override>,
}
