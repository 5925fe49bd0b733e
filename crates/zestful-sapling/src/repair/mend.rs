//! A damaged image is put right, so that it can be undone.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::apply::{Repairing, Way};
use super::draft::{Draft, RepairStep};
use super::impact::LossImpact;
use super::lenient::{LenientChain, Wanted};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override, children_of, record_children};
use crate::finding::{Finding, Losses, Severity};
use crate::image::{Format, is_single_file, probe};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{ChildrenChange, Undo, child_at, modified, size_of_undo};
use crate::storage::{Access, Edit, Held, ReadAt, real};

/// What only reading all content finds.
const UNWRITTEN: &str = "vhd-unwritten-data";

/// A damaged image that is to be put right: from what its file says twice, and with what is named, and only that, given
/// up. Its parents are not touched.
///
/// Before the first byte is overwritten its old content is kept in an undo file beside the image, with which
/// [`Undo`](super::UndoRepair) puts the image back exactly as it was.
///
/// What it can be allowed to do all the same: [`InUse`](crate::family::Override::InUse),
/// [`HardLinks`](crate::family::Override::HardLinks).
#[derive(Clone, Debug)]
pub struct Repair {
    path: PathBuf,
    format: Option<Format>,
    lossy: Vec<String>,
    guard: Guard,
}

impl Repair {
    /// The image at `path`, without losing anything.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), format: None, lossy: Vec::new(), guard: Guard::new() }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// Also mends what is found under this code, though something is given up by it; the plan tells what.
    pub fn losing(mut self, code: impl Into<String>) -> Self {
        self.lossy.push(code.into());
        self
    }
}

impl Operation for Repair {
    type Planned = RepairPlan;

    /// What it would do: [`RepairPlan`] has it step by step. The image stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the image is no single VHD or VHDX file, or a code was named under which nothing is found that is
    /// mended with a loss; `Damaged` when it cannot even be told what it is; `Refused` when it is in use, pinned or has
    /// a second name, something is under way with it, the host has too little space, or so much would change that it
    /// is not mended in place; `Io`.
    fn plan(self) -> Result<Self::Planned> {
        let Self { format, lossy, guard, .. } = &self;
        let path = &real(&self.path)?;
        if !is_single_file(path) {
            let message = format!("{} is no single image file", path.display());
            return Err(Error::usage(message, "devices, and disks in pieces, have no structures that could be mended"));
        }
        let held = Arc::new(Held::default());
        let file = held.take(path, Access::AmendMetadata)?;
        guard.refuse_protected(path)?;
        let not_seen = guard.refuse_writers([&**path])?;
        let before = (modified(path), file.len()?);
        let identity = file.host_identity()?;
        let format = probe(&*file, *format)?;
        if format == Format::Raw {
            let message = format!("{} is a raw disk, which has no structures of its own", path.display());
            return Err(Error::usage(message, "what a guest wrote into it is the guest's to mend"));
        }
        let progress = Progress::new();
        // That is found only by reading everything: for who asks for it.
        let names = |code: &str| lossy.iter().any(|named| named == code);
        let all = Draft::new(
            file.clone(),
            identity,
            format,
            guard,
            &|code| code != UNWRITTEN || names(UNWRITTEN),
            &progress,
        )?
        .steps;
        let is_lossy = |step: &&RepairStep| step.lossy;
        if let Some(code) = lossy.iter().find(|code| !all.iter().filter(is_lossy).any(|step| step.code == **code)) {
            return Err(no_such_loss(path, code, &all));
        }
        let consents = |code: &'static str| names(code);
        let draft = Draft::new(file.clone(), identity, format, guard, &consents, &progress)?;
        let done: Vec<&str> = draft.steps.iter().map(|step| step.code).collect();
        let offered: Vec<RepairStep> =
            all.iter().filter(is_lossy).filter(|step| !done.contains(&step.code)).cloned().collect();
        let edits = draft.storage.edits()?;
        let plan = describe(path, &draft, &edits, not_seen, guard)?;
        let new_len = draft.storage.len()?;
        let content = draft.content();
        let Draft { steps, left, parent, .. } = draft;
        Ok(RepairPlan { plan, steps, offered, left, content, parent, edits, new_len, before, request: self, held })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

fn no_such_loss(path: &Path, code: &str, steps: &[RepairStep]) -> Error {
    let codes: Vec<&str> = steps.iter().filter(|step| step.lossy).map(|step| step.code).collect();
    let advice = match codes.is_empty() {
        true => "nothing of it is mended with a loss".to_owned(),
        false => format!("these are found there: {}", codes.join(", ")),
    };
    Error::usage(format!("nothing that is mended with a loss is found in {} as {code}", path.display()), advice)
}

fn describe(path: &Path, draft: &Draft, edits: &[Edit], not_seen: Option<String>, guard: &Guard) -> Result<Plan> {
    let mut plan = Plan { operation: "repair", ..Plan::default() };
    plan.warnings.extend(not_seen);
    if draft.steps.is_empty() {
        return Ok(plan);
    }
    plan.steps = draft.steps.iter().map(RepairStep::told).collect();
    plan.files.change.push(path.to_owned());
    let changed = edits.iter().fold(0, |sum, edit| edit.len() + sum);
    let undo = size_of_undo(edits);
    plan.bytes_written = changed + undo;
    plan.bytes_read = changed;
    plan.peak_extra_space = undo + changed;
    Plan::require_space(path, plan.peak_extra_space)?;
    if !draft.content().is_empty() {
        let readers = children_of(path, &guard.search).map(|children| children.all().count()).unwrap_or_default();
        if readers > 0 {
            plan.warnings.push(format!(
                "{readers} images read through {}: what is lost or doubtful here is so in them, wherever they hold \
                 nothing themselves",
                path.display()
            ));
        }
    }
    Ok(plan)
}

/// A checked plan to mend an image.
pub struct RepairPlan {
    plan: Plan,
    steps: Vec<RepairStep>,
    offered: Vec<RepairStep>,
    left: Vec<Finding>,
    content: Losses,
    parent: Option<PathBuf>,
    edits: Vec<Edit>,
    new_len: u64,
    /// When the image was last changed, and its length.
    before: (Option<Timestamp>, u64),
    request: Repair,
    /// Keeps others away from the image.
    held: Arc<Held>,
}

impl RepairPlan {
    /// What would be done, in order; empty when there is nothing to mend, or no way to.
    pub fn steps(&self) -> &[RepairStep] {
        &self.steps
    }

    /// What could be mended beside that with a loss that nobody has consented to: to be named by its code.
    pub fn offered(&self) -> &[RepairStep] {
        &self.offered
    }

    /// What would be found in the image's own file afterwards.
    pub fn left(&self) -> &[Finding] {
        &self.left
    }

    /// What the steps mean for the content of the disk.
    pub fn content(&self) -> &Losses {
        &self.content
    }

    /// Which partitions, structures and files of the disk the steps would hit, and those that are offered beside them.
    ///
    /// # Errors
    /// As [`impact_of_losses`](super::impact_of_losses).
    pub fn impact(&self, progress: &Progress) -> Result<LossImpact> {
        let Repair { path, format, guard, .. } = &self.request;
        let path = &real(path)?;
        let file = self.held.take(path, Access::AmendMetadata)?;
        let wanted = Wanted { format: *format, search: guard.search.clone(), ..Wanted::default() };
        let mut losses = self.content.clone();
        self.offered.iter().for_each(|step| losses.join(&step.content));
        LossImpact::of(LenientChain::of_open(path, &file, &wanted, progress)?, &losses, progress)
    }
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct RepairOutcome {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What was done, in order; nothing when there was nothing to mend, or no way to.
    pub steps: Vec<RepairStep>,
    /// What that means for the content of this image's disk.
    pub content: Losses,
    /// The file that holds what was overwritten; none when nothing was.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Option<crate::path_data::PathData>")]
    pub undo_file: Option<PathBuf>,
    /// What is found in the image's own file afterwards.
    pub left: Vec<Finding>,
    /// What could be mended beside that with a loss.
    pub offered: Vec<RepairStep>,
    /// Whether a rule is still broken.
    pub damaged: bool,
}

impl Planned for RepairPlan {
    type Outcome = RepairOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Mends. After a crash the image is as it was, or a repair is under way, which can be carried on or given up, and
    /// then the image is exactly one or the other. A repair that cannot be written is taken back at once.
    ///
    /// # Errors
    /// `Refused` when the image was written to since the plan was made, or something is under way with it by now;
    /// `UnderWay` when it was begun and could be neither finished nor taken back; `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let Repair { path, guard, .. } = &self.request;
        let undo_file = match self.edits.is_empty() && self.new_len == self.before.1 {
            true => None,
            false => Some(self.write(&real(path)?, guard)?),
        };
        Ok(RepairOutcome {
            path: path.clone(),
            steps: self.steps.clone(),
            content: self.content.clone(),
            undo_file,
            left: self.left.clone(),
            offered: self.offered.clone(),
            damaged: self.left.iter().any(|finding| finding.severity() == Severity::Error),
        })
    }
}

impl RepairPlan {
    fn write(&self, path: &Path, guard: &Guard) -> Result<PathBuf> {
        self.held.refuse_swapped(path)?;
        guard.refuse_writers([path])?;
        let file = self.held.take(path, Access::AmendMetadata)?;
        if (modified(path), file.len()?) != self.before {
            return Err(Error::refused(
                Refusal::changed(path),
                format!("{} was written to since the plan was made", path.display()),
                "look at it again, and begin again",
            ));
        }
        if let Some(parent) = &self.parent {
            let new = [child_at(path)];
            let change = ChildrenChange { new: &new, ..ChildrenChange::default() };
            // The image reads through it in any case.
            record_children(parent, &change, &guard.clone().with_override(Override::UnrecordedChild))?;
        }
        let useless = Undo::useless(path, self.before.0, self.before.1);
        let codes = self.steps.iter().map(|step| step.code.to_owned()).collect();
        let undo = Undo::create(&*file, &self.edits, self.new_len, self.before.0, codes)?;
        let place = undo.place().to_owned();
        Repairing::begin(path, undo, Way::Forth)?.run(&file)?;
        for undo in useless {
            // One that is left does no harm.
            undo.remove().unwrap_or_default();
        }
        Ok(place)
    }
}
