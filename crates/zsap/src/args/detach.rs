//! `zsap detach`: its arguments.

use std::path::PathBuf;

use clap::Args as ArgGroup;
use zestful_sapling::family::Override;

use super::overrides::overrides;

/// What is typed after `zsap detach`.
///
/// What was written is made durable, and the image is free for others when this returns. While somebody uses the disk
/// it is refused, and told who that is.
#[derive(Debug, ArgGroup)]
pub(crate) struct Detach {
    /// The image, the folder that shows it, or the socket or the address at which it is served
    pub(crate) target: PathBuf,
    /// Do it all the same: those who use the disk get errors
    #[arg(long, value_name = "WHAT", require_equals = true, value_parser = overrides(&["in-use"]))]
    pub(crate) force: Vec<Override>,
}
