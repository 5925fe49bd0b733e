//! What `zsap relink` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::options::SearchOption;
use super::overrides::overrides;

#[derive(Clone, Debug, Args)]
pub(crate) struct Relink {
    /// The child, and its parent where that is known; or several children, each of which finds its own by its identity
    #[arg(required = true, value_names = ["CHILD", "PARENT"], num_args = 1..)]
    pub(crate) path: Vec<PathBuf>,
    /// The parent of all of them [default: what has the identity, beside the child or where --search says]
    #[arg(long)]
    pub(crate) parent: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["identity", "unrecorded-child", "in-use", "hard-links"])
    )]
    pub(crate) force: Vec<Override>,
}
