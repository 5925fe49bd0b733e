//! A repair is taken back.

use std::path::PathBuf;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::apply::{Repairing, Way, written_since};
use crate::error::{Error, Result};
use crate::family::Guard;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{Stand, Undo, modified};
use crate::storage::{Access, Held, ReadAt, real};

/// The last repair of an image that is to be taken back: the image becomes exactly what it was before.
///
/// What it can be allowed to do all the same: as [`Repair`](super::Repair).
#[derive(Clone, Debug)]
pub struct UndoRepair {
    path: PathBuf,
    guard: Guard,
}

impl UndoRepair {
    /// The image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), guard: Guard::new() }
    }
}

impl Operation for UndoRepair {
    type Planned = UndoRepairPlan;

    /// What would be put back. The image stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when there is no undo file; `Refused` when the image was written to since the repair, or the undo file
    /// is another image's, or when the image is in use, pinned or has a second name, or something is under way with it;
    /// `Damaged` when the undo file is; `Io`.
    fn plan(self) -> Result<Self::Planned> {
        let (path, guard) = (&real(&self.path)?, &self.guard);
        let held = Arc::new(Held::default());
        let file = held.take(path, Access::AmendMetadata)?;
        guard.refuse_protected(path)?;
        let not_seen = guard.refuse_writers([&**path])?;
        let undo = Undo::latest(path)?.ok_or_else(|| {
            Error::usage(
                format!("no undo file stands beside {}", path.display()),
                "only a repair that changed something leaves one, and taking it back uses it up",
            )
        })?;
        let is_there = undo.is_current(modified(path), file.len()?) && undo.stand(&*file)? == Stand::New;
        if !is_there {
            return Err(written_since(path, &undo));
        }
        let mut plan = Plan { operation: "repair", ..Plan::default() };
        plan.warnings.extend(not_seen);
        plan.steps.push(format!(
            "put back what the repair of {:.0} overwrote: {} bytes, for {}",
            undo.made(),
            undo.bytes(),
            undo.mended().join(", ")
        ));
        plan.files.change.push(path.clone());
        plan.files.remove.push(undo.place().to_owned());
        plan.bytes_read = undo.bytes();
        plan.bytes_written = undo.bytes();
        let number = undo.number();
        drop(undo);
        Ok(UndoRepairPlan { plan, request: self, number, held })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to take a repair back.
pub struct UndoRepairPlan {
    plan: Plan,
    request: UndoRepair,
    number: u32,
    /// Keeps others away from the image.
    held: Arc<Held>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct UndoRepairOutcome {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What is damaged again, by the codes.
    pub codes: Vec<String>,
    /// Bytes that were put back.
    pub bytes: u64,
    /// Repairs before that one, which can be taken back as well.
    pub earlier: usize,
}

impl Planned for UndoRepairPlan {
    type Outcome = UndoRepairOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Takes it back. After a crash the image is as the repair left it, or this is under way, and can be carried on or
    /// given up.
    ///
    /// # Errors
    /// `Refused` when the image was written to since the plan was made; `UnderWay` when it was begun and not finished;
    /// `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let (path, guard) = (&real(&self.request.path)?, &self.request.guard);
        self.held.refuse_swapped(path)?;
        guard.refuse_writers([&**path])?;
        let file = self.held.take(path, Access::AmendMetadata)?;
        let gone = || Error::usage(format!("the undo file of {} is gone", path.display()), "look at it again");
        let undo = Undo::open(path, self.number)?.ok_or_else(gone)?;
        if !undo.is_current(modified(path), file.len()?) || undo.stand(&*file)? != Stand::New {
            return Err(written_since(path, &undo));
        }
        let (codes, bytes) = (undo.mended().to_vec(), undo.bytes());
        Repairing::begin(path, undo, Way::Back)?.run(&file)?;
        let earlier = crate::sidecar::undo_files(path).len();
        Ok(UndoRepairOutcome { path: self.request.path.clone(), codes, bytes, earlier })
    }
}
