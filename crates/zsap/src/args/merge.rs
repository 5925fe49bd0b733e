//! What `zsap merge` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::options::SearchOption;
use super::overrides::{WORK, overrides};
use super::values::NameOf;

#[derive(Clone, Debug, Args)]
pub(crate) struct Merge {
    /// The child: the upper end of what becomes one image
    pub(crate) child: PathBuf,
    /// The lower end [default: the child's parent]
    #[arg(long, value_name = "ANCESTOR")]
    pub(crate) into: Option<PathBuf>,
    /// Under whose name the merged image stands [default: child]
    #[arg(long, value_enum)]
    pub(crate) keep_name: Option<NameOf>,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(WORK)
    )]
    pub(crate) force: Vec<Override>,
}
