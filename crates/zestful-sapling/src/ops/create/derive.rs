//! Differencing images, grown from a base.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;

use super::base::Base;
use super::blank::BlankChild;
use crate::chain::Disk;
use crate::error::{Error, Result};
use crate::family::Guard;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::storage::StagedFile;

/// Children to be grown from one base.
///
/// What it can be allowed to do all the same: [`UnrecordedChild`](crate::family::Override::UnrecordedChild) grows
/// children though the base's companion cannot record them, [`InUse`](crate::family::Override::InUse) though
/// another process has the base open for writing, [`HardLinks`](crate::family::Override::HardLinks) from one of
/// several names of the base.
#[derive(Clone, Debug)]
pub struct Derive {
    base: PathBuf,
    children: Vec<PathBuf>,
    absolute: bool,
    block_size: Option<u64>,
    guard: Guard,
}

impl Derive {
    /// These children of that base (any image that has an identity, itself a child or not).
    pub fn new(base: impl Into<PathBuf>, children: Vec<PathBuf>) -> Self {
        Self { base: base.into(), children, absolute: false, block_size: None, guard: Guard::new() }
    }

    /// Record the base's absolute path on this host as well; the relative one is always recorded.
    pub fn with_absolute(mut self, absolute: bool) -> Self {
        self.absolute = absolute;
        self
    }

    /// Another block size than the default.
    pub fn with_block_size(mut self, bytes: u64) -> Self {
        self.block_size = Some(bytes);
        self
    }
}

impl Operation for Derive {
    type Planned = DerivePlan;

    /// What growing them would do. The base is opened with its whole chain, so that no child is grown from a broken
    /// one, and stays locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the base is raw (it has no identity) or a name cannot be used; `Refused` when a child's file
    /// exists or the base is being written to; otherwise as [`Chain::open`](crate::chain::Chain::open).
    fn plan(self) -> Result<Self::Planned> {
        let mut plan = Plan { operation: "derive", ..Plan::default() };
        let (base, chain) = Base::open(&self.base, &self.guard, &mut plan)?;
        let size = chain.virtual_size();
        let Some(first) = self.children.first() else {
            return Err(Error::usage("no child was named", "name one file for each child"));
        };
        let mut children = Vec::new();
        for child in &self.children {
            if self.children.iter().filter(|other| *other == child).count() > 1 {
                return Err(Error::usage(
                    format!("{} is named twice", child.display()),
                    "give each child its own name",
                ));
            }
            let blank = base.child(child, size, self.absolute, self.block_size, &mut plan)?;
            children.push((child.clone(), blank));
        }
        plan.bytes_written = plan.peak_extra_space;
        plan.warn_of_growth(first, size, self.children.len())?;
        base.plan_record(&mut plan);
        Ok(DerivePlan { plan, base, children })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to grow children.
pub struct DerivePlan {
    plan: Plan,
    base: Base,
    children: Vec<(PathBuf, BlankChild)>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct DeriveOutcome {
    /// The new images.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub children: Vec<PathBuf>,
    /// Whether the base was frozen by this.
    pub newly_frozen: bool,
    /// Why the children could not be recorded in the base's companion, where that was allowed.
    pub unrecorded: Option<String>,
}

impl Planned for DerivePlan {
    type Outcome = DeriveOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Lays the children out, marks the base read-only, records the children in the base's companion, and gives them
    /// their names. A child is recorded, durably, before it appears; it appears whole and durable or not at all, and
    /// none before all are laid out. After a crash a recorded child may not be there.
    ///
    /// # Errors
    /// `Refused` when something appeared at a child's place since, when the base was touched, when it cannot record its
    /// children, or when too little space is left; `Io`, `Cancelled`. Children that appeared before stay.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        Plan::require_space(&self.children[0].0, self.plan.peak_extra_space)?;
        let mut staged = Vec::new();
        for (child, blank) in &self.children {
            progress.check()?;
            let file = StagedFile::create(child)?;
            blank.create_in(&*file.storage())?;
            staged.push(file);
        }
        let born = self.base.bear(staged)?;
        let children = self.children.iter().map(|(child, _)| child.clone()).collect();
        Ok(DeriveOutcome { children, newly_frozen: born.newly_frozen, unrecorded: born.unrecorded })
    }
}
