//! What `zsap repair` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::SearchOption;
use super::overrides::overrides;
use super::values::FormatName;
use zestful_sapling::family::Override;

/// Nothing is overwritten of which a copy is not kept beside the image first, in IMAGE.zsap.undo.
#[derive(Clone, Debug, Args)]
pub(crate) struct Repair {
    /// A damaged image; or a machine's folder whose catalogue is damaged
    pub(crate) path: PathBuf,
    /// Also mend what is found under these codes, though something is given up by it; the plan tells what
    #[arg(long, value_name = "CODE", require_equals = true, value_delimiter = ',', conflicts_with = "undo")]
    pub(crate) lossy: Vec<String>,
    /// Take the last repair back: the image becomes what it was before, bit for bit
    #[arg(long)]
    pub(crate) undo: bool,
    /// Also tell which partitions, structures and files a loss hits, and how much of it is free space
    #[arg(long, conflicts_with = "undo")]
    pub(crate) impact: bool,
    /// The format, whatever the signature says
    #[arg(long, value_enum, conflicts_with = "undo")]
    pub(crate) format: Option<FormatName>,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["in-use", "hard-links"])
    )]
    pub(crate) force: Vec<Override>,
}
