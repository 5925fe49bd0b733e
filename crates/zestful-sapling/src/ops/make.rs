//! New, empty disks.

use std::path::{Path, PathBuf};

use super::Plan;
use crate::error::{Error, Result};
use crate::image::vhdx::CreateOptions;
use crate::image::{Format, format_of_name, vhd};
use crate::progress::Progress;
use crate::size::format_size;
use crate::storage::StagedFile;

/// A disk to be made.
///
/// ```
/// use zestful_sapling::{ops::Make, progress::Progress};
/// let folder = tempfile::tempdir().unwrap();
/// let plan = Make::new(folder.path().join("fen-base.vhdx"), 64 << 30).plan().unwrap();
/// plan.run(&Progress::new()).unwrap();
/// ```
#[derive(Clone, Debug)]
pub struct Make {
    target: PathBuf,
    size: u64,
    format: Option<Format>,
    block_size: Option<u64>,
    sectors: Option<(u32, u32)>,
}

impl Make {
    /// A disk of `size` bytes at `target`; its format is the one that the name speaks of.
    pub fn new(target: impl Into<PathBuf>, size: u64) -> Self {
        Self { target: target.into(), size, format: None, block_size: None, sectors: None }
    }

    /// The format, whatever the name says.
    pub fn with_format(mut self, format: Option<Format>) -> Self {
        self.format = format;
        self
    }

    /// Another block size than the default for the size.
    pub fn with_block_size(mut self, bytes: Option<u64>) -> Self {
        self.block_size = bytes;
        self
    }

    /// Logical and physical sector size.
    pub fn with_sectors(mut self, sectors: Option<(u32, u32)>) -> Self {
        self.sectors = sectors;
        self
    }

    /// What making it would do.
    ///
    /// # Errors
    /// `Usage` when the format has no such disk (the limit is named) or the name speaks of no format; `Refused` when
    /// something already stands at the target; `Io` when the folder is missing.
    pub fn plan(self) -> Result<MakePlan> {
        let blank = Blank::new(&self.target, self.format, self.size, self.block_size, self.sectors)?;
        crate::storage::refuse_existing(&self.target)?;
        let mut plan = Plan { operation: "make", ..Plan::default() };
        plan.steps.push(format!("make {}: {}", self.target.display(), blank.describe()));
        plan.files.create.push(self.target.clone());
        plan.bytes_written = blank.metadata_len()?;
        plan.peak_extra_space = plan.bytes_written;
        plan.warn_of_growth(&self.target, self.size)?;
        Ok(MakePlan { plan, target: self.target, blank })
    }
}

/// A checked plan to make a disk.
#[derive(Clone, Debug)]
pub struct MakePlan {
    plan: Plan,
    target: PathBuf,
    blank: Blank,
}

impl MakePlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Makes the disk. It appears under its name only when it is complete and durable; a crash before leaves nothing
    /// there.
    ///
    /// # Errors
    /// `Refused` when something appeared at the target since; `Io`, `Cancelled`.
    pub fn run(&self, progress: &Progress) -> Result<()> {
        Plan::require_space(&self.target, self.plan.peak_extra_space)?;
        let staged = StagedFile::create(&self.target)?;
        self.blank.lay_out(&staged)?;
        progress.check()?;
        staged.publish()
    }
}

/// An empty image that is to be laid out in a new file.
#[derive(Clone, Debug)]
pub(super) enum Blank {
    Raw(u64),
    Vhd(vhd::CreateOptions, u64),
    Vhdx(CreateOptions, u64),
}

impl Blank {
    pub(super) fn new(
        target: &Path,
        format: Option<Format>,
        size: u64,
        block_size: Option<u64>,
        sectors: Option<(u32, u32)>,
    ) -> Result<Self> {
        let Some(format) = format.or_else(|| format_of_name(target)) else {
            return Err(Error::usage(
                format!("the name {} speaks of no format", target.display()),
                "give it the ending .vhdx, .vhd or .raw, or name the format",
            ));
        };
        match format {
            Format::Vhdx => {
                let mut options = CreateOptions::new(size);
                if let Some(bytes) = block_size {
                    options = options.with_block_size(bytes);
                }
                if let Some((logical, physical)) = sectors {
                    options = options.with_sectors(logical, physical);
                }
                options.file_len()?;
                Ok(Self::Vhdx(options, size))
            }
            Format::Vhd => {
                if sectors.is_some_and(|sectors| sectors != (512, 512)) {
                    let message = "a vhd disk has sectors of 512 bytes, logical and physical";
                    return Err(Error::usage(message, "leave them out, or choose vhdx"));
                }
                let mut options = vhd::CreateOptions::new(size);
                if let Some(bytes) = block_size {
                    options = options.with_block_size(bytes);
                }
                options.check()?;
                Ok(Self::Vhd(options, size))
            }
            Format::Raw => {
                if block_size.is_some() || sectors.is_some() {
                    let message = "a raw disk has no blocks and no sector size of its own";
                    return Err(Error::usage(message, "leave these options out, or make a vhdx disk"));
                }
                if size == 0 || !size.is_multiple_of(512) || i64::try_from(size).is_err() {
                    return Err(Error::usage(
                        format!("a disk of {size} bytes cannot be made"),
                        "a raw disk is a multiple of 512 bytes, from 512 bytes to 8 EiB",
                    ));
                }
                Ok(Self::Raw(size))
            }
        }
    }

    pub(super) fn describe(&self) -> String {
        match self {
            Self::Raw(size) => format!("raw, {}, its space not claimed from the host", format_size(*size)),
            Self::Vhd(options, size) => {
                format!("vhd, dynamic, {}, blocks of {}", format_size(*size), format_size(options.block_size()))
            }
            Self::Vhdx(options, size) => {
                format!("vhdx, dynamic, {}, blocks of {}", format_size(*size), format_size(options.block_size()))
            }
        }
    }

    /// What an empty image takes on the host at most.
    pub(super) fn metadata_len(&self) -> Result<u64> {
        match self {
            Self::Raw(_) => Ok(0),
            Self::Vhd(options, _) => Ok(options.metadata_len()),
            // The table is left as a hole; what is written is the fixed part.
            Self::Vhdx(options, _) => Ok(options.file_len()?.min(1 << 20)),
        }
    }

    pub(super) fn lay_out(&self, staged: &StagedFile) -> Result<()> {
        match self {
            Self::Raw(size) => staged.storage().set_len(*size),
            Self::Vhd(options, _) => options.create_in(&*staged.storage()),
            Self::Vhdx(options, _) => options.create_in(&*staged.storage()),
        }
    }

    pub(super) fn format(&self) -> Format {
        match self {
            Self::Raw(_) => Format::Raw,
            Self::Vhd(..) => Format::Vhd,
            Self::Vhdx(..) => Format::Vhdx,
        }
    }
}
