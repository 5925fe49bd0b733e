//! What can be typed.

use std::path::{Path, PathBuf};

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{Args as ArgGroup, Parser, Subcommand, ValueEnum};
use zestful_sapling::family::{Override, Search};
use zestful_sapling::image::Space;
use zestful_sapling::image::{Format, Kind, check_ending};
use zestful_sapling::ops::{Identity, KeepName, NewImage};
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
    /// Ask nothing: what a question would ask is meant so
    #[arg(short, long, global = true)]
    pub(crate) yes: bool,
    /// Wait so long for an image that another process holds
    #[arg(long, global = true, value_name = "SECONDS", default_value_t = 0)]
    pub(crate) wait: u64,
    /// Hold bulk work to so much a second, such as 50M
    #[arg(long, global = true, value_name = "SIZE", value_parser = rate)]
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

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum IdentityName {
    /// One of its own
    Fresh,
    /// The source's
    Keep,
}

impl From<IdentityName> for Identity {
    fn from(name: IdentityName) -> Self {
        match name {
            IdentityName::Fresh => Identity::Fresh,
            IdentityName::Keep => Identity::Keep,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Depth {
    /// The disk as its guest sees it, as one image
    Disk,
    /// Every layer, into a new folder
    Chain,
}

/// What a new image is to be, where it is not left to name, size and source.
#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct ImageOptions {
    /// The format; one that the ending contradicts needs --force=ending
    #[arg(long, value_enum)]
    pub(crate) format: Option<FormatName>,
    /// Whether all space is laid out at once [default: dynamic; raw is always fixed]
    #[arg(long, value_enum)]
    pub(crate) kind: Option<KindName>,
    /// The unit of allocation: 1M to 256M for vhdx, 512K or 2M for vhd [default: by the disk's size]
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) block_size: Option<u64>,
    /// Logical and physical sector size: 512/512, 512/4096 or 4096/4096 [default: the source's, or 512/4096]
    #[arg(long, value_name = "L/P", value_parser = sectors)]
    pub(crate) sectors: Option<(u32, u32)>,
    /// How a fixed disk takes its space [default: reserved; a raw copy is sparse]
    #[arg(long, value_enum)]
    pub(crate) space: Option<SpaceName>,
    /// A raw disk as NAME.000, NAME.001, ... of this size, and NAME.pieces.json, which opens it
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) piece_size: Option<u64>,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["ending", "sectors", "in-use"])
    )]
    pub(crate) force: Vec<Override>,
    /// The source's format, whatever its signature says
    #[arg(long, value_enum)]
    pub(crate) source_format: Option<FormatName>,
}

impl ImageOptions {
    pub(crate) fn image(&self, yes: bool) -> NewImage {
        let mut image = NewImage::new()
            .with_format(self.format.map(Into::into))
            .with_kind(self.kind.map(Into::into))
            .with_block_size(self.block_size)
            .with_sectors(self.sectors)
            .with_space(self.space.map(Into::into))
            .with_piece_size(self.piece_size);
        for force in &self.force {
            image = image.with_override(*force);
        }
        if yes { image.with_override(Override::DeviceContent) } else { image }
    }

    /// The format of the source, unless its name contradicts it.
    pub(crate) fn source_format(&self, source: &Path) -> Result<Option<Format>, zestful_sapling::Error> {
        let format = self.source_format.map(Into::into);
        if !self.force.contains(&Override::Ending) {
            check_ending(source, format)?;
        }
        Ok(format)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum NameOf {
    /// The parent's, or the ancestor's
    Parent,
    /// The child's: whatever pointed at the disk goes on finding it
    Child,
}

impl From<NameOf> for KeepName {
    fn from(name: NameOf) -> Self {
        match name {
            NameOf::Parent => KeepName::Parent,
            NameOf::Child => KeepName::Child,
        }
    }
}

/// What may be forced, and what that goes over.
const OVERRIDES: [(&str, Override, &str); 9] = [
    ("ending", Override::Ending, "A format that the file's ending contradicts"),
    ("sectors", Override::Sectors, "Sectors of another size under a partition table"),
    ("identity", Override::Identity, "A parent that is not the one recorded"),
    (
        "unknown-children",
        Override::UnknownChildren,
        "Images that may have grown from it, and are not to be found or read",
    ),
    ("unrecorded-child", Override::UnrecordedChild, "A parent that cannot record who grows from it"),
    ("in-use", Override::InUse, "An image, or a source, that another process has open for writing"),
    ("hard-links", Override::HardLinks, "A file that has other names"),
    ("saved-state", Override::SavedState, "A disk that a suspended machine goes on from"),
    ("other-host", Override::OtherHost, "What another host began"),
];

/// What is typed after `--force=` for an override.
pub(crate) fn name_of_override(allowed: Override) -> Option<&'static str> {
    OVERRIDES.iter().find(|(_, known, _)| *known == allowed).map(|(name, ..)| *name)
}

/// Those of the overrides that a command knows.
fn overrides(names: &'static [&'static str]) -> impl TypedValueParser<Value = Override> {
    let known = OVERRIDES.iter().filter(|(name, ..)| names.contains(name));
    let values = known.map(|(name, _, help)| PossibleValue::new(*name).help(*help));
    PossibleValuesParser::new(values.collect::<Vec<_>>()).try_map(|chosen| {
        let found = OVERRIDES.iter().find(|(name, ..)| *name == chosen).map(|(_, allowed, _)| *allowed);
        found.ok_or("no such override")
    })
}

/// What may be forced on work that spans several files.
#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct WorkForces {
    /// Do it all the same, where it was refused for this
    #[arg(
        long = "force", value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(
            &["unknown-children", "unrecorded-child", "in-use", "hard-links", "saved-state", "other-host"]
        )
    )]
    what: Vec<Override>,
}

impl WorkForces {
    pub(crate) fn overrides(&self) -> Vec<Override> {
        self.what.clone()
    }
}

/// Where to look for relatives of an image.
#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct SearchOption {
    /// Look into this folder and all below it as well; may be given several times
    #[arg(long = "search", value_name = "FOLDER")]
    folders: Vec<PathBuf>,
}

impl SearchOption {
    pub(crate) fn search(&self) -> Search {
        Search::below(self.folders.clone())
    }
}

/// How an image that is to be written to is opened, and what that goes over.
#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct WriteOptions {
    /// The format, whatever the signature says; one that the ending contradicts needs --force=ending
    #[arg(long, value_enum)]
    format: Option<FormatName>,
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["ending", "unknown-children", "in-use", "hard-links", "saved-state"])
    )]
    pub(crate) force: Vec<Override>,
}

impl WriteOptions {
    /// The format, unless the file's name contradicts it.
    pub(crate) fn format(&self, path: &Path) -> Result<Option<Format>, zestful_sapling::Error> {
        let format = self.format.map(Into::into);
        if !self.force.contains(&Override::Ending) {
            check_ending(path, format)?;
        }
        Ok(format)
    }
}

/// Which format an existing image has, where that must be said.
#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct FormatOption {
    /// The format, whatever the signature says; one that the ending contradicts needs --force=ending
    #[arg(long, value_enum)]
    format: Option<FormatName>,
    /// Do it all the same, where it was refused for this
    #[arg(long, value_name = "WHAT", require_equals = true, value_parser = ["ending"])]
    force: Option<String>,
}

impl FormatOption {
    /// The format, unless the file's name contradicts it.
    pub(crate) fn of(&self, path: &Path) -> Result<Option<Format>, zestful_sapling::Error> {
        let format = self.format.map(Into::into);
        if self.force.is_none() {
            check_ending(path, format)?;
        }
        Ok(format)
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a new disk, empty or filled from another image
    Make {
        /// The new file, whose ending (.vhdx, .vhd, .raw, .img) names the format, or a block device
        path: PathBuf,
        /// The size that a guest sees [default: that of the image it is filled from]
        #[arg(value_parser = size, required_unless_present = "filled_from")]
        size: Option<u64>,
        /// Give it the content of this image, of any format and with its whole chain
        #[arg(long, value_name = "OTHER")]
        filled_from: Option<PathBuf>,
        #[command(flatten)]
        image: ImageOptions,
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
        /// Do it all the same, where it was refused for this
        #[arg(
            long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
            value_parser = overrides(&["unrecorded-child", "in-use", "hard-links"])
        )]
        force: Vec<Override>,
    },
    /// Tell all about an image; for a folder one line an image
    Show {
        /// Images or folders
        #[arg(required = true)]
        path: Vec<PathBuf>,
        #[command(flatten)]
        format: FormatOption,
    },
    /// Show the chain of an image, or all families in a folder
    Tree {
        /// An image or a folder
        #[arg(default_value = ".")]
        path: PathBuf,
    },
    /// Copy a disk, with its whole chain, into one new image or onto a block device
    Copy {
        /// The current image of the disk, a block device, or the descriptor of a disk in pieces
        source: PathBuf,
        /// The new file, whose ending names the format, or a block device; with --depth chain a new folder
        target: PathBuf,
        #[command(flatten)]
        image: ImageOptions,
        /// Whether the copy has an identity of its own [default: fresh]
        #[arg(long, value_enum)]
        identity: Option<IdentityName>,
        /// How much of a chain becomes one image [default: disk]
        #[arg(long, value_enum)]
        depth: Option<Depth>,
        /// Read the copy back and compare it before it appears
        #[arg(long)]
        verify: bool,
    },
    /// Find a moved or renamed parent again, by its identity, and record where it is
    Relink {
        /// The child
        child: PathBuf,
        /// The parent [default: whatever image in the child's folder, and where --search says, has the identity]
        parent: Option<PathBuf>,
        #[command(flatten)]
        search: SearchOption,
        /// Do it all the same, where it was refused for this
        #[arg(
            long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
            value_parser = overrides(&["identity", "unrecorded-child", "in-use", "hard-links"])
        )]
        force: Vec<Override>,
    },
    /// Put a child onto another base, its content unchanged
    Transplant {
        /// The child
        child: PathBuf,
        /// The base that it is to grow from
        base: PathBuf,
        /// Do it all the same, where it was refused for this
        #[arg(
            long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
            value_parser = overrides(&["unrecorded-child", "in-use", "hard-links", "saved-state", "other-host"])
        )]
        force: Vec<Override>,
    },
    /// Merge a child into its parent, or everything between it and an ancestor
    Merge {
        /// The child: the upper end of what becomes one image
        child: PathBuf,
        /// The lower end [default: the child's parent]
        #[arg(long, value_name = "ANCESTOR")]
        into: Option<PathBuf>,
        /// Under whose name the merged image stands [default: child]
        #[arg(long, value_enum)]
        keep_name: Option<NameOf>,
        #[command(flatten)]
        search: SearchOption,
        #[command(flatten)]
        force: WorkForces,
    },
    /// The first look: what is whole, what is unfinished, who holds what, what guests write to, what fits
    Status {
        /// A folder
        #[arg(default_value = ".")]
        folder: PathBuf,
    },
    /// Carry on what was begun and cut short
    Resume {
        /// An image that takes part, its journal, or a folder where one thing is under way
        path: PathBuf,
        #[command(flatten)]
        search: SearchOption,
        #[command(flatten)]
        force: WorkForces,
    },
    /// Give up what was begun and cut short, where that is still possible
    Abandon {
        /// An image that takes part, its journal, or a folder where one thing is under way
        path: PathBuf,
        #[command(flatten)]
        search: SearchOption,
        #[command(flatten)]
        force: WorkForces,
    },
    /// Mark a base as never to change, and keep its digests
    Pin {
        /// The base
        base: PathBuf,
        /// Compare it with what was pinned, and tell which ranges changed and which children read them
        #[arg(long)]
        verify: bool,
        #[command(flatten)]
        search: SearchOption,
        /// Do it all the same, where it was refused for this
        #[arg(
            long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
            value_parser = overrides(&["in-use", "hard-links"])
        )]
        force: Vec<Override>,
    },
    /// Take a pin away
    Unpin {
        /// The base
        base: PathBuf,
        #[command(flatten)]
        search: SearchOption,
    },
    /// Free a former current disk that is frozen though nothing grows from it any more
    Unfreeze {
        /// The image
        image: PathBuf,
        #[command(flatten)]
        search: SearchOption,
        /// Do it all the same, where it was refused for this
        #[arg(
            long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
            value_parser = overrides(&["unknown-children", "in-use", "hard-links"])
        )]
        force: Vec<Override>,
    },
    /// Where two disks, or two layers of one chain, differ
    Diff {
        /// One image
        one: PathBuf,
        /// The other
        other: PathBuf,
        /// Read what may differ and compare it; without, the tables alone tell
        #[arg(long)]
        contents: bool,
    },
    /// Who depends on an image
    Children {
        /// The image
        image: PathBuf,
        #[command(flatten)]
        search: SearchOption,
    },
    /// Move or rename an image and tell its children
    Move {
        /// The image
        source: PathBuf,
        /// Its new name, or a folder on the same file system
        target: PathBuf,
        #[command(flatten)]
        search: SearchOption,
        #[command(flatten)]
        force: WorkForces,
    },
    /// Delete an image that nothing needs
    Remove {
        /// The image
        path: PathBuf,
        #[command(flatten)]
        search: SearchOption,
        /// Do it all the same, where it was refused for this
        #[arg(
            long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
            value_parser = overrides(&["unknown-children", "in-use", "hard-links"])
        )]
        force: Vec<Override>,
    },
    /// Give an image that was copied by hand an identity of its own
    Identity {
        /// The image
        path: PathBuf,
        /// A new identity: no child of the other copy takes it for its parent, no guest for the same disk
        #[arg(long, required = true)]
        fresh: bool,
        #[command(flatten)]
        options: WriteOptions,
    },
    /// Verify images and all that they read through
    Check {
        /// Images
        #[arg(required = true)]
        path: Vec<PathBuf>,
        #[command(flatten)]
        format: FormatOption,
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
        #[command(flatten)]
        format: FormatOption,
    },
    /// Write guest bytes from standard input or a file; where they do not fit, none of them
    Write {
        /// The current image of the disk
        path: PathBuf,
        /// The first byte
        #[arg(long, value_name = "N", value_parser = size)]
        at: u64,
        /// A file that holds them
        #[arg(short, value_name = "FILE")]
        input: Option<PathBuf>,
        #[command(flatten)]
        options: WriteOptions,
    },
}

fn size(text: &str) -> Result<u64, String> {
    parse_size(text).map_err(|error| error.to_string())
}

fn rate(text: &str) -> Result<u64, String> {
    match size(text)? {
        0 => Err("nothing would ever be done; leave it out for no limit".to_owned()),
        rate => Ok(rate),
    }
}

fn sectors(text: &str) -> Result<(u32, u32), String> {
    match text {
        "512/512" => Ok((512, 512)),
        "512/4096" => Ok((512, 4096)),
        "4096/4096" => Ok((4096, 4096)),
        _ => Err("one of 512/512, 512/4096, 4096/4096".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What is typed is what is meant: the library calls each override by the same name.
    #[test]
    fn what_is_forced_is_what_was_typed() {
        let name = |allowed: &Override| serde_json::to_value(allowed).unwrap();
        for (typed, allowed, _) in OVERRIDES {
            assert_eq!(name(&allowed), typed);
        }
        let typed = ["unknown-children", "unrecorded-child", "in-use", "hard-links", "saved-state", "other-host"];
        let forced = format!("--force={}", typed.join(","));
        let Command::Merge { force, .. } = Args::try_parse_from(["zsap", "merge", "a.vhdx", &forced]).unwrap().command
        else {
            panic!("no merge");
        };
        assert_eq!(force.overrides().iter().map(name).collect::<Vec<_>>(), typed);
    }
}
