//! A machine is removed, with its history.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;

use super::folder::{Grove, Locked, clear_folder};
use super::forget::guard_for;
use super::lineage::Lineage;
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override};
use crate::operation::{Operation, Plan, Planned};
use crate::ops::Remove;
use crate::progress::Progress;
use crate::sidecar::{CATALOGUE, HISTORY, Owed};
use crate::size::format_size;
use crate::storage::{allocated_at, remove, remove_empty_folder, sync_folder};

/// A machine to be removed: its disks, and all its checkpoints.
///
/// What it can be allowed to do all the same: [`UnknownChildren`](crate::family::Override::UnknownChildren) though
/// something may have grown from an image of which that cannot be told, [`InUse`](crate::family::Override::InUse)
/// though another process has one open for writing.
#[derive(Clone, Debug)]
pub struct RemoveGrove {
    folder: PathBuf,
    guard: Guard,
}

impl RemoveGrove {
    /// The machine in this folder.
    pub fn new(folder: impl Into<PathBuf>) -> Self {
        Self { folder: folder.into(), guard: Guard::new() }
    }
}

impl Operation for RemoveGrove {
    type Planned = RemoveGrovePlan;

    /// What would be removed. The grove stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Refused` when an image elsewhere grows from one of the machine's, or may, when one is in use, or something was
    /// begun with the machine.
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take_settled(&self.folder)?;
        let guard = guard_for(&self.guard, &locked.grove);
        let order = in_order(&locked.grove);
        let lineage = Lineage::of(&locked.grove);
        let mut plan = Plan::of("grove remove", Vec::new());
        for path in order.iter().filter(|path| path.exists()) {
            let elsewhere = lineage.children_elsewhere(path, &guard.search)?;
            if !elsewhere.is_empty() && !guard.allows(Override::UnknownChildren) {
                let names: Vec<String> = elsewhere.iter().map(|child| child.display().to_string()).collect();
                return Err(Error::refused(
                    Refusal::NeededByChildren { image: path.clone(), children: elsewhere, unknown: Vec::new() },
                    format!("{} is needed by {}, which is none of the machine's", path.display(), names.join(", ")),
                    "copy each into an image of its own first, or remove it",
                ));
            }
            plan.steps.push(format!("remove {} ({})", path.display(), format_size(allocated_at(path))));
            plan.files.remove.push(path.clone());
        }
        plan.warnings.extend(guard.refuse_writers(order.iter().filter(|path| path.exists()).map(PathBuf::as_path))?);
        plan.steps.push(format!("remove the catalogue of {}", locked.grove.catalogue().machine));
        plan.files.remove.push(locked.grove.folder().join(CATALOGUE));
        Ok(RemoveGrovePlan { plan, locked, guard, order })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// The machine's images, each before those that it grows from.
fn in_order(grove: &Grove) -> Vec<PathBuf> {
    let mut images = Lineage::of(grove).images;
    let mut order = Vec::new();
    while let Some(number) =
        images.iter().position(|image| !images.iter().any(|other| other.parent.as_ref() == Some(&image.path)))
    {
        order.push(images.swap_remove(number).path);
    }
    order
}

/// A checked plan to remove a machine.
pub struct RemoveGrovePlan {
    plan: Plan,
    locked: Locked,
    guard: Guard,
    order: Vec<PathBuf>,
}

/// What became of it. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct RemoveGroveOutcome {
    /// The machine that is gone.
    pub machine: String,
    /// The folder, which stays when something else lies in it.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub folder: PathBuf,
    /// The images that are gone.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub removed: Vec<PathBuf>,
    /// What they took on the host.
    pub freed_bytes: u64,
}

impl Planned for RemoveGrovePlan {
    type Outcome = RemoveGroveOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Removes it, the current images first, the catalogue last: what is cut short is done to its end by the same call.
    ///
    /// # Errors
    /// As [`Remove`]; `Io`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let grove = &self.locked.grove;
        let (mut removed, mut freed_bytes) = (Vec::new(), 0);
        for path in self.order.iter().filter(|path| path.exists()) {
            progress.check()?;
            let takes = allocated_at(path);
            Remove::new(path).with_guard(self.guard.clone()).plan()?.run(progress)?;
            freed_bytes += takes;
            removed.push(path.clone());
        }
        for one in &grove.catalogue().checkpoints {
            clear_folder(&grove.path(&one.folder))?;
        }
        let place = grove.folder().join(CATALOGUE);
        Owed::clear(grove.folder())?;
        remove(&place)?;
        sync_folder(&place)?;
        remove_empty_folder(&grove.folder().join(HISTORY))?;
        remove_empty_folder(grove.folder())?;
        let machine = grove.catalogue().machine.clone();
        Ok(RemoveGroveOutcome { machine, folder: grove.folder().to_owned(), removed, freed_bytes })
    }
}
