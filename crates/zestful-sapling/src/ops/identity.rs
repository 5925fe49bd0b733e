//! A new identity for an image that was copied by hand.

use std::path::PathBuf;

use serde::Serialize;
use uuid::Uuid;

use super::Plan;
use super::guard::refuse_if_parent;
use crate::error::{Error, Result};
use crate::image::{Format, open_image, open_image_mut, open_place, open_place_mut};
use crate::storage::Access;

/// An image that is to get an identity of its own.
#[derive(Clone, Debug)]
pub struct FreshIdentity {
    path: PathBuf,
    format: Option<Format>,
}

impl FreshIdentity {
    /// The image at `path`. Its parents, if it has any, are not looked at: they stay the same.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), format: None }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Option<Format>) -> Self {
        self.format = format;
        self
    }

    /// What would change.
    ///
    /// # Errors
    /// `Refused` when another image in the same folder grew from this one, which would then no longer find its
    /// parent; `Usage` when the format has no identity; otherwise as [`open_image`].
    pub fn plan(self) -> Result<FreshIdentityPlan> {
        let image = open_image(open_place(&self.path, Access::Read)?.storage, self.format)?;
        let info = image.info();
        if info.data_identity.is_none() {
            return Err(Error::usage(
                format!("{} is a {} disk, which has no identity of its own", self.path.display(), info.format),
                "what a guest wrote into it, such as a partition table's, is the guest's to change",
            ));
        }
        let advice = "they know it by its identity: give a new one to the file that nothing grew from";
        refuse_if_parent(&self.path, advice)?;
        let mut plan = Plan { operation: "identity", ..Plan::default() };
        plan.steps.push(format!("give {} a new identity; its content stays", self.path.display()));
        plan.files.change.push(self.path.clone());
        Ok(FreshIdentityPlan { plan, request: self })
    }
}

/// A checked plan to change an identity.
#[derive(Clone, Debug)]
pub struct FreshIdentityPlan {
    plan: Plan,
    request: FreshIdentity,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FreshIdentityOutcome {
    /// The image.
    pub path: PathBuf,
    /// What identified the disk to a guest before; of a VHD image what its children knew it by.
    pub before: Option<Uuid>,
    /// What identifies it now.
    pub identity: Uuid,
}

impl FreshIdentityPlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Changes the identity that a guest sees and the one that children record. After a crash the image is whole and
    /// has the old identity or the new one.
    ///
    /// # Errors
    /// `Refused` when the image is read-only or in use; `Io`.
    pub fn run(&self) -> Result<FreshIdentityOutcome> {
        let FreshIdentity { path, format } = &self.request;
        let mut image = open_image_mut(open_place_mut(path, Access::Write)?.0, *format)?;
        let before = image.info().identity.or(image.info().data_identity);
        let identity = Uuid::new_v4();
        image.set_identity(identity)?;
        image.close()?;
        Ok(FreshIdentityOutcome { path: path.clone(), before, identity })
    }
}
