//! A machine goes back to a checkpoint.

use std::path::PathBuf;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::super::begun::Begun;
use super::super::folder::{Locked, check_new_name};
use super::super::resume::{plan_to_settle, settle_begun};
use super::SwitchRecord;
use super::draft::Draft;
use super::run::run;
use crate::error::{Error, Result};
use crate::family::Guard;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{Role, Work};
use crate::storage::{Held, allocated_at};

/// What becomes of the present when a machine goes back.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Present {
    /// It becomes a checkpoint of this name.
    KeptAs(String),
    /// It is thrown away: all that was written since the checkpoint that it goes on from.
    Discarded,
}

/// A machine's tracked disks, to be made equal to a checkpoint again.
///
/// Each current path gets a fresh child of the disk at that checkpoint. The tree of checkpoints may branch: those that
/// followed stay. Disks that are apart from the checkpoints stay as they are, and so do those that were added since.
///
/// What it can be allowed to do all the same: as [`TakeCheckpoint`](super::TakeCheckpoint).
#[derive(Clone, Debug)]
pub struct Revert {
    folder: PathBuf,
    name: String,
    present: Present,
    note: String,
    guard: Guard,
}

impl Revert {
    /// The machine in this folder goes back to this checkpoint.
    pub fn new(folder: impl Into<PathBuf>, name: impl Into<String>, present: Present) -> Self {
        Self { folder: folder.into(), name: name.into(), present, note: String::new(), guard: Guard::new() }
    }

    /// With this note for the checkpoint that the present becomes.
    pub fn with_note(mut self, note: impl Into<String>) -> Self {
        self.note = note.into();
        self
    }

    fn plan_in(self, locked: Locked) -> Result<RevertPlan> {
        let guard = self.guard.clone().of_grove(locked.grove.folder());
        if let Some(begun) = &locked.begun {
            let mut plan = plan_to_settle(begun, "checkpoint revert")?;
            plan.steps.push(format!("go back to the checkpoint {}", self.name));
            return Ok(RevertPlan { plan, request: self, locked, guard, fresh: None });
        }
        let catalogue = locked.grove.catalogue();
        let target = locked.grove.checkpoint(&self.name)?;
        let name = match &self.present {
            Present::KeptAs(name) => Some(&**name),
            Present::Discarded => None,
        };
        name.map_or(Ok(()), |name| check_new_name(catalogue, name))?;
        let mut draft = Draft::new(&locked, &guard, "checkpoint revert", name, &self.note);
        let (mut discarded, mut newer, mut reverted) = (0u64, Vec::new(), 0);
        for disk in &catalogue.disks {
            let layer = target.layer(&disk.label);
            match (disk.role, layer) {
                (Role::Tracked, Some(layer)) => {
                    discarded += allocated_at(&locked.grove.path(&disk.path));
                    draft.add(disk, Some(layer))?;
                    reverted += 1;
                }
                // It is kept with the others, all of one moment, and goes on as it is.
                (Role::Tracked, None) => {
                    newer.push((disk.label.clone(), "was added after the checkpoint was taken"));
                    if name.is_some() {
                        draft.add(disk, None)?;
                    }
                }
                (Role::Apart, _) => newer.push((disk.label.clone(), "is apart from the checkpoints")),
                (Role::Throwaway, _) => {}
            }
        }
        if reverted == 0 {
            return Err(Error::usage(
                format!("none of the machine's disks is in the checkpoint {}", self.name),
                "choose another one, or add the disk again",
            ));
        }
        let after = Some(target.number);
        draft.refuse_host()?;
        let (record, mut plan, held) = draft.finish(Work::Revert, after);
        let stays = |(label, why): &(String, &str)| format!("the disk {label} stays as it is: it {why}");
        plan.warnings.extend(newer.iter().map(stays));
        let discarded = if name.is_some() { 0 } else { discarded };
        let outcome = RevertOutcome {
            machine: catalogue.machine.clone(),
            name: self.name.clone(),
            kept_as: name.map(str::to_owned),
            discarded_bytes: discarded,
            unchanged: newer.into_iter().map(|(label, _)| label).collect(),
            begun: None,
        };
        Ok(RevertPlan { plan, request: self, locked, guard, fresh: Some((record, held, outcome)) })
    }
}

impl Operation for Revert {
    type Planned = RevertPlan;

    /// What going back would do, and what it would throw away. The grove and the disks stay locked as long as the plan
    /// lives; what was begun before and cut short is seen to first.
    ///
    /// # Errors
    /// As for [`TakeCheckpoint`](super::TakeCheckpoint); `Usage` when there is no such checkpoint; `Refused` when a
    /// layer of it was changed.
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take(&self.folder)?;
        self.plan_in(locked)
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to go back.
pub struct RevertPlan {
    plan: Plan,
    request: Revert,
    locked: Locked,
    guard: Guard,
    /// Unless something has to be finished first.
    fresh: Option<(SwitchRecord, Arc<Held>, RevertOutcome)>,
}

/// What became of it. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct RevertOutcome {
    /// The machine.
    pub machine: String,
    /// The checkpoint that its disks equal now.
    pub name: String,
    /// The checkpoint that the present became.
    pub kept_as: Option<String>,
    /// What the images took on the host that were thrown away.
    pub discarded_bytes: u64,
    /// Disks that stayed as they are.
    pub unchanged: Vec<String>,
    /// What was finished, or taken back, before.
    pub begun: Option<Begun>,
}

impl Planned for RevertPlan {
    type Outcome = RevertOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Goes back. At every moment each current path has a whole image. After a crash the next command that changes the
    /// machine finds all disks as before, or all as they were at the checkpoint.
    ///
    /// # Errors
    /// As the plan, when something changed since; then all is as before. `UnderWay` when it could neither be finished
    /// nor taken back.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        progress.check()?;
        let Some((record, held, outcome)) = &self.fresh else {
            let begun = settle_begun(&self.locked, &self.guard)?;
            let outcome = self.request.clone().plan_in(self.locked.again()?)?.run(progress)?;
            return Ok(RevertOutcome { begun, ..outcome });
        };
        run(&self.locked, record, held, &self.guard)?;
        Ok(outcome.clone())
    }
}

impl RevertPlan {
    /// What it throws away: the bytes that the current images take on the host; zero when the present is kept.
    pub fn discarded_bytes(&self) -> u64 {
        self.fresh.as_ref().map_or(0, |(.., outcome)| outcome.discarded_bytes)
    }
}
