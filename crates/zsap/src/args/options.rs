//! Groups of options that several commands have.

use std::path::{Path, PathBuf};

use clap::Args as ArgGroup;
use zestful_sapling::Error;
use zestful_sapling::family::{Folder, Override, Search};
use zestful_sapling::image::{Format, check_ending, format_of_name};
use zestful_sapling::ops::NewImage;

use super::overrides::{WORK, overrides};
use super::values::{FormatName, KindName, SpaceName, sectors, size, with};
use crate::settings;

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
    /// The source's format, whatever its signature says
    #[arg(long, value_enum)]
    pub(crate) source_format: Option<FormatName>,
}

impl ImageOptions {
    /// What the image at `target` is to be; where nothing is typed, as it is set once for all.
    pub(crate) fn image(&self, target: &Path) -> NewImage {
        let set = &settings::current().settings.new_disks;
        let named = format_of_name(target);
        let is_new_file = self.piece_size.is_none() && std::fs::symlink_metadata(target).is_err();
        let format = self.format.or(set.format.filter(|_| named.is_none() && is_new_file));
        let has_kinds = format.map(Format::from).or(named).is_some_and(|format| format != Format::Raw);
        let kind = self.kind.or(set.kind.filter(|_| has_kinds && self.block_size.is_none() && self.space.is_none()));
        let image = with(NewImage::new(), format.map(Into::into), NewImage::with_format);
        let image = with(image, kind.map(Into::into), NewImage::with_kind);
        let image = with(image, self.block_size, NewImage::with_block_size);
        let image = with(image, self.sectors, NewImage::with_sectors);
        let image = with(image, self.space.map(Into::into), NewImage::with_space);
        with(image, self.piece_size, NewImage::with_piece_size)
    }

    /// The format of the source, unless its name contradicts it.
    pub(crate) fn source_format(&self, source: &Path, force: &[Override]) -> Result<Option<Format>, Error> {
        let format = self.source_format.map(Into::into);
        if !force.contains(&Override::Ending) {
            check_ending(source, format)?;
        }
        Ok(format)
    }
}

/// How far a look at a folder goes.
#[derive(Clone, Copy, Debug, ArgGroup)]
pub(crate) struct DepthOption {
    /// Of folders also all folders below them, what is mounted there included
    #[arg(short = 'r', long)]
    pub(crate) recursive: bool,
}

impl DepthOption {
    pub(crate) fn folder(self, path: &Path) -> Folder {
        Folder::from(path).with_folders_below(self.recursive)
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
        let set = settings::current().settings.search.iter().flatten();
        Search::below(self.folders.iter().chain(set).cloned().collect::<Vec<_>>())
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
    pub(crate) fn format(&self, path: &Path) -> Result<Option<Format>, Error> {
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
    pub(crate) fn of(&self, path: &Path) -> Result<Option<Format>, Error> {
        let format = self.format.map(Into::into);
        if self.force.is_none() {
            check_ending(path, format)?;
        }
        Ok(format)
    }
}

/// Where relatives are looked for, and what may be forced, of work that spans several files.
#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct WorkOptions {
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(WORK)
    )]
    pub(crate) force: Vec<Override>,
}

/// The same for what takes an image from those who may need it as it is.
#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct LettingGoOptions {
    #[command(flatten)]
    pub(crate) search: SearchOption,
    /// Do it all the same, where it was refused for this
    #[arg(
        long, value_name = "WHAT", require_equals = true, value_delimiter = ',',
        value_parser = overrides(&["unknown-children", "in-use", "hard-links"])
    )]
    pub(crate) force: Vec<Override>,
}
