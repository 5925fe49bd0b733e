//! Which disk of a machine is meant, and at which of its checkpoints.

use std::path::{Path, PathBuf};

use clap::Args as ArgGroup;
use zestful_sapling::Error;
use zestful_sapling::family::Override;
use zestful_sapling::grove::Grove;
use zestful_sapling::image::{Format, check_ending};

use super::options::SearchOption;
use super::values::FormatName;

/// A disk of a machine, where its folder is named in the place of an image.
#[derive(Clone, Debug, Default, ArgGroup)]
pub(crate) struct DiskOption {
    /// Of the machine in that folder, the disk with this label; the only one need not be named
    #[arg(long, value_name = "LABEL")]
    pub(crate) disk: Option<String>,
    /// The disk as it was at this checkpoint
    #[arg(long, value_name = "NAME")]
    pub(crate) checkpoint: Option<String>,
}

impl DiskOption {
    /// The image that is meant: what was typed, or a disk of the machine in the folder that was typed.
    pub(crate) fn image(&self, typed: &Path) -> Result<PathBuf, Error> {
        image(typed, self.disk.as_deref(), self.checkpoint.as_deref())
    }

    pub(crate) fn is_used(&self) -> bool {
        self.disk.is_some() || self.checkpoint.is_some()
    }
}

/// The disk that is to be changed as it is now.
#[derive(Clone, Debug, ArgGroup)]
pub(crate) struct CurrentDisk {
    /// The current image of the disk, or the folder of a machine
    path: PathBuf,
    /// Of the machine in that folder, the disk with this label; the only one need not be named
    #[arg(long, value_name = "LABEL")]
    disk: Option<String>,
    /// The format, whatever the signature says; one that the ending contradicts needs --force=ending
    #[arg(long, value_enum)]
    format: Option<FormatName>,
    #[command(flatten)]
    pub(crate) search: SearchOption,
}

impl CurrentDisk {
    /// Its current image, and the format, unless the file's name contradicts it.
    pub(crate) fn image(&self, force: &[Override]) -> Result<(PathBuf, Option<Format>), Error> {
        let (path, format) = (image(&self.path, self.disk.as_deref(), None)?, self.format.map(Into::into));
        if !force.contains(&Override::Ending) {
            check_ending(&path, format)?;
        }
        Ok((path, format))
    }
}

/// The image of a disk; nothing of a machine may be named where none is typed.
pub(crate) fn image(typed: &Path, disk: Option<&str>, checkpoint: Option<&str>) -> Result<PathBuf, Error> {
    let grove = if typed.is_dir() { Grove::at(typed)? } else { None };
    match grove {
        Some(grove) => Ok(typed_path(typed, &grove, grove.place(disk, checkpoint)?.path)),
        None if disk.is_none() && checkpoint.is_none() => Ok(typed.to_owned()),
        None => Err(Error::usage(
            format!("{} is not the folder of a machine, which has disks and checkpoints", typed.display()),
            "name the folder that `zsap grove new` made",
        )),
    }
}

/// A path in a grove, beginning as the folder was typed.
fn typed_path(typed: &Path, grove: &Grove, path: PathBuf) -> PathBuf {
    path.strip_prefix(grove.folder()).map(|way| typed.join(way)).unwrap_or(path)
}
