//! New, empty disks.

use std::path::PathBuf;

use super::Plan;
use super::blank::{Blank, Space, Wishes};
use crate::error::Result;
use crate::image::{Format, Kind};
use crate::progress::Progress;
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
    wishes: Wishes,
}

impl Make {
    /// A disk of `size` bytes at `target`; its format is the one that the name speaks of, its kind dynamic where the
    /// format has that.
    pub fn new(target: impl Into<PathBuf>, size: u64) -> Self {
        Self { target: target.into(), size, wishes: Wishes::default() }
    }

    /// The format, whatever the name says.
    pub fn with_format(mut self, format: Option<Format>) -> Self {
        self.wishes.format = format;
        self
    }

    /// Fixed or dynamic.
    pub fn with_kind(mut self, kind: Option<Kind>) -> Self {
        self.wishes.kind = kind;
        self
    }

    /// Another block size than the default for the size.
    pub fn with_block_size(mut self, bytes: Option<u64>) -> Self {
        self.wishes.block_size = bytes;
        self
    }

    /// Logical and physical sector size.
    pub fn with_sectors(mut self, sectors: Option<(u32, u32)>) -> Self {
        self.wishes.sectors = sectors;
        self
    }

    /// How a fixed disk takes its space; reserved unless something else is asked for.
    pub fn with_space(mut self, space: Option<Space>) -> Self {
        self.wishes.space = space;
        self
    }

    /// What making it would do.
    ///
    /// # Errors
    /// `Usage` when the format has no such disk (the limit is named) or the name speaks of no format; `Refused` when
    /// something already stands at the target, or a fixed disk claims more than the host has; `Io` when the folder is
    /// missing.
    pub fn plan(self) -> Result<MakePlan> {
        let blank = Blank::new(&self.target, self.size, self.wishes, Space::Reserved)?;
        crate::storage::refuse_existing(&self.target)?;
        let mut plan = Plan { operation: "make", ..Plan::default() };
        plan.steps.push(format!("make {}: {}", self.target.display(), blank.describe()));
        plan.files.create.push(self.target.clone());
        plan.bytes_written = blank.initial_len()?;
        plan.peak_extra_space = plan.bytes_written;
        Plan::require_space(&self.target, plan.peak_extra_space)?;
        if blank.can_outgrow() {
            plan.warn_of_growth(&self.target, self.size)?;
        }
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
        self.blank.lay_out(&staged, progress)?;
        progress.check()?;
        staged.publish()
    }
}
