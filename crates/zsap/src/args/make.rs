//! What `zsap make` is given.

use std::path::PathBuf;

use clap::Args;
use zestful_sapling::family::Override;

use super::options::ImageOptions;
use super::overrides::overrides;
use super::values::size;

#[derive(Clone, Debug, Args)]
pub(crate) struct Make {
    /// The new file, whose ending (.vhdx, .vhd, .raw, .img) names the format, or a block device
    pub(crate) path: PathBuf,
    /// The size that a guest sees [default: that of the image it is filled from]
    #[arg(value_parser = size, required_unless_present = "filled_from")]
    pub(crate) size: Option<u64>,
    /// Give it the content of this image, of any format and with its whole chain
    #[arg(long, value_name = "OTHER")]
    pub(crate) filled_from: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) image: ImageOptions,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["ending", "sectors", "in-use"])
    )]
    pub(crate) force: Vec<Override>,
}
