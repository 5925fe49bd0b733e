//! What a repair would do to an image: worked out in memory, before anything is written.

use std::path::PathBuf;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::parents::mend_parent;
use crate::error::Result;
use crate::family::Guard;
use crate::finding::{Finding, Losses, Repair as Class, rules};
use crate::image::{Format, Mended, mend};
use crate::progress::Progress;
use crate::storage::{HostIdentity, Overlay, ReadAt};

/// One kind of damage that is put right, wherever it is in the image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct RepairStep {
    /// The code of what was found.
    pub code: &'static str,
    /// Whether something is given up by it.
    pub lossy: bool,
    /// What is done, and why so.
    pub what: String,
    /// What that means for the content of this image's disk.
    pub content: Losses,
}

impl From<Mended> for RepairStep {
    fn from(mended: Mended) -> Self {
        let class = rules().find(|rule| rule.code == mended.code).map(|rule| rule.repair());
        // A parent that is found by its identity is the right one, whatever stood in its place.
        let lossy = class == Some(Class::Lossy) && !(mended.code == "parent-mismatch" && mended.content.is_empty());
        Self { code: mended.code, lossy, what: mended.what, content: mended.content }
    }
}

impl RepairStep {
    /// The step in words, with what it comes to.
    pub(super) fn told(&self) -> String {
        match (self.lossy, self.content.is_empty()) {
            (false, true) => format!("{} [{}]", self.what, self.code),
            (_, true) => format!("{} [{}, with a loss]", self.what, self.code),
            _ => format!("{} [{}, with a loss]: {}", self.what, self.code, self.content),
        }
    }
}

/// An image as it would be.
pub(super) struct Draft {
    pub(super) storage: Arc<Overlay>,
    pub(super) steps: Vec<RepairStep>,
    /// What is found afterwards.
    pub(super) left: Vec<Finding>,
    /// The parent that is recorded by it.
    pub(super) parent: Option<PathBuf>,
}

impl Draft {
    /// Mends in memory what may be mended.
    ///
    /// # Errors
    /// `Io`; `Refused` when too much would change; `Cancelled`.
    pub(super) fn new(
        file: Arc<dyn ReadAt>,
        identity: HostIdentity,
        format: Format,
        guard: &Guard,
        consents: &dyn Fn(&'static str) -> bool,
        progress: &Progress,
    ) -> Result<Self> {
        let storage = Arc::new(Overlay::new(file)?);
        let mending = mend(&storage, format, consents, progress)?;
        let mut steps: Vec<RepairStep> = mending.done.into_iter().map(RepairStep::from).collect();
        let (mut left, mut parent) = (mending.left, None);
        if let Some((mended, path)) = mend_parent(&storage, format, identity, &left, guard, consents)? {
            steps.push(mended.into());
            parent = Some(path);
            left = mend(&storage, format, &|_| false, progress)?.left;
        }
        Ok(Self { storage, steps, left, parent })
    }

    /// What all steps mean for the content.
    pub(super) fn content(&self) -> Losses {
        self.steps.iter().fold(Losses::default(), |mut sum, step| {
            sum.join(&step.content);
            sum
        })
    }
}
