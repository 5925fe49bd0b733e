//! A new identity for an image that was copied by hand.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use crate::error::{Error, Result};
use crate::family::{Guard, OpenForWriting};
use crate::image::{Format, open_image, open_image_mut, open_place};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::storage::Access;

/// An image that is to get an identity of its own.
///
/// What it can be allowed to do all the same: [`UnknownChildren`](crate::family::Override::UnknownChildren),
/// [`InUse`](crate::family::Override::InUse), [`HardLinks`](crate::family::Override::HardLinks),
/// [`SavedState`](crate::family::Override::SavedState).
#[derive(Clone, Debug)]
pub struct FreshIdentity {
    path: PathBuf,
    format: Option<Format>,
    guard: Guard,
}

impl FreshIdentity {
    /// The image at `path`. Its parents, if it has any, are not looked at: they stay the same.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), format: None, guard: Guard::new() }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }
}

impl Operation for FreshIdentity {
    type Planned = FreshIdentityPlan;

    /// What would change. The image stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Refused` when another image grew from this one, or may have, which would then no longer find its parent, or
    /// when the image is read-only, pinned or in use; `Usage` when the format has no identity; otherwise as
    /// [`open_image`].
    fn plan(self) -> Result<Self::Planned> {
        let image = open_image(open_place(&self.path, Access::ReadUnlocked)?.storage, self.format)?;
        let info = image.info();
        if info.data_identity.is_none() {
            return Err(Error::usage(
                format!("{} is a {} disk, which has no identity of its own", self.path.display(), info.format),
                "what a guest wrote into it, such as a partition table's, is the guest's to change",
            ));
        }
        drop(image);
        let locked = self.guard.open_for_writing(&self.path)?;
        let mut plan = Plan { operation: "identity", warnings: locked.warnings.clone(), ..Plan::default() };
        plan.steps.push(format!("give {} a new identity; its content stays", self.path.display()));
        plan.files.change.push(self.path.clone());
        Ok(FreshIdentityPlan { plan, request: self, locked })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to change an identity.
pub struct FreshIdentityPlan {
    plan: Plan,
    request: FreshIdentity,
    /// Keeps others away from the image.
    locked: OpenForWriting,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct FreshIdentityOutcome {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What identified the disk to a guest before; of a VHD image what its children knew it by.
    pub before: Option<Uuid>,
    /// What identifies it now.
    pub identity: Uuid,
}

impl Planned for FreshIdentityPlan {
    type Outcome = FreshIdentityOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Changes the identity that a guest sees and the one that children record. After a crash the image is whole and
    /// has the old identity or the new one.
    ///
    /// # Errors
    /// `Refused` when another program has the image open for writing by now; `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let FreshIdentity { path, format, guard } = &self.request;
        self.locked.refuse_swapped(path)?;
        guard.refuse_writers([&**path])?;
        let mut image = open_image_mut(self.locked.storage.clone(), *format)?;
        let before = image.info().identity.or(image.info().data_identity);
        let identity = Uuid::new_v4();
        image.set_identity(identity)?;
        image.close()?;
        Ok(FreshIdentityOutcome { path: path.clone(), before, identity })
    }
}
