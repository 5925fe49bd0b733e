//! What `zsap status` is given.

use std::path::PathBuf;

use clap::Args;

use super::options::DepthOption;

#[derive(Clone, Debug, Args)]
pub(crate) struct Status {
    /// A folder
    #[arg(default_value = ".")]
    pub(crate) folder: PathBuf,
    #[command(flatten)]
    pub(crate) depth: DepthOption,
    /// Of this alone the exit status does not speak
    #[arg(long, value_name = "WHAT", value_parser = ["attention"])]
    pub(crate) ignore: Option<String>,
}
