//! A former current disk that is frozen though nothing grows from it any more is free to write to again.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use crate::error::{Error, Result};
use crate::family::{Guard, children_of};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{ChildrenChange, Companion};
use crate::storage::{Access, Held, is_marked_read_only, mark_read_only, unmark_read_only};

/// A frozen image that is to be free again.
///
/// What it can be allowed to do all the same: [`UnknownChildren`](crate::family::Override::UnknownChildren) frees
/// an image that may have children of which that cannot be told.
#[derive(Clone, Debug)]
pub struct Unfreeze {
    path: PathBuf,
    guard: Guard,
}

impl Unfreeze {
    /// The image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), guard: Guard::new() }
    }
}

impl Operation for Unfreeze {
    type Planned = UnfreezePlan;

    /// What it would do. The image stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when it is not frozen; `Refused` when a child of it is known, or may exist: one that is recorded and
    /// not found, one that cannot be read, or any, when nobody recorded who grew from it; also when it is pinned or
    /// in use, or something is under way with it.
    fn plan(self) -> Result<Self::Planned> {
        let held = Arc::new(Held::default());
        held.take(&self.path, Access::AmendMetadata)?;
        if !is_marked_read_only(&self.path)? {
            return Err(Error::usage(
                format!("{} is not frozen", self.path.display()),
                "it can be written to as it is",
            ));
        }
        self.guard.refuse_protected(&self.path)?;
        self.guard.refuse_kept_layer(&self.path)?;
        let mut plan = Plan { operation: "unfreeze", ..Plan::default() };
        let advice = "they read through it as it is: remove them first, or copy them into images of their own";
        let (children, warnings) = self.guard.refuse_needed(&self.path, advice)?;
        plan.warnings.extend(warnings);
        plan.warnings.extend(self.guard.refuse_frozen(&self.path, &children)?);
        plan.warnings.extend(self.guard.refuse_writers([&*self.path])?);
        plan.steps.push(format!(
            "give {} its write permission back; no image in {} needs it, others were not looked at",
            self.path.display(),
            children.place()
        ));
        plan.files.change.push(self.path.clone());
        Ok(UnfreezePlan { plan, request: self, looked: children.looked, held })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to free a frozen image.
pub struct UnfreezePlan {
    plan: Plan,
    request: Unfreeze,
    looked: Vec<PathBuf>,
    /// Keeps others, who may want to grow a child, away from the image.
    held: Arc<Held>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct UnfreezeOutcome {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The folders in which children were looked for.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub looked: Vec<PathBuf>,
}

impl Planned for UnfreezePlan {
    type Outcome = UnfreezeOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Frees the image. After a crash it is frozen or free, and whole in any case.
    ///
    /// # Errors
    /// `Io` when the host refuses, or its companion cannot be written.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let path = &self.request.path;
        self.held.refuse_swapped(path)?;
        // What was missing is said to be gone for good.
        let gone = Companion::known(path)?.map_or_else(Vec::new, |companion| companion.child_paths(path));
        unmark_read_only(path)?;
        let change = ChildrenChange { gone: &gone, thaws: true, ..ChildrenChange::default() };
        Companion::change_children(path, &change).inspect_err(|_| mark_read_only(path).unwrap_or_default())?;
        Ok(UnfreezeOutcome { path: path.clone(), looked: self.looked.clone() })
    }
}

/// Whether an image is frozen, not pinned, and nothing is known to need it.
pub(in crate::ops) fn is_left_frozen(image: &Path, guard: &Guard) -> Result<bool> {
    if !is_marked_read_only(image)? {
        return Ok(false);
    }
    let is_pinned = Companion::known(image).is_ok_and(|known| known.is_some_and(|companion| companion.pin.is_some()));
    Ok(!is_pinned && children_of(image, &guard.search).is_ok_and(|children| children.is_none()))
}
