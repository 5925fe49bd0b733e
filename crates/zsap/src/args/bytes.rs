//! What `zsap bytes` is given.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::disk::DiskOption;
use super::options::{FormatOption, WriteOptions};
use super::values::size;

#[derive(Debug, Subcommand)]
pub(crate) enum Bytes {
    /// Read guest bytes to standard output or a file
    Read(BytesRead),
    /// Write guest bytes from standard input or a file
    Write(BytesWrite),
}

#[derive(Clone, Debug, Args)]
pub(crate) struct BytesRead {
    /// The current image of the disk, or the folder of a machine
    pub(crate) path: PathBuf,
    /// The first byte
    #[arg(long, value_name = "N", value_parser = size)]
    pub(crate) at: u64,
    /// How many
    #[arg(long, value_name = "N", value_parser = size)]
    pub(crate) len: u64,
    /// A new file for them; - is standard output
    #[arg(short, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
    #[command(flatten)]
    pub(crate) format: FormatOption,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct BytesWrite {
    /// The current image of the disk, or the folder of a machine
    pub(crate) path: PathBuf,
    /// The first byte
    #[arg(long, value_name = "N", value_parser = size)]
    pub(crate) at: u64,
    /// A file that holds them; - is standard input
    #[arg(short, value_name = "FILE")]
    pub(crate) input: Option<PathBuf>,
    /// Of the machine in that folder, the disk with this label; the only one need not be named
    #[arg(long, value_name = "LABEL")]
    pub(crate) disk: Option<String>,
    #[command(flatten)]
    pub(crate) options: WriteOptions,
}
