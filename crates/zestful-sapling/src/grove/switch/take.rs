//! A checkpoint is taken.

use std::path::PathBuf;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::super::begun::Begun;
use super::super::folder::{Locked, check_new_name};
use super::super::health::{Limits, old_and_large};
use super::super::resume::{plan_to_settle, settle_begun};
use super::SwitchRecord;
use super::draft::Draft;
use super::run::run;
use crate::error::{Error, Result};
use crate::family::Guard;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{Role, Work};
use crate::storage::Held;

/// A checkpoint of all tracked disks of a machine, to be taken.
///
/// The path of each current disk stays: what the disk holds is frozen under another name, and a finished child takes
/// its place. All disks or none; the bytes that they hold are not touched, so that it takes an instant whatever their
/// size.
///
/// What it can be allowed to do all the same: [`InUse`](crate::family::Override::InUse) though another process has a
/// disk open for writing, [`UnknownChildren`](crate::family::Override::UnknownChildren) though something may have grown
/// from one, [`HardLinks`](crate::family::Override::HardLinks) though one has a second name,
/// [`SavedState`](crate::family::Override::SavedState) though a suspended machine goes on from one,
/// [`Attributes`](crate::family::Override::Attributes) though a new file does not get all that the old one has,
/// [`OtherHost`](crate::family::Override::OtherHost) finishes first what another host began.
#[derive(Clone, Debug)]
pub struct TakeCheckpoint {
    folder: PathBuf,
    name: String,
    note: String,
    guard: Guard,
}

impl TakeCheckpoint {
    /// Of the machine in this folder, under this name.
    pub fn new(folder: impl Into<PathBuf>, name: impl Into<String>) -> Self {
        Self { folder: folder.into(), name: name.into(), note: String::new(), guard: Guard::new() }
    }

    /// With this note.
    pub fn with_note(mut self, note: impl Into<String>) -> Self {
        self.note = note.into();
        self
    }
}

impl Operation for TakeCheckpoint {
    type Planned = TakePlan;

    /// What taking it would do. The grove and the tracked disks stay locked as long as the plan lives. Where something
    /// was begun with the machine and cut short, the plan is to finish that, or take it back, first.
    ///
    /// # Errors
    /// `Usage` when the name cannot be used or the machine has no tracked disk; `Refused` when a disk is raw
    /// ([`NoLayers`](crate::Refusal::NoLayers)), in use, pinned, or has children, or the host has too little space;
    /// `Parent` and `Damaged` when a disk's chain is broken.
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take(&self.folder)?;
        self.plan_in(locked)
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

impl TakeCheckpoint {
    fn plan_in(self, locked: Locked) -> Result<TakePlan> {
        let guard = self.guard.clone().of_grove(locked.grove.folder());
        if let Some(begun) = &locked.begun {
            let mut plan = plan_to_settle(begun, "checkpoint take")?;
            plan.steps.push(format!("take the checkpoint {}", self.name));
            return Ok(TakePlan { plan, request: self, locked, guard, fresh: None });
        }
        let catalogue = locked.grove.catalogue();
        check_new_name(catalogue, &self.name)?;
        let mut draft = Draft::new(&locked, &guard, "checkpoint take", Some(&self.name), &self.note);
        let mut tracked = catalogue.disks.iter().filter(|disk| disk.role == Role::Tracked).peekable();
        if tracked.peek().is_none() {
            return Err(Error::usage(
                format!("the machine {} has no disk that checkpoints keep", catalogue.machine),
                "add one, with the role tracked",
            ));
        }
        tracked.try_for_each(|disk| draft.add(disk, None))?;
        draft.warn_of_growth()?;
        let told = old_and_large(&locked.grove, &Limits::default());
        draft.plan.warnings.extend(told.into_iter().map(|problem| problem.message));
        let after = catalogue.next;
        let (record, plan, held) = draft.finish(Work::Take, Some(after))?;
        Ok(TakePlan { plan, request: self, locked, guard, fresh: Some((record, held)) })
    }
}

/// A checked plan to take a checkpoint.
pub struct TakePlan {
    plan: Plan,
    request: TakeCheckpoint,
    locked: Locked,
    guard: Guard,
    /// Unless something has to be finished first.
    fresh: Option<(SwitchRecord, Arc<Held>)>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct TakeOutcome {
    /// The machine.
    pub machine: String,
    /// The name of the checkpoint.
    pub name: String,
    /// Where it keeps its images.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub folder: PathBuf,
    /// The disks in it.
    pub disks: Vec<String>,
    /// What was finished, or taken back, before.
    pub begun: Option<Begun>,
}

impl Planned for TakePlan {
    type Outcome = TakeOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Takes it. At every moment each current path has a whole image. After a crash the next command that changes the
    /// machine finds all disks as before, or all in the new checkpoint.
    ///
    /// # Errors
    /// As the plan, when something changed since; then all is as before. `UnderWay` when it could neither be finished
    /// nor taken back.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let (folder, catalogue) = (self.locked.grove.folder(), self.locked.grove.catalogue());
        progress.check()?;
        let Some((record, held)) = &self.fresh else {
            let begun = settle_begun(&self.locked, &self.guard)?;
            let outcome = self.request.clone().plan_in(self.locked.again()?)?.run(progress)?;
            return Ok(TakeOutcome { begun, ..outcome });
        };
        run(&self.locked, record, held, &self.guard)?;
        let kept = &record.payload.kept;
        Ok(TakeOutcome {
            machine: catalogue.machine.clone(),
            name: self.request.name.clone(),
            folder: folder.join(&kept.folder),
            disks: kept.disks.iter().map(|layer| layer.label.clone()).collect(),
            begun: None,
        })
    }
}
