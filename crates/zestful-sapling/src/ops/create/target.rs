//! Where a new disk goes: a new file, a block device, or new pieces.

use std::fs::File;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::new_image::NewImage;
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override};
use crate::image::pieces::{MOST_PIECES, StagedPieces, descriptor_of, is_descriptor};
use crate::image::{Format, check_ending, format_of_name};
use crate::operation::Plan;
use crate::progress::Progress;
use crate::size::{exact_size, format_size};
use crate::storage::{Access, BlockDevice, Medium, ReadAt, StagedDevice, StagedFile, Storage, refuse_existing};

/// A place that is fit for a new disk.
#[derive(Clone, Debug)]
pub(in crate::ops) struct Target {
    /// The file that opens the disk: for pieces, their descriptor.
    path: PathBuf,
    form: Form,
}

#[derive(Clone, Copy, Debug)]
enum Form {
    File,
    Device { len: u64, logical_sector: u32 },
    Pieces { size: u64 },
}

impl Target {
    /// Looks at the place: nothing may stand there that would be lost.
    pub(in crate::ops) fn choose(path: &Path, image: &NewImage, guard: &Guard) -> Result<Self> {
        if BlockDevice::is_at(path) {
            return Self::device(path, image, guard);
        }
        let Some(size) = image.piece_size else {
            if is_descriptor(path) {
                let message = format!("{} names a disk in pieces", path.display());
                return Err(Error::usage(message, "say how large a piece is to be, or choose another name"));
            }
            refuse_existing(path)?;
            return Ok(Self { path: path.to_owned(), form: Form::File });
        };
        if size == 0 || size % 4096 != 0 {
            return Err(Error::usage(
                format!("pieces of {size} bytes are not made"),
                "a piece is a multiple of 4096 bytes",
            ));
        }
        if let Some(format) = format_of_name(path).filter(|format| *format != Format::Raw) {
            return Err(Error::usage(
                format!("{} ends in .{format}, and pieces hold a raw disk", path.display()),
                "choose a name that ends in .raw, or leave the piece size out",
            ));
        }
        let path = descriptor_of(path);
        refuse_existing(&path)?;
        Ok(Self { path, form: Form::Pieces { size } })
    }

    fn device(path: &Path, image: &NewImage, guard: &Guard) -> Result<Self> {
        if image.piece_size.is_some() || image.space.is_some() {
            let message = format!("{} is a device, which has all its space in one", path.display());
            return Err(Error::usage(message, "leave the piece size and the space out"));
        }
        let device = BlockDevice::open(path, Access::Read)?;
        if !guard.allows(Override::DeviceContent) && !device.looks_blank()? {
            return Err(Error::refused(
                Refusal::HasContent { path: path.to_owned() },
                format!(
                    "{} ({}) is not blank, and all of its content would be lost",
                    path.display(),
                    format_size(device.len()?)
                ),
                "make sure that it is the right device",
            ));
        }
        let Medium::Device { logical_sector, .. } = device.medium() else {
            return Err(Error::usage(format!("{} is no block device", path.display()), "name a file or a device"));
        };
        Ok(Self { path: path.to_owned(), form: Form::Device { len: device.len()?, logical_sector } })
    }

    pub(in crate::ops) fn path(&self) -> &Path {
        &self.path
    }

    pub(in crate::ops) fn is_device(&self) -> bool {
        matches!(self.form, Form::Device { .. })
    }

    /// The format that the disk will have there.
    pub(in crate::ops) fn format(&self, image: &NewImage, guard: &Guard) -> Result<Format> {
        if !matches!(self.form, Form::File) {
            return match image.format {
                None | Some(Format::Raw) => Ok(Format::Raw),
                Some(other) => Err(Error::usage(
                    format!("a device or a set of pieces holds a raw disk, not a {other} image"),
                    "leave the format out, or name a file",
                )),
            };
        }
        if !guard.allows(Override::Ending) {
            check_ending(&self.path, image.format)?;
        }
        image.format.or_else(|| format_of_name(&self.path)).ok_or_else(|| {
            Error::usage(
                format!("the name {} speaks of no format", self.path.display()),
                "give it the ending .vhdx, .vhd or .raw, or name the format",
            )
        })
    }

    /// The logical sector size that a raw disk has there.
    pub(in crate::ops) fn raw_sector(&self, wanted: u32) -> u32 {
        match self.form {
            Form::File => 512,
            Form::Device { logical_sector, .. } => logical_sector,
            Form::Pieces { .. } => wanted,
        }
    }

    /// The size that the disk will have there: a device's own, where it is at least the wanted one.
    pub(in crate::ops) fn size_for(&self, wanted: u64) -> Result<u64> {
        match self.form {
            Form::Device { len, .. } if wanted > len => Err(Error::refused(
                Refusal::NoSpace { path: self.path.clone(), needed: wanted, free: len },
                format!("{} has {}, the disk needs {}", self.path.display(), exact_size(len), exact_size(wanted)),
                "choose a larger device",
            )),
            Form::Device { len, .. } => Ok(len),
            Form::Pieces { size } if wanted.div_ceil(size) > MOST_PIECES as u64 => Err(Error::usage(
                format!("{} would be {} pieces", format_size(wanted), wanted.div_ceil(size)),
                format!("at most {MOST_PIECES} are made: choose larger ones"),
            )),
            _ => Ok(wanted),
        }
    }

    /// Tells the plan what appears and what is lost.
    pub(in crate::ops) fn tell(&self, plan: &mut Plan, size: u64) {
        match self.form {
            Form::File => plan.files.create.push(self.path.clone()),
            Form::Pieces { size: piece } => {
                plan.files.create.extend(StagedPieces::names(&self.path, size, piece));
                plan.files.create.push(self.path.clone());
            }
            Form::Device { len, .. } => {
                plan.files.change.push(self.path.clone());
                plan.steps.insert(0, format!("replace all {} of {}", format_size(len), self.path.display()));
                plan.warnings.push(format!(
                    "everything on {} is replaced; if the work is cut short the device shows no disk",
                    self.path.display()
                ));
            }
        }
    }

    /// Refuses when the host cannot hold so much more there.
    pub(in crate::ops) fn require_space(&self, needed: u64) -> Result<()> {
        if self.is_device() { Ok(()) } else { Plan::require_space(&self.path, needed) }
    }

    /// Begins the new disk. Nothing stands under its name before [`Staged::publish`].
    pub(in crate::ops) fn begin(&self, size: u64, logical_sector: u32) -> Result<Staged> {
        Ok(match self.form {
            Form::File => Staged::File(StagedFile::create(&self.path)?),
            Form::Device { .. } => Staged::Device(StagedDevice::begin(&self.path)?),
            Form::Pieces { size: piece } => {
                Staged::Pieces(StagedPieces::create(&self.path, size, piece, logical_sector)?)
            }
        })
    }
}

/// A disk that is being written.
pub(in crate::ops) enum Staged {
    File(StagedFile),
    Device(StagedDevice),
    Pieces(StagedPieces),
}

impl Staged {
    pub(in crate::ops) fn storage(&self) -> Arc<dyn Storage> {
        match self {
            Self::File(file) => file.storage(),
            Self::Device(device) => device.storage(),
            Self::Pieces(pieces) => pieces.storage(),
        }
    }

    /// Whether old content shines through wherever nothing is written.
    pub(in crate::ops) fn is_used(&self) -> bool {
        matches!(self, Self::Device(_))
    }

    pub(in crate::ops) fn sync_so_far(&self) -> Result<()> {
        match self {
            Self::File(file) => file.sync_so_far(),
            Self::Device(device) => device.sync_so_far(),
            Self::Pieces(pieces) => pieces.sync_so_far(),
        }
    }

    pub(in crate::ops) fn reserve(&self, range: Range<u64>) -> Result<()> {
        match self {
            Self::File(file) => file.reserve(range),
            Self::Device(_) => Ok(()),
            Self::Pieces(pieces) => pieces.reserve(range),
        }
    }

    /// Has the host drop what it holds of it in memory.
    pub(in crate::ops) fn forget_cached(&self) {
        match self {
            Self::File(file) => file.forget_cached(),
            Self::Device(device) => device.forget_cached(),
            Self::Pieces(pieces) => pieces.forget_cached(),
        }
    }

    /// The file, when it can share the space of `source`; it must still be empty.
    pub(in crate::ops) fn sharing_with(&self, source: &File) -> Option<&StagedFile> {
        match self {
            Self::File(file) if file.can_share_with(source) => Some(file),
            _ => None,
        }
    }

    pub(in crate::ops) fn publish(self, progress: &Progress) -> Result<()> {
        match self {
            Self::File(file) => file.publish(),
            Self::Device(device) => device.publish(),
            Self::Pieces(pieces) => pieces.publish(progress),
        }
    }
}
