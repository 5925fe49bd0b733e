//! A checkpoint is taken.

use std::path::PathBuf;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

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
use crate::sidecar::{Catalogue, GroveDisk, Role, Work};
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
    pub(super) folder: PathBuf,
    pub(super) name: String,
    note: String,
    pub(super) guard: Guard,
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
        let draft = self.draft(&locked, &guard, |draft, disk| draft.add(disk, None))?;
        let after = locked.grove.catalogue().next;
        let (record, plan, held) = draft.finish(Work::Take, Some(after));
        Ok(TakePlan { plan, request: self, locked, guard, fresh: Some((record, held)) })
    }

    /// All tracked disks, each added by `add`, and what speaks against it.
    pub(super) fn draft<'a>(
        &self,
        locked: &'a Locked,
        guard: &'a Guard,
        mut add: impl FnMut(&mut Draft<'a>, &GroveDisk) -> Result<()>,
    ) -> Result<Draft<'a>> {
        let catalogue = locked.grove.catalogue();
        check_new_name(catalogue, &self.name)?;
        let mut draft = Draft::new(locked, guard, "checkpoint take", Some(&self.name), &self.note);
        tracked(catalogue)?.into_iter().try_for_each(|disk| add(&mut draft, disk))?;
        draft.warn_of_growth()?;
        let told = old_and_large(&locked.grove, &Limits::default());
        draft.plan.warnings.extend(told.into_iter().map(|problem| problem.message));
        draft.refuse_host()?;
        Ok(draft)
    }

    pub(super) fn outcome(&self, locked: &Locked, record: &SwitchRecord) -> TakeOutcome {
        let kept = &record.payload.kept;
        TakeOutcome {
            machine: locked.grove.catalogue().machine.clone(),
            name: self.name.clone(),
            folder: locked.grove.path(&kept.folder),
            disks: kept.disks.iter().map(|layer| layer.label.clone()).collect(),
            begun: None,
            paused_milliseconds: None,
            warnings: Vec::new(),
        }
    }
}

/// The disks that checkpoints keep.
pub(super) fn tracked(catalogue: &Catalogue) -> Result<Vec<&GroveDisk>> {
    let found: Vec<&GroveDisk> = catalogue.disks.iter().filter(|disk| disk.role == Role::Tracked).collect();
    match found.is_empty() {
        false => Ok(found),
        true => Err(Error::usage(
            format!("the machine {} has no disk that checkpoints keep", catalogue.machine),
            "add one, with the role tracked",
        )),
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[non_exhaustive]
pub struct TakeOutcome {
    /// The machine.
    pub machine: String,
    /// The name of the checkpoint.
    pub name: String,
    /// Where it keeps its images.
    #[serde(serialize_with = "crate::path_data::plain", deserialize_with = "crate::path_data::read")]
    #[schemars(with = "crate::path_data::PathData")]
    pub folder: PathBuf,
    /// The disks in it.
    pub disks: Vec<String>,
    /// What was finished, or taken back, before.
    pub begun: Option<Begun>,
    /// How long requests waited for it, where the machine ran meanwhile.
    pub paused_milliseconds: Option<u64>,
    /// What the user should know, where no plan told it before.
    pub warnings: Vec<String>,
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
        progress.check()?;
        let Some((record, held)) = &self.fresh else {
            let begun = settle_begun(&self.locked, &self.guard)?;
            let outcome = self.request.clone().plan_in(self.locked.again()?)?.run(progress)?;
            return Ok(TakeOutcome { begun, ..outcome });
        };
        run(&self.locked, record, held, &self.guard)?;
        Ok(self.request.outcome(&self.locked, record))
    }
}
