//! An image goes, unless something needs it.

use std::path::PathBuf;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::unfreeze::is_left_frozen;
use crate::error::{Error, Result};
use crate::family::{Guard, parent_beside, record_children, refuse_link};
use crate::image::pieces::is_descriptor;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{ChildrenChange, Companion, remove_redo, remove_undo};
use crate::storage::{Access, Held, remove, sync_folder};

/// An image to be removed.
///
/// What it can be allowed to do all the same: [`UnknownChildren`](crate::family::Override::UnknownChildren) removes
/// an image that may have children of which that cannot be told, [`InUse`](crate::family::Override::InUse) one that
/// another program has open for writing, [`HardLinks`](crate::family::Override::HardLinks) one of several names.
#[derive(Clone, Debug)]
pub struct Remove {
    path: PathBuf,
    guard: Guard,
}

impl Remove {
    /// Under this guard.
    pub(crate) fn with_guard(mut self, guard: Guard) -> Self {
        self.guard = guard;
        self
    }

    /// The image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), guard: Guard::new() }
    }
}

impl Operation for Remove {
    type Planned = RemovePlan;

    /// What removing would do.
    ///
    /// # Errors
    /// `Refused` when another image needs it (they are named), when it was frozen for children that are not to be
    /// found, or when it is in use; `Usage` when it is no single image.
    fn plan(self) -> Result<Self::Planned> {
        if is_descriptor(&self.path) {
            return Err(Error::usage(
                format!("{} is a disk in pieces", self.path.display()),
                "remove the pieces and then the descriptor by hand; nothing grows from them",
            ));
        }
        refuse_link(&self.path)?;
        let held = Arc::new(Held::default());
        held.take(&self.path, Access::AmendMetadata)?;
        self.guard.refuse_protected(&self.path)?;
        self.guard.refuse_kept(&self.path)?;
        self.guard.refuse_parent_under_way(&self.path)?;
        let mut plan = Plan { operation: "remove", ..Plan::default() };
        let advice = "they could not be read any more: remove them first, or copy them into images of their own";
        let (children, warnings) = self.guard.refuse_needed(&self.path, advice)?;
        plan.warnings.extend(warnings);
        plan.warnings.extend(self.guard.refuse_frozen(&self.path, &children)?);
        plan.warnings.extend(self.guard.refuse_writers([&*self.path])?);
        plan.steps.push(format!(
            "remove {}; no image in {} needs it, others were not looked at",
            self.path.display(),
            children.place()
        ));
        plan.files.remove.push(self.path.clone());
        let parent = parent_beside(&self.path);
        Ok(RemovePlan { plan, request: self, parent, held })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to remove an image.
pub struct RemovePlan {
    plan: Plan,
    request: Remove,
    /// Its own parent, where that is found.
    parent: Option<PathBuf>,
    /// Keeps others away from the image until it is gone.
    held: Arc<Held>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct RemoveOutcome {
    /// The name under which no image stands any more.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub removed: PathBuf,
    /// Its parent, when that stays frozen though no child of it is known any more.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Option<crate::path_data::PathData>")]
    pub frozen_parent: Option<PathBuf>,
    /// What is still recorded in the parent's companion, and why.
    pub still_recorded: Option<String>,
}

impl Planned for RemovePlan {
    type Outcome = RemoveOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Removes the file and its companion, and then has the parent's companion forget it. After a crash in between it
    /// is gone and still recorded there.
    ///
    /// # Errors
    /// `Refused` when another program has the image open for writing by now, or has put another file in its place;
    /// `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let Remove { path, guard } = &self.request;
        guard.refuse_writers([&**path])?;
        self.held.refuse_swapped(path)?;
        Companion::remove(path)?;
        let file = self.held.let_go(path)?;
        remove(path)?;
        sync_folder(path)?;
        remove_undo(path);
        // One that is left without a journal belongs to nothing.
        remove_redo(path).unwrap_or_default();
        // The space is needed for what follows, on a host that is full.
        drop(file);
        let mut outcome = RemoveOutcome { removed: path.clone(), frozen_parent: None, still_recorded: None };
        if let Some(parent) = &self.parent {
            let gone = std::slice::from_ref(path);
            outcome.still_recorded =
                record_children(parent, &ChildrenChange { gone, ..ChildrenChange::default() }, guard)?;
            outcome.frozen_parent = is_left_frozen(parent, guard)?.then(|| parent.clone());
        }
        Ok(outcome)
    }
}
