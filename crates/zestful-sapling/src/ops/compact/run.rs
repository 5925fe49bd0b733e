//! The image gives back what it does not need.

use std::ops::Range;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;

use super::grains::Grains;
use super::plan::CompactPlan;
use super::survey::{GivenBack, Staying, Survey};
use crate::bytes::in_units;
use crate::chain::{ChainMut, Disk, OpenOptions};
use crate::error::{Error, Refusal, Result};
use crate::image::{Arrangement, Placement};
use crate::operation::{Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{Undo, modified};
use crate::size::format_size;
use crate::storage::{FileStorage, ReadAt, allocated_at, folder_of, free_space};

/// Blocks are moved together up to so many bytes, where the host has room for that.
const ROOM: u64 = 64 << 20;
/// Between two looks at whether it is to go on.
const PIECE: u64 = 1 << 30;

/// What a file takes. In bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Size {
    /// Its length.
    pub file_len: u64,
    /// What the host has set aside for it.
    pub allocated: u64,
}

/// What became of it. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CompactOutcome {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What the file took.
    pub before: Size,
    /// What it takes.
    pub after: Size,
    /// What the image holds no more.
    pub given_back: GivenBack,
    /// What stays though nothing would be lost with it.
    pub stays: Staying,
    /// How the blocks stood; none where there are none.
    pub placed_before: Option<Placement>,
    /// How they stand.
    pub placed: Option<Placement>,
}

impl Planned for CompactPlan {
    type Outcome = CompactOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Gives back, and moves. At every moment, and after a crash, the disk is whole and reads as before, but for what
    /// file systems mark as free where that was asked for; what was done until then is done, and another run goes on
    /// from there. Where there is nothing to do the file is not touched.
    ///
    /// # Errors
    /// `Refused` when the image was swapped, or written to since the plan was made; `Usage` when only holes are asked
    /// for and the host keeps none; `Cancelled`, with what was done until then; `Io`.
    fn run(&self, progress: &Progress) -> Result<CompactOutcome> {
        self.look_again()?;
        let found = match self.survey {
            Some(_) => None,
            None => Some(self.request.survey(&self.locked, progress)?),
        };
        let survey = found.as_ref().or(self.survey.as_ref());
        let before = self.size()?;
        let mut outcome = CompactOutcome {
            path: self.request.path.clone(),
            before,
            after: before,
            given_back: survey.map(|survey| survey.given.clone()).unwrap_or_default(),
            stays: survey.map(|survey| survey.stays.clone()).unwrap_or_default(),
            placed_before: self.placement,
            placed: self.placement,
        };
        let Some(survey) = survey.filter(|survey| !survey.is_empty() || self.placement.is_some()) else {
            return Ok(outcome);
        };
        // Reading takes a while.
        self.look_again()?;
        // To ask that touches the file.
        if self.request.wanted.holes && !survey.is_empty() && !self.locked.storage.keeps_holes() {
            return Err(Error::usage(
                format!("the host of {} gives no space back inside of a file", self.path.display()),
                "without holes its blocks move, and the file becomes shorter; a fixed disk can be copied into a \
                 dynamic one",
            ));
        }
        let mut disk = ChainMut::over(self.locked.clone(), &OpenOptions::of_format(self.request.format))?;
        let done = self.change(&mut disk, survey, before, progress);
        let placed = disk.layer(0).map(|image| image.placement(u64::MAX, true));
        let closed = disk.close();
        self.keep_age();
        done.and(closed)?;
        outcome.placed = placed.transpose()?.flatten().filter(|_| self.placement.is_some());
        outcome.after = self.size()?;
        Ok(outcome)
    }
}

impl CompactPlan {
    /// Nothing has happened to the image since it was looked at.
    fn look_again(&self) -> Result<()> {
        self.locked.refuse_swapped(&self.path)?;
        self.request.guard.refuse_users(&self.path)?;
        if (modified(&self.path), self.locked.storage.len()?) == self.stand {
            return Ok(());
        }
        Err(Error::refused(
            Refusal::changed(&self.path),
            format!("{} was written to since the plan was made", self.path.display()),
            "look at it again, and begin again",
        ))
    }

    fn size(&self) -> Result<Size> {
        Ok(Size { file_len: self.locked.storage.len()?, allocated: self.locked.storage.allocated()? })
    }

    fn change(&self, disk: &mut ChainMut, survey: &Survey, before: Size, progress: &Progress) -> Result<()> {
        if !self.request.wanted.unused && !survey.is_empty() {
            disk.keep_data_identity()?;
        }
        if self.placement.is_none() {
            return self.give(disk, survey, progress);
        }
        disk.hold_space()?;
        if let Err(error) = self.give(disk, survey, progress) {
            // What was given up until then goes back to the host.
            _ = disk.arrange(Arrangement::Kept, 0, &mut |_| Ok(()));
            return Err(error);
        }
        let how = match (self.request.wanted.holes, self.request.in_order) {
            (true, _) => Arrangement::Kept,
            (false, true) => Arrangement::InOrder,
            (false, false) => Arrangement::Packed,
        };
        // A nearly full host is left what it has.
        let room = ROOM.min(free_space(&folder_of(&self.path))? / 4);
        progress.begin("moving blocks", 0);
        disk.arrange(how, room, &mut |moved| {
            let freed = before.allocated.saturating_sub(allocated_at(&self.path));
            progress.call(format!("moving blocks, {} freed so far", format_size(freed)));
            progress.advance(moved);
            progress.check()
        })
    }

    fn give(&self, disk: &ChainMut, survey: &Survey, progress: &Progress) -> Result<()> {
        self.each(disk, &survey.zero, progress, |disk, at, len| disk.zero_at(at, len))?;
        self.each(disk, &survey.parent, progress, |disk, at, len| disk.give_to_parent(at, len))?;
        self.each(disk, &survey.holes, progress, |disk, at, len| disk.dig(at, len))?;
        disk.flush()
    }

    fn each(
        &self,
        disk: &ChainMut,
        parts: &Grains,
        progress: &Progress,
        give: impl Fn(&ChainMut, u64, u64) -> Result<()>,
    ) -> Result<()> {
        if parts.is_empty() {
            return Ok(());
        }
        progress.begin("giving back what is not needed", parts.len());
        let size = disk.virtual_size();
        for Range { start, end } in parts.runs() {
            for piece in in_units(start, end.min(size) - start, PIECE) {
                progress.check()?;
                give(disk, start + piece.done, piece.len)?;
                progress.skip(piece.len);
            }
        }
        Ok(())
    }

    /// A layer is as old as its content. A repair is taken back only where the image was not touched since.
    fn keep_age(&self) {
        if self.is_parent
            && !Undo::is_kept_of(&self.path)
            && let Some(time) = self.stand.0
            && let Some(file) = self.locked.storage.clone().as_file()
            && let Ok(file) = file.downcast::<FileStorage>()
        {
            _ = file.set_modified(time);
        }
    }
}
