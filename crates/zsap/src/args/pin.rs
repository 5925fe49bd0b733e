//! What `zsap pin` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::options::SearchOption;
use super::overrides::overrides;

#[derive(Clone, Debug, Args)]
pub(crate) struct Pin {
    /// The bases
    #[arg(required = true)]
    pub(crate) base: Vec<PathBuf>,
    /// Compare it with what was pinned, and tell which ranges changed and which children read them
    #[arg(long)]
    pub(crate) verify: bool,
    /// Also tell which partitions, structures and files lie in what changed, and how much of it is free space
    #[arg(long, requires = "verify")]
    pub(crate) impact: bool,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["in-use", "hard-links"])
    )]
    pub(crate) force: Vec<Override>,
}
