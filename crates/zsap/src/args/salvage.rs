//! What `zsap salvage` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::options::{ImageOptions, SearchOption};
use super::overrides::overrides;

/// The source is never written to. Zeros stand for what is lost; what is lost or doubtful is listed in
/// NEW.zsap.salvage.json. Where that list is there already, only what it names is taken up again.
#[derive(Clone, Debug, Args)]
pub(crate) struct Salvage {
    /// The damaged image, or the current image of a broken chain
    pub(crate) source: PathBuf,
    /// The new image
    pub(crate) target: PathBuf,
    /// Go on past this layer, which is lost; may be given several times
    #[arg(long, value_name = "LAYER")]
    pub(crate) without: Vec<PathBuf>,
    /// What stands below a lost layer, where nothing else tells that
    #[arg(long, value_name = "IMAGE", requires = "without")]
    pub(crate) below: Option<PathBuf>,
    /// Also tell which partitions, structures and files a loss hits, and how much of it is free space
    #[arg(long)]
    pub(crate) impact: bool,
    #[command(flatten)]
    pub(crate) image: ImageOptions,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["ending", "sectors", "in-use"])
    )]
    pub(crate) force: Vec<Override>,
}
