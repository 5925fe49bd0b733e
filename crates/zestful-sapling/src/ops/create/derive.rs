//! Differencing images, grown from a base.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use schemars::JsonSchema;
use serde::Serialize;

use super::blank::BlankChild;
use crate::chain::{Chain, Disk, OpenOptions, identity_of, record_of};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, record_children};
use crate::image::format_of_name;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{ChildrenChange, Companion, NewChild, refuse_under_way};
use crate::size::format_size;
use crate::storage::{Held, StagedFile, is_marked_read_only, mark_read_only, refuse_existing, unmark_read_only};

/// How long a look at all processes of the host counts, which takes a noticeable part of the time of so small a change.
const INSTANT: Duration = Duration::from_millis(20);

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

    /// Refuses a base that something is happening to.
    fn refuse_changing(&self) -> Result<()> {
        refuse_under_way(&self.base)?;
        self.guard.refuse_hard_links(&self.base)
    }
}

impl Operation for Derive {
    type Planned = DerivePlan;

    /// What growing them would do. The base is opened with its whole chain, so that no child is grown from a broken
    /// one, and stays locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the base is raw (it has no identity) or a name cannot be used; `Refused` when a child's file
    /// exists or the base is being written to; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let held = Arc::new(Held::default());
        let base = Chain::open(&self.base, &OpenOptions::new().with_held(&held))?;
        // The base is locked from here on. What was begun with it before shows in the journal beside it.
        self.refuse_changing()?;
        let not_seen = self.guard.refuse_writers([&*self.base])?;
        let looked = Instant::now();
        let info = base.info().clone();
        identity_of(&self.base, &info)?;
        if self.children.is_empty() {
            return Err(Error::usage("no child was named", "name one file for each child"));
        }
        let mut plan = Plan { operation: "derive", ..Plan::default() };
        plan.warnings.extend(not_seen);
        let already = is_marked_read_only(&self.base)?;
        if !already {
            plan.steps.push(format!("mark {} read-only on this host", self.base.display()));
            plan.files.change.push(self.base.clone());
        }
        let mut children = Vec::new();
        for child in &self.children {
            refuse_existing(child)?;
            if self.children.iter().filter(|other| *other == child).count() > 1 {
                return Err(Error::usage(
                    format!("{} is named twice", child.display()),
                    "give each child its own name",
                ));
            }
            if format_of_name(child) != Some(info.format) {
                return Err(Error::usage(
                    format!("{} does not end in .{}", child.display(), info.format),
                    format!("a child of a {0} image is a {0} image: name it so", info.format),
                ));
            }
            let record = record_of(child, &self.base, &info, self.absolute)?;
            let blank = BlankChild::new(info.format, &info, record, self.block_size)?;
            plan.steps.push(format!(
                "make {}: {}, differencing, {}, a child of {}",
                child.display(),
                info.format,
                format_size(info.virtual_size),
                self.base.display()
            ));
            plan.files.create.push(child.clone());
            plan.peak_extra_space += blank.metadata_len()?;
            children.push((child.clone(), blank));
        }
        plan.bytes_written = plan.peak_extra_space;
        plan.warn_of_growth(&self.children[0], info.virtual_size, self.children.len())?;
        plan.steps.push(format!("record them in {}", Companion::place(&self.base).display()));
        let identity = identity_of(base.layers()[0].path(), &info)?;
        Ok(DerivePlan { plan, request: self, children, held, identity, looked })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to grow children.
pub struct DerivePlan {
    plan: Plan,
    request: Derive,
    children: Vec<(PathBuf, BlankChild)>,
    /// Keeps the base and its parents locked against writers until the children are there.
    held: Arc<Held>,
    identity: uuid::Uuid,
    /// When it was found out who has the base open for writing.
    looked: Instant,
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
        let base = &self.request.base;
        Plan::require_space(&self.children[0].0, self.plan.peak_extra_space)?;
        let mut staged = Vec::new();
        for (child, blank) in &self.children {
            progress.check()?;
            let file = StagedFile::create(child)?;
            blank.create_in(&*file.storage())?;
            staged.push(file);
        }
        self.request.refuse_changing()?;
        // A program that opens the base just after the look is not seen, and no look could see it.
        if self.looked.elapsed() > INSTANT {
            self.request.guard.refuse_writers([&**base])?;
        }
        self.held.refuse_swapped(base)?;
        let found = self.held.image(base)?.info().data_identity;
        if found != Some(self.identity) {
            return Err(Error::refused(
                Refusal::changed(base),
                format!("{} was changed by another program since the plan was made", base.display()),
                "end what uses it, and begin again",
            ));
        }
        let newly_frozen = !is_marked_read_only(base)?;
        let unrecorded = self.record_and_publish(staged, newly_frozen).inspect_err(|_| self.take_back(newly_frozen))?;
        let children = self.children.iter().map(|(child, _)| child.clone()).collect();
        Ok(DeriveOutcome { children, newly_frozen, unrecorded })
    }
}

impl DerivePlan {
    fn record_and_publish(&self, staged: Vec<StagedFile>, newly_frozen: bool) -> Result<Option<String>> {
        let Derive { base, guard, .. } = &self.request;
        let record = |file: &StagedFile| -> Result<NewChild> { Ok((file.target().to_owned(), Some(file.file_id()?))) };
        let new = staged.iter().map(record).collect::<Result<Vec<NewChild>>>()?;
        let change = ChildrenChange { new: &new, freezes: newly_frozen, ..ChildrenChange::default() };
        let unrecorded = record_children(base, &change, guard)?;
        mark_read_only(base)?;
        staged.into_iter().try_for_each(StagedFile::publish)?;
        Ok(unrecorded)
    }

    /// Strikes children off the record that were recorded and did not appear. An error is left out: another one, which
    /// ended the work, is told.
    fn take_back(&self, newly_frozen: bool) {
        let base = &self.request.base;
        let missing =
            self.children.iter().map(|(child, _)| child.clone()).filter(|child| refuse_existing(child).is_ok());
        let missing: Vec<PathBuf> = missing.collect();
        let thaws = newly_frozen && missing.len() == self.children.len();
        let change = ChildrenChange { gone: &missing, thaws, ..ChildrenChange::default() };
        _ = Companion::change_children(base, &change);
        if thaws {
            _ = unmark_read_only(base);
        }
    }
}
