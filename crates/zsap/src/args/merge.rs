//! What `zsap merge` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::WorkOptions;
use super::values::NameOf;

#[derive(Clone, Debug, Args)]
pub(crate) struct Merge {
    /// The child: the upper end of what becomes one image
    pub(crate) child: PathBuf,
    /// The lower end [default: the child's parent]
    #[arg(long, value_name = "ANCESTOR")]
    pub(crate) into: Option<PathBuf>,
    /// Under whose name the merged image stands [default: child]
    #[arg(long, value_enum, value_name = "WHOSE")]
    pub(crate) keep_name: Option<NameOf>,
    #[command(flatten)]
    pub(crate) options: WorkOptions,
}
