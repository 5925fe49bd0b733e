//! What can be typed.

use std::path::PathBuf;

use clap::{Args as ArgGroup, Parser, Subcommand, ValueEnum};
use zestful_sapling::image::{Format, Kind};
use zestful_sapling::ops::Space;
use zestful_sapling::size::parse_size;

/// Make, derive, inspect, copy and check virtual disks and their chains.
///
/// Sizes: K M G T and KiB MiB GiB TiB are powers of 1024, kB MB GB TB powers of 1000, plain digits are bytes.
/// Exit status: 0 done, 1 failed, 2 wrong usage, 3 check found damage, 4 refused for safety.
#[derive(Debug, Parser)]
#[command(name = "zsap", version, propagate_version = true, max_term_width = 100)]
pub(crate) struct Args {
    #[command(subcommand)]
    pub(crate) command: Command,
    #[command(flatten)]
    pub(crate) common: Common,
}

/// Options that every command knows.
#[derive(Clone, Debug, ArgGroup)]
#[command(next_help_heading = "Common options")]
pub(crate) struct Common {
    /// One JSON document on standard output; messages and bars go to standard error
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Show what would be done, change nothing
    #[arg(long, global = true)]
    pub(crate) plan: bool,
    /// Sizes in plain bytes
    #[arg(long, global = true)]
    pub(crate) bytes: bool,
    /// Only warnings and errors
    #[arg(short, long, global = true)]
    pub(crate) quiet: bool,
    /// More: notes of `check`, every recorded path
    #[arg(short, long, global = true)]
    pub(crate) verbose: bool,
    /// Wait so long for an image that another process holds
    #[arg(long, global = true, value_name = "SECONDS", default_value_t = 0)]
    pub(crate) wait: u64,
    /// Hold bulk work to so much a second, such as 50M
    #[arg(long, global = true, value_name = "SIZE", value_parser = size)]
    pub(crate) rate_limit: Option<u64>,
    /// Append every message, with its time, to a file
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) log_file: Option<PathBuf>,
    /// Colour in the output
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: Color,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum Color {
    Auto,
    Always,
    Never,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum FormatName {
    Raw,
    Vhd,
    Vhdx,
}

impl From<FormatName> for Format {
    fn from(name: FormatName) -> Self {
        match name {
            FormatName::Raw => Format::Raw,
            FormatName::Vhd => Format::Vhd,
            FormatName::Vhdx => Format::Vhdx,
        }
    }
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum KindName {
    Dynamic,
    Fixed,
}

impl From<KindName> for Kind {
    fn from(name: KindName) -> Self {
        match name {
            KindName::Dynamic => Kind::Dynamic,
            KindName::Fixed => Kind::Fixed,
        }
    }
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum SpaceName {
    /// Every byte is written
    Written,
    /// The host sets the space aside
    Reserved,
    /// Nothing is set aside
    Sparse,
}

impl From<SpaceName> for Space {
    fn from(name: SpaceName) -> Self {
        match name {
            SpaceName::Written => Space::Written,
            SpaceName::Reserved => Space::Reserved,
            SpaceName::Sparse => Space::Sparse,
        }
    }
}

/// What a new image is to be, where it is not left to format and size.
#[derive(Clone, Copy, Debug, ArgGroup)]
pub(crate) struct NewImage {
    /// The format, whatever the ending says
    #[arg(long, value_enum)]
    pub(crate) format: Option<FormatName>,
    /// Whether all space is laid out at once [default: dynamic; raw is always fixed]
    #[arg(long, value_enum)]
    pub(crate) kind: Option<KindName>,
    /// The unit of allocation: 1M to 256M for vhdx, 512K or 2M for vhd [default: by the disk's size]
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) block_size: Option<u64>,
    /// How a fixed disk takes its space [default: reserved; a raw copy is sparse]
    #[arg(long, value_enum)]
    pub(crate) space: Option<SpaceName>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a new, empty disk
    Make {
        /// The new file; its ending (.vhdx, .vhd, .raw, .img) names the format
        path: PathBuf,
        /// The size that a guest sees
        #[arg(value_parser = size)]
        size: u64,
        #[command(flatten)]
        image: NewImage,
        /// Logical and physical sector size: 512/512, 512/4096 or 4096/4096 [default: 512/4096]
        #[arg(long, value_name = "L/P", value_parser = sectors)]
        sectors: Option<(u32, u32)>,
    },
    /// Grow one or more differencing disks from a base image
    Derive {
        /// The image to grow from; it becomes read-only on this host
        base: PathBuf,
        /// The new files
        #[arg(required = true)]
        child: Vec<PathBuf>,
        /// Record the base's absolute path as well as the relative one
        #[arg(long)]
        absolute: bool,
        /// The unit of allocation: 1M to 256M for vhdx, 512K or 2M for vhd [default: by the disk's size]
        #[arg(long, value_name = "SIZE", value_parser = size)]
        block_size: Option<u64>,
    },
    /// Tell all about an image; for a folder one line an image
    Show {
        /// Images or folders
        #[arg(required = true)]
        path: Vec<PathBuf>,
        /// The format, whatever the signature says
        #[arg(long, value_enum)]
        format: Option<FormatName>,
    },
    /// Show the chain of an image, or all families in a folder
    Tree {
        /// An image or a folder
        #[arg(default_value = ".")]
        path: PathBuf,
    },
    /// Copy a disk, with its whole chain, into one new image
    Copy {
        /// The current image of the disk
        source: PathBuf,
        /// The new file; its ending names the format
        target: PathBuf,
        #[command(flatten)]
        image: NewImage,
        /// The source's format, whatever its signature says
        #[arg(long, value_enum)]
        source_format: Option<FormatName>,
    },
    /// Verify images and all that they read through
    Check {
        /// Images
        #[arg(required = true)]
        path: Vec<PathBuf>,
        /// The format, whatever the signature says
        #[arg(long, value_enum)]
        format: Option<FormatName>,
    },
    /// Read or write guest bytes, for scripts
    #[command(subcommand)]
    Bytes(BytesCommand),
    /// Build a sample world of made-up disks and walk through it
    Demo {
        /// A new folder for it [default: harrow-fen]
        folder: Option<PathBuf>,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum BytesCommand {
    /// Read guest bytes to standard output or a file
    Read {
        /// The current image of the disk
        path: PathBuf,
        /// The first byte
        #[arg(long, value_name = "N", value_parser = size)]
        at: u64,
        /// How many
        #[arg(long, value_name = "N", value_parser = size)]
        len: u64,
        /// A new file for them
        #[arg(short, value_name = "FILE")]
        output: Option<PathBuf>,
        /// The format, whatever the signature says
        #[arg(long, value_enum)]
        format: Option<FormatName>,
    },
    /// Write guest bytes from standard input or a file
    Write {
        /// The current image of the disk
        path: PathBuf,
        /// The first byte
        #[arg(long, value_name = "N", value_parser = size)]
        at: u64,
        /// A file that holds them
        #[arg(short, value_name = "FILE")]
        input: Option<PathBuf>,
        /// The format, whatever the signature says
        #[arg(long, value_enum)]
        format: Option<FormatName>,
    },
}

fn size(text: &str) -> Result<u64, String> {
    parse_size(text).map_err(|error| error.to_string())
}

fn sectors(text: &str) -> Result<(u32, u32), String> {
    match text {
        "512/512" => Ok((512, 512)),
        "512/4096" => Ok((512, 4096)),
        "4096/4096" => Ok((4096, 4096)),
        _ => Err("one of 512/512, 512/4096, 4096/4096".to_owned()),
    }
}
