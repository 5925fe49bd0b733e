//! What `zsap transplant` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::overrides::overrides;

#[derive(Clone, Debug, Args)]
pub(crate) struct Transplant {
    /// The child
    pub(crate) child: PathBuf,
    /// The base that it is to grow from
    pub(crate) base: PathBuf,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["unrecorded-child", "in-use", "hard-links", "saved-state", "other-host"])
    )]
    pub(crate) force: Vec<Override>,
}
