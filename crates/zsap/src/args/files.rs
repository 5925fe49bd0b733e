//! What `zsap files` is given.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use jiff::Timestamp;

use super::disk::DiskOption;
use super::options::FormatOption;
use super::two_disks::TwoDisks;
use super::values::{moment, size};

#[derive(Debug, Subcommand)]
pub(crate) enum Files {
    /// List what is in a folder of a volume
    List(FilesList),
    /// Find files of a volume by their names, their age, their size
    Find(FilesFind),
    /// Copy files and whole folders out of a volume
    Get(FilesGet),
    /// Tell which files came, went and changed between two disks
    Diff(FilesDiff),
}

/// Where the files are.
#[derive(Clone, Debug, Args)]
pub(crate) struct Place {
    /// The current image of the disk, or the folder of a machine
    pub(crate) disk_path: PathBuf,
    /// The volume, counted from 1 as `zsap show` tells them; one that is the only one need not be named
    #[arg(long, value_name = "N")]
    pub(crate) volume: Option<u32>,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
    #[command(flatten)]
    pub(crate) format: FormatOption,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct FilesList {
    #[command(flatten)]
    pub(crate) place: Place,
    /// A folder of the volume, such as /etc, or a file
    #[arg(default_value = "/", hide_default_value = true)]
    pub(crate) path: PathBuf,
    /// What is in its folders, too
    #[arg(short, long)]
    pub(crate) recursive: bool,
    /// Files that were deleted, below that folder: those that an older layer still holds first, then what is left of
    /// others, and how certain that is (FAT, NTFS)
    #[arg(long, conflicts_with = "recursive")]
    pub(crate) deleted: bool,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct FilesFind {
    #[command(flatten)]
    pub(crate) place: Place,
    /// A name, with * and ? for what it may hold; with a slash in it a path, with ** for any folders
    pub(crate) pattern: String,
    /// Only what was changed since: a date, a time, or an age such as 14d
    #[arg(long, value_name = "TIME", value_parser = moment)]
    pub(crate) newer: Option<Timestamp>,
    /// Only files of more than this
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) larger: Option<u64>,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct FilesGet {
    #[command(flatten)]
    pub(crate) place: Place,
    /// Paths inside the volume, such as /etc/hosts; / is all of it; and the folder of this host that they go into, or -
    /// for standard output
    #[arg(required = true, num_args = 2.., value_names = ["PATH", "DEST"])]
    pub(crate) paths: Vec<PathBuf>,
    /// The paths are those of deleted files, as `zsap files list --deleted` tells them
    #[arg(long)]
    pub(crate) deleted: bool,
}

#[derive(Clone, Debug, Args)]
pub(crate) struct FilesDiff {
    #[command(flatten)]
    pub(crate) disks: TwoDisks,
    /// The volume, counted from 1 as `zsap show` tells them; one that is the only one need not be named
    #[arg(long, value_name = "N")]
    pub(crate) volume: Option<u32>,
    /// Compare what files hold, by digests, and not when they were changed
    #[arg(long)]
    pub(crate) contents: bool,
}
