//! What would become of the image.

use std::path::PathBuf;

use super::request::Compact;
use super::survey::{Survey, Wanted};
use crate::chain::{Chain, Disk, OpenOptions, open_parents};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, OpenForWriting, Override};
use crate::image::{Format, Image, ImageInfo, Kind, Placement, open_image};
use crate::operation::{Operation, Plan};
use crate::progress::Progress;
use crate::sidecar::modified;
use crate::size::format_size;
use crate::storage::{Medium, ReadAt, real};

impl Operation for Compact {
    type Planned = CompactPlan;

    /// Looks at where the blocks stand; what they hold is looked at by the run, or by [`CompactPlan::look`]. The image
    /// stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the image is no single file, is fixed and its blocks were to move, or has no parent that could hold
    /// the same; `Refused` when a fixed image would give up the
    /// space that is set aside for it, when somebody has the image open, if only for reading, without a lock, and as
    /// [`ChainMut::open_guarded`](crate::chain::ChainMut::open_guarded): but children are in the way only of what would
    /// change what they read; `Damaged`, `Io`.
    fn plan(mut self) -> Result<Self::Planned> {
        let changes_content = self.wanted.unused || self.wanted.same_as_parent;
        let (locked, is_parent) = match changes_content {
            true => {
                let locked = self.guard.open_for_writing(&self.path)?;
                self.guard.refuse_users(&self.path)?;
                (locked, false)
            }
            false => self.guard.open_to_compact(&self.path)?,
        };
        if locked.storage.medium() != Medium::File {
            let message = format!("{} is no file that could give anything back", self.path.display());
            return Err(Error::usage(message, "copy the disk into an image, which takes what it needs"));
        }
        let disk = self.open(&locked)?;
        let info = disk.info().clone();
        self.refuse_nonsense(&info, disk.layer(1))?;
        let placement = match info.kind {
            Kind::Fixed => None,
            _ => disk.layer(0).map(|image| image.placement(u64::MAX, true)).transpose()?.flatten(),
        };
        let path = real(&self.path)?;
        let mut plan = Plan { operation: "compact", warnings: locked.warnings.clone(), ..Plan::default() };
        let stand = (modified(&path), locked.storage.len()?);
        self.tell(&mut plan, &info, None, placement);
        plan.files.change.push(self.path.clone());
        plan.bytes_read = locked.storage.allocated()?;
        Ok(CompactPlan { plan, request: self, path, locked, is_parent, info, survey: None, placement, stand })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

impl Compact {
    /// The disk, for reading. Its parents are locked, too: their blocks may not move under this reader either.
    fn open(&self, locked: &OpenForWriting) -> Result<Chain> {
        let image = open_image(locked.storage.clone(), self.format)?;
        let (parents, _) = open_parents(&*image, locked.identity, &OpenOptions::new())?;
        Ok(Chain::from_layers(std::iter::once(image).chain(parents).collect()))
    }

    fn refuse_nonsense(&mut self, info: &ImageInfo, parent: Option<&dyn Image>) -> Result<()> {
        let name = self.path.display();
        if self.wanted.same_as_parent && parent.is_none() {
            return Err(Error::usage(format!("{name} has no parent that could hold the same"), "leave that out"));
        }
        if info.kind != Kind::Fixed {
            return Ok(());
        }
        if self.in_order {
            let message = format!("{name} is fixed: it is in the order of the disk, and nothing in it can move");
            return Err(Error::usage(message, "leave that out"));
        }
        if info.format != Format::Raw && !self.guard.allows(Override::ReservedSpace) {
            return Err(Error::refused(
                Refusal::ReservedSpace { path: self.path.clone() },
                format!(
                    "{name} is fixed: its space is set aside, so that no guest ever finds the host full; holes in it \
                     give that up"
                ),
                "leave it as it is, or copy it into a dynamic image, which takes what it needs",
            ));
        }
        self.wanted.holes = true;
        Ok(())
    }

    /// Looks for what can be given back.
    pub(super) fn survey(&self, locked: &OpenForWriting, progress: &Progress) -> Result<Survey> {
        let disk = self.open(locked)?;
        let below = match disk.layer(1) {
            Some(parent) => Some(Chain::open(parent.path(), &OpenOptions::new())?),
            None => None,
        };
        Survey::of(disk, below.as_ref(), self.wanted, progress)
    }

    fn tell(&self, plan: &mut Plan, info: &ImageInfo, survey: Option<&Survey>, placement: Option<Placement>) {
        let Wanted { unused, same_as_parent, holes } = self.wanted;
        let mut given = 0;
        match survey {
            None => {
                let what = match (unused, same_as_parent) {
                    (false, false) => "zeros only",
                    (true, false) => "zeros, and what file systems mark as free",
                    (false, true) => "zeros, or what the parent holds as well",
                    (true, true) => "zeros, what file systems mark as free, or what the parent holds as well",
                };
                let where_ = if info.kind == Kind::Fixed { "parts" } else { "blocks" };
                plan.steps.push(format!("look for {where_} that hold {what}, and give them back"));
            }
            Some(survey) => {
                let sizes = &survey.given;
                given = sizes.zeros + sizes.unused + sizes.same_as_parent;
                let told = [
                    (sizes.zeros, "in blocks that hold zeros only"),
                    (sizes.unused, "in blocks that hold only what file systems mark as free"),
                    (sizes.same_as_parent, "in blocks that the parent holds as well"),
                    (sizes.holes, "as holes, where data stands around them"),
                ];
                let told = told.iter().filter(|(size, _)| *size > 0);
                plan.steps.extend(told.map(|(size, what)| format!("give back {} {what}", format_size(*size))));
                plan.warnings.extend(survey.stays.told());
            }
        }
        let Some(placement) = placement.filter(|_| !holes) else { return };
        let packed = placement.packed_len.saturating_sub(given);
        if packed < placement.file_len {
            plan.steps.push(format!(
                "fill the gaps from the end of the file, which becomes {}, from {}",
                format_size(packed),
                format_size(placement.file_len)
            ));
            plan.bytes_written = placement.file_len - packed;
            // Of each move the new place, before the old one is free.
            plan.peak_extra_space = info.block_size.unwrap_or(0);
        }
        if self.in_order && placement.backward > 0 {
            plan.steps.push(format!(
                "lay the blocks out in the order of the disk: whoever reads it from end to end jumps {} times now in \
                 {} of blocks, and hardly ever then",
                placement.jumps,
                format_size(placement.blocks.saturating_mul(info.block_size.unwrap_or(0)))
            ));
            plan.bytes_written = plan.bytes_written.max(placement.file_len).saturating_mul(2);
            plan.peak_extra_space = info.block_size.unwrap_or(0);
        }
        if survey.is_some() && plan.steps.is_empty() {
            plan.steps.push("nothing: the image holds no more than it needs".to_owned());
        }
    }
}

/// A checked plan to have an image give back what it does not need.
pub struct CompactPlan {
    pub(super) plan: Plan,
    pub(super) request: Compact,
    /// Where the image really stands.
    pub(super) path: PathBuf,
    /// Keeps others away from the image.
    pub(super) locked: OpenForWriting,
    /// Whether others have grown from it.
    pub(super) is_parent: bool,
    pub(super) info: ImageInfo,
    pub(super) survey: Option<Survey>,
    pub(super) placement: Option<Placement>,
    /// When the image was last changed, and its length.
    pub(super) stand: (Option<jiff::Timestamp>, u64),
}

impl CompactPlan {
    /// Looks for what can be given back, so that the plan tells of it, and the run need not look again. Without this
    /// the run does it, and the plan knows of the gaps alone.
    ///
    /// # Errors
    /// `Damaged`, `Io`, `Cancelled`.
    pub fn look(&mut self, progress: &Progress) -> Result<()> {
        let survey = self.request.survey(&self.locked, progress)?;
        self.plan.steps.clear();
        self.request.tell(&mut self.plan, &self.info, Some(&survey), self.placement);
        self.survey = Some(survey);
        Ok(())
    }
}
