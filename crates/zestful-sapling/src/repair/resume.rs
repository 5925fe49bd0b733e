//! Work on several files that was begun and cut short: found, carried on, or given up.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::apply::{carry_on_repair, give_up_repair};
use crate::error::{Error, Result};
use crate::family::{Guard, journals_in};
use crate::grove::{self, Begun, ForgetOutcome};
use crate::operation::{Operation, Plan, Planned};
use crate::ops::{
    MergeOutcome, MoveOutcome, ResizeOutcome, TransplantOutcome, carry_on_merge, carry_on_move, carry_on_resize,
    carry_on_transplant, give_up_merge, give_up_move, give_up_resize, give_up_transplant,
};
use crate::progress::Progress;
use crate::sidecar::{Header, Owed, Work, clear_copies, is_journal, read_header, under_way_at, under_way_in_grove};
use crate::storage::Held;

/// What became of work that was carried on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "work", rename_all = "lowercase")]
#[non_exhaustive]
pub enum Resumed {
    /// A merge.
    Merge(MergeOutcome),
    /// A transplant.
    Transplant(TransplantOutcome),
    /// A move.
    Move(MoveOutcome),
    /// A checkpoint was being taken, a machine was going back to one, or was being copied.
    Machine(Begun),
    /// Checkpoints were being forgotten.
    Forget(ForgetOutcome),
    /// A damaged image was being mended, or that taken back.
    Repair(RepairOver),
    /// A disk was getting another size.
    Resize(ResizeOutcome),
    /// Nothing: the work was over, and only a copy of its journal was left.
    Over(OverOutcome),
}

/// A repair, or the taking back of one, that is over now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct RepairOver {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Whether it is mended; otherwise it is as it was before the repair.
    pub mended: bool,
}

/// Work that was over already.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct OverOutcome {
    /// The image with which it had been begun.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
}

/// Work that was begun and cut short, to be carried on.
///
/// What it can be allowed to do all the same: [`OtherHost`](crate::family::Override::OtherHost) carries on what
/// another host began; otherwise as the work itself.
#[derive(Clone, Debug)]
pub struct Resume {
    path: PathBuf,
    guard: Guard,
}

impl Resume {
    /// What was begun with the image at `path`, or in a folder where only one thing is under way, or what a journal
    /// tells of.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), guard: Guard::new() }
    }
}

impl Operation for Resume {
    type Planned = ResumePlan;

    /// What is left to be done.
    ///
    /// # Errors
    /// `Usage` when nothing is under way, or several things; `Damaged` when the journal is; `Refused` when another host
    /// began it, or it was begun with other files (this is a copy).
    fn plan(self) -> Result<Self::Planned> {
        let begun = begun_at(&self.path, &self.guard)?;
        let what = if begun.is_over()? { "take away what is left of" } else { "carry on" };
        Ok(ResumePlan { plan: plan_for("resume", what, &begun), request: self, begun })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to carry on what was begun.
pub struct ResumePlan {
    plan: Plan,
    request: Resume,
    begun: Header,
}

impl Planned for ResumePlan {
    type Outcome = Resumed;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Carries on. At every moment all that is read reads as before.
    ///
    /// # Errors
    /// `Refused` when another process is at it; `UnderWay` when it could not be finished this time either, with why.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let Self { request: Resume { guard, .. }, begun, .. } = self;
        if begun.is_over()? {
            clear_copies(begun)?;
            return Ok(Resumed::Over(OverOutcome { path: begun.image().to_owned() }));
        }
        let held = Arc::new(Held::default());
        match begun.work {
            Work::Merge => carry_on_merge(begun, &held, guard, progress).map(Resumed::Merge),
            Work::Transplant => carry_on_transplant(begun, &held, guard, progress).map(Resumed::Transplant),
            Work::Move => carry_on_move(begun, &held, guard).map(Resumed::Move),
            Work::Take | Work::Revert | Work::Copy => grove::carry_on(begun, guard).map(Resumed::Machine),
            Work::Forget => grove::carry_on_forgetting(begun, guard, progress).map(Resumed::Forget),
            Work::Repair | Work::Undo => {
                carry_on_repair(begun, guard)?;
                let mended = begun.work == Work::Repair;
                Ok(Resumed::Repair(RepairOver { path: begun.image().to_owned(), mended }))
            }
            Work::Resize => carry_on_resize(begun, guard, progress).map(Resumed::Resize),
        }
    }
}

/// Work that was begun and cut short, to be given up, where that is still possible: the chain reads as before.
///
/// What was written into an image stays there; it shows nothing that was not to be seen before, but an ancestor into
/// which a merge had begun to write no longer holds its own earlier state, nor do the layers between.
///
/// What it can be allowed to do all the same: as [`Resume`].
#[derive(Clone, Debug)]
pub struct Abandon {
    path: PathBuf,
    guard: Guard,
}

impl Abandon {
    /// What was begun with the image at `path`, or in a folder where only one thing is under way, or what a journal
    /// tells of.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), guard: Guard::new() }
    }
}

impl Operation for Abandon {
    type Planned = AbandonPlan;

    /// What would be given up.
    ///
    /// # Errors
    /// As [`Resume`].
    fn plan(self) -> Result<Self::Planned> {
        let begun = match begun_at(&self.path, &self.guard) {
            // A machine with which nothing else is under way may owe something to its guest.
            Err(Error::Usage(_)) if owed_by(&self.path)?.is_some() => {
                let what = format!("no longer say that a guest of {} may have to be let go on", self.path.display());
                let plan = Plan::of("abandon", vec![what]);
                return Ok(AbandonPlan { plan, request: self, begun: None });
            }
            begun => begun?,
        };
        begun.is_over()?;
        Ok(AbandonPlan { plan: plan_for("abandon", "give up", &begun), request: self, begun: Some(begun) })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to give up what was begun.
pub struct AbandonPlan {
    plan: Plan,
    request: Abandon,
    /// Nothing but what is owed to a guest.
    begun: Option<Header>,
}

/// What was given up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Abandoned {
    /// The image with which it was begun.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What it was; nothing, where a command was owed after a checkpoint.
    pub work: Option<Work>,
}

impl Planned for AbandonPlan {
    type Outcome = Abandoned;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Gives it up.
    ///
    /// # Errors
    /// `Refused` when another process is at it, or all data was moved already, so that only going on is left; `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let Self { request: Abandon { guard, path }, begun, .. } = self;
        let Some(begun) = begun else {
            Owed::clear(path)?;
            return Ok(Abandoned { path: path.clone(), work: None });
        };
        if begun.is_over()? {
            clear_copies(begun)?;
        } else {
            match begun.work {
                Work::Merge => give_up_merge(begun, guard)?,
                Work::Transplant => give_up_transplant(begun, guard)?,
                Work::Move => give_up_move(begun, guard)?,
                Work::Take | Work::Revert | Work::Copy => _ = grove::give_up(begun, guard)?,
                Work::Forget => grove::give_up_forgetting(begun, guard)?,
                Work::Repair | Work::Undo => give_up_repair(begun, guard)?,
                Work::Resize => give_up_resize(begun, guard)?,
            }
        }
        Ok(Abandoned { path: begun.image().to_owned(), work: Some(begun.work) })
    }
}

/// What is owed to the guest of the machine in a folder.
fn owed_by(path: &Path) -> Result<Option<Owed>> {
    if path.is_dir() { Owed::of(path) } else { Ok(None) }
}

fn plan_for(operation: &'static str, what: &str, begun: &Header) -> Plan {
    let mut plan = Plan { operation, ..Plan::default() };
    let image = begun.image().display();
    plan.steps.push(format!("{what} {} of {image} that was begun {:.0}", begun.work, begun.started));
    plan.files.change.extend(begun.changing().map(Path::to_owned));
    plan
}

/// What is under way with an image, beside which a journal stands, or, alone, in a folder.
fn begun_at(path: &Path, guard: &Guard) -> Result<Header> {
    let begun = header_at(path)?;
    guard.refuse_other_host(&begun)?;
    begun.refuse_unproven()?;
    Ok(begun)
}

fn header_at(path: &Path) -> Result<Header> {
    let nothing = || {
        Error::usage(
            format!("nothing is under way with {}", path.display()),
            "name the image with which it was begun, its journal, or the folder where it stands",
        )
    };
    if is_journal(path) {
        return read_header(path);
    }
    if !path.is_dir() {
        return under_way_at(path)?.ok_or_else(nothing);
    }
    // Work on a whole machine sees to what it had begun with single images.
    if let Some(header) = under_way_in_grove(path)? {
        return Ok(header);
    }
    let mut found = journals_in(path)?;
    match (found.pop(), found.is_empty()) {
        (Some((_, header)), true) => header,
        (None, _) => Err(nothing()),
        (Some(last), false) => {
            found.push(last);
            let names: Vec<String> = found.iter().map(|(path, _)| path.display().to_string()).collect();
            Err(Error::usage(format!("several things are under way there: {}", names.join(", ")), "name one of them"))
        }
    }
}
