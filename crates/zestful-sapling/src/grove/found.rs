//! A machine's folder becomes a grove.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;

use super::folder::{lock, save};
use super::name;
use crate::error::Result;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{CATALOGUE, Catalogue};
use crate::storage::{FolderLock, create_folder, folder_of, real, refuse_existing};

/// A folder that is to become the grove of a machine.
#[derive(Clone, Debug)]
pub struct NewGrove {
    folder: PathBuf,
    machine: String,
}

impl NewGrove {
    /// This folder, which is made if it is not there, of the machine with this name.
    pub fn new(folder: impl Into<PathBuf>, machine: impl Into<String>) -> Self {
        Self { folder: folder.into(), machine: machine.into() }
    }
}

impl Operation for NewGrove {
    type Planned = NewGrovePlan;

    /// What making it would do.
    ///
    /// # Errors
    /// `Usage` when the name cannot be used; `Refused` when the folder is a grove, or lies in the history of one.
    fn plan(self) -> Result<Self::Planned> {
        name::check("a machine", &self.machine)?;
        let mut plan = Plan::of("grove new", Vec::new());
        match self.folder.is_dir() {
            true => refuse_existing(&self.folder.join(CATALOGUE))?,
            false => {
                refuse_existing(&self.folder)?;
                // The folder around it must be there.
                real(&folder_of(&self.folder))?;
                plan.steps.push(format!("make the folder {}", self.folder.display()));
            }
        }
        plan.steps.push(format!("make {} the grove of the machine {}", self.folder.display(), self.machine));
        plan.files.create.push(self.folder.join(CATALOGUE));
        Ok(NewGrovePlan { plan, request: self })
    }
}

/// A checked plan to make a grove.
pub struct NewGrovePlan {
    plan: Plan,
    request: NewGrove,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct GroveOutcome {
    /// The grove.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub folder: PathBuf,
    /// The machine.
    pub machine: String,
}

impl Planned for NewGrovePlan {
    type Outcome = GroveOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Makes it. After a crash the folder is a grove or it is none.
    ///
    /// # Errors
    /// `Refused` when somebody made it one meanwhile; `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let NewGrove { folder, machine } = &self.request;
        create_folder(folder)?;
        let folder = real(folder)?;
        let _lock: FolderLock = lock(&folder)?;
        refuse_existing(&folder.join(CATALOGUE))?;
        save(&folder, &Catalogue::new(machine))?;
        Ok(GroveOutcome { folder, machine: machine.clone() })
    }
}
