//! Names, notes and protection of checkpoints.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;

use super::folder::{Locked, check_new_name, save};
use crate::error::{Error, Result};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{CATALOGUE, Checkpoint};

/// What is known of a checkpoint, to be changed.
#[derive(Clone, Debug)]
pub struct DescribeCheckpoint {
    folder: PathBuf,
    name: String,
    new_name: Option<String>,
    note: Option<String>,
    protected: Option<bool>,
}

impl DescribeCheckpoint {
    /// Of this checkpoint of the machine in this folder; nothing changes until it is said what.
    pub fn new(folder: impl Into<PathBuf>, name: impl Into<String>) -> Self {
        Self { folder: folder.into(), name: name.into(), new_name: None, note: None, protected: None }
    }

    /// Another name.
    pub fn with_name(mut self, name: impl Into<String>) -> Self {
        self.new_name = Some(name.into());
        self
    }

    /// Another note; an empty one takes it away.
    pub fn with_note(mut self, note: impl Into<String>) -> Self {
        self.note = Some(note.into());
        self
    }

    /// Whether it is left alone when old checkpoints are forgotten.
    pub fn with_protection(mut self, protected: bool) -> Self {
        self.protected = Some(protected);
        self
    }
}

impl Operation for DescribeCheckpoint {
    type Planned = DescribeCheckpointPlan;

    /// What would be written down. Folders and files keep their names.
    ///
    /// # Errors
    /// `Usage` when there is no such checkpoint, the new name cannot be used, or nothing was said; `Refused` when
    /// something was begun with the machine.
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take_settled(&self.folder)?;
        let mut changed = locked.grove.checkpoint(&self.name)?.clone();
        let mut plan = Plan::of("checkpoint note", Vec::new());
        if let Some(name) = self.new_name.filter(|name| *name != self.name) {
            check_new_name(locked.grove.catalogue(), &name)?;
            plan.operation = "checkpoint rename";
            plan.steps.push(format!("call the checkpoint {} {name}", self.name));
            changed.name = Some(name);
        }
        if let Some(note) = self.note {
            plan.steps.push(match note.is_empty() {
                true => format!("take the note of {} away", self.name),
                false => format!("note of {}: {note}", self.name),
            });
            changed.note = note;
        }
        if let Some(protected) = self.protected {
            plan.steps.push(match protected {
                true => format!("leave {} alone when old checkpoints are forgotten", self.name),
                false => format!("no longer leave {} alone when old checkpoints are forgotten", self.name),
            });
            changed.protected = protected;
        }
        if plan.steps.is_empty() {
            return Err(Error::usage("nothing was said to be changed", "give a name, a note, or protection"));
        }
        plan.files.change.push(locked.grove.folder().join(CATALOGUE));
        Ok(DescribeCheckpointPlan { plan, locked, changed })
    }
}

/// A checked plan to write down what is known of a checkpoint.
pub struct DescribeCheckpointPlan {
    plan: Plan,
    locked: Locked,
    changed: Checkpoint,
}

/// What is known of it now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct DescribeCheckpointOutcome {
    /// The machine.
    pub machine: String,
    /// The checkpoint's name.
    pub name: String,
    /// Its note.
    pub note: String,
    /// Whether it is left alone when old checkpoints are forgotten.
    pub protected: bool,
}

impl Planned for DescribeCheckpointPlan {
    type Outcome = DescribeCheckpointOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Writes it down: after a crash all of it or nothing. The record in the checkpoint's own folder follows, at the
    /// latest with the next change of the machine.
    ///
    /// # Errors
    /// `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let mut catalogue = self.locked.grove.catalogue().clone();
        catalogue
            .checkpoints
            .iter_mut()
            .filter(|one| one.number == self.changed.number)
            .for_each(|one| one.clone_from(&self.changed));
        save(self.locked.grove.folder(), &catalogue)?;
        let Checkpoint { name, note, protected, .. } = self.changed.clone();
        let name = name.unwrap_or_default();
        Ok(DescribeCheckpointOutcome { machine: catalogue.machine, name, note, protected })
    }
}
