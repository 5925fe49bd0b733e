//! A child gets another base, and keeps its content.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::data::changed;
use super::record::{State, TransplantPayload, TransplantRecord};
use crate::chain::{Chain, Disk, DiskSide, OpenOptions, identity_of, judge_pair, record_of, records_absolute};
use crate::error::{Error, ParentProblemKind, Result};
use crate::family::{Guard, record_children, refuse_link};
use crate::image::{Image, ParentRecord, data_identity_at};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{ChildrenChange, Header, Journal, Member, Work, child_at, refuse_under_way, under_way_at};
use crate::size::format_size;
use crate::storage::{Access, Held, is_marked_read_only, mark_read_only, real};
use crate::transfer::{Delta, Mark, Transfer, cost_of, stamp_of};

/// A child that is to be put onto another base.
///
/// What it can be allowed to do all the same: [`InUse`](crate::family::Override::InUse) though another process has
/// an image open for writing, [`UnrecordedChild`](crate::family::Override::UnrecordedChild) though the new base's
/// companion cannot record the child, [`HardLinks`](crate::family::Override::HardLinks) though one of them has a
/// second name, [`SavedState`](crate::family::Override::SavedState) though a suspended machine goes on from the
/// child, [`OtherHost`](crate::family::Override::OtherHost) carries on what another host began.
#[derive(Clone, Debug)]
pub struct Transplant {
    child: PathBuf,
    base: PathBuf,
    guard: Guard,
}

impl Transplant {
    /// This child onto that base.
    pub fn new(child: impl Into<PathBuf>, base: impl Into<PathBuf>) -> Self {
        Self { child: child.into(), base: base.into(), guard: Guard::new() }
    }
}

impl Operation for Transplant {
    type Planned = TransplantPlan;

    /// What it would do. What lies between the two bases, and the child does not hold itself, is written into the
    /// child; the bytes named are what tables tell, of which content that is the same on both sides is left out by
    /// the run. Both, and all that they read through, stay locked as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the child has no parent, or the base has another format or no identity; `Parent` when the base grew
    /// from the child; `Refused` when one of them is in use, pinned (the child), or something is under way with it, or
    /// when too little space is left; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let mut plan = Plan { operation: "transplant", ..Plan::default() };
        let (child_path, base_path) = (real(&self.child)?, real(&self.base)?);
        if let Some(begun) = under_way_at(&self.child)? {
            let goes_there = begun.parent.as_ref().is_some_and(|parent| parent.path == base_path);
            if begun.work != Work::Transplant || !goes_there {
                refuse_under_way(&self.child)?;
            }
            plan.steps.push(format!("carry on the transplant that was begun {:.0}", begun.started));
            let state = State::Begun(begun);
            return Ok(TransplantPlan { plan, state, guard: self.guard, held: Arc::default() });
        }
        refuse_link(&self.child)?;
        let held = Arc::new(Held::default());
        held.take(&self.child, Access::AmendMetadata)?;
        let options = OpenOptions::new().with_held(&held);
        let child = Chain::open(&self.child, &options)?;
        let base = Chain::open(&self.base, &options)?;
        // What is read is locked from here on. What was begun with it before shows in the journals beside it.
        self.guard.refuse_protected(&self.child)?;
        self.guard.refuse_kept_layer(&self.child)?;
        self.guard.refuse_saved_state(&self.child, child.info())?;
        for layer in child.layers()[1..].iter().chain(base.layers()) {
            refuse_under_way(layer.path())?;
        }
        self.guard.refuse_hard_links(&self.base)?;
        plan.warnings.extend(self.guard.refuse_writers([&*child_path, &*base_path])?);
        let Some(parent) = child.layers().get(1) else {
            return Err(Error::usage(
                format!("{} has no parent", self.child.display()),
                "it stands alone and needs no base",
            ));
        };
        if base.info().format != child.info().format {
            return Err(Error::usage(
                format!(
                    "{} is a {} image, {} a {} image",
                    self.base.display(),
                    base.info().format,
                    self.child.display(),
                    child.info().format
                ),
                "parent and child have one format: copy the base into that format first",
            ));
        }
        let is_child = |layer: &dyn Image| real(layer.path()).is_ok_and(|path| path == child_path);
        if base.layers().iter().any(|layer| is_child(&**layer)) {
            return Err(Error::parent(&self.child, ParentProblemKind::Cycle { again: self.child.clone() }));
        }
        if real(parent.path())? == base_path {
            return Err(Error::usage(
                format!("{} is the parent of {} already", self.base.display(), self.child.display()),
                "name another base",
            ));
        }
        for warning in judge_pair(&*child.layers()[0], base.info(), &self.base)? {
            plan.warnings.push(warning.to_string());
        }
        let member = |path: &Path, chain: &Chain| Member::new(real(path)?, identity_of(path, chain.info())?);
        let own = member(&self.child, &child)?;
        let identity = own.identity;
        let absolute = records_absolute(child.info().parent.as_ref());
        let mut work = TransplantRecord::new(vec![own], child_path, TransplantPayload { identity, absolute });
        work.header.parent = Some(member(&self.base, &base)?);
        let old_parent = parent.path().to_owned();
        let old = DiskSide::of(Chain::open(&old_parent, &options)?)?;
        let new = DiskSide::of(base)?;
        let cost = cost_of(&Delta::Up { old: &old, new: &new, compare: true }, &*child.layers()[0], 0)?;
        plan.steps.push(format!(
            "compare up to {}, and write into {} what reads otherwise through {} than through {}",
            format_size(cost.moved),
            self.child.display(),
            self.base.display(),
            old_parent.display()
        ));
        plan.steps.push(format!("record {} as the parent of {}", self.base.display(), self.child.display()));
        plan.files.change.push(self.child.clone());
        if !is_marked_read_only(&self.base)? {
            plan.steps.push(format!("mark {} read-only on this host", self.base.display()));
            plan.files.change.push(self.base.clone());
        }
        plan.bytes_read = cost.moved * 2;
        plan.bytes_written = cost.moved;
        plan.peak_extra_space = cost.extra;
        Plan::require_space(&self.child, cost.extra)?;
        Ok(TransplantPlan { plan, state: State::Fresh(work), guard: self.guard, held })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to transplant.
pub struct TransplantPlan {
    plan: Plan,
    state: State<TransplantPayload>,
    guard: Guard,
    /// Keeps others away from the child, and writers from what it reads through before and after.
    held: Arc<Held>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct TransplantOutcome {
    /// The child.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The base that it reads through now.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub parent: PathBuf,
    /// Bytes that had to be written into the child.
    pub bytes_written: u64,
    /// Why the new base's companion could not record the child, where that was allowed.
    pub unrecorded: Option<String>,
}

impl Planned for TransplantPlan {
    type Outcome = TransplantOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Transplants. At every moment, also after a crash, the child and all that grew from it read as before; the same
    /// call, or [`Resume`](crate::repair::Resume), carries on.
    ///
    /// # Errors
    /// `Refused` when an image changed since the plan was made or is in use; `UnderWay` when it was begun and could
    /// not be finished, with why.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let work = match &self.state {
            State::Begun(begun) => return carry_on(begun, &self.held, &self.guard, progress),
            State::Fresh(work) => work,
        };
        // A bound from tables: what is the same on both sides will not be written.
        Plan::require_space(work.header.image(), self.plan.peak_extra_space)?;
        progress.check()?;
        self.held.refuse_swapped(work.header.image())?;
        refuse_unless_same(work)?;
        run(Journal::begin(work.clone())?, &[], &self.held, &self.guard, progress)
    }
}

fn refuse_unless_same(work: &TransplantRecord) -> Result<()> {
    for member in work.header.members.iter().chain(&work.header.parent) {
        if data_identity_at(&member.path) != Some(member.identity) {
            return Err(changed(work.header.work, &member.path));
        }
    }
    Ok(())
}

/// Goes on with a transplant from wherever it is.
pub(crate) fn carry_on(
    begun: &Header,
    held: &Arc<Held>,
    guard: &Guard,
    progress: &Progress,
) -> Result<TransplantOutcome> {
    begun.refuse_unproven()?;
    let (journal, marks) = Journal::reopen(begun)?;
    run(journal, &marks, held, guard, progress)
}

fn run(
    journal: Journal<TransplantPayload>,
    marks: &[Mark],
    held: &Arc<Held>,
    guard: &Guard,
    progress: &Progress,
) -> Result<TransplantOutcome> {
    let work = journal.record().clone();
    let run = || {
        guard.refuse_other_host(&work.header)?;
        let child = work.header.image();
        let Some(base) = &work.header.parent else {
            return Err(Error::usage("the journal names no base", "remove it"));
        };
        held.take(child, Access::AmendMetadata)?;
        let options = OpenOptions::new().with_held(held);
        let old = Chain::open(child, &options)?;
        let new = Chain::open(&base.path, &options)?;
        let old_parent = old.layers().get(1).map(|parent| parent.path().to_owned()).unwrap_or_default();
        guard.refuse_hard_links(child)?;
        guard.refuse_writers([child, &*base.path])?;
        refuse_unless_same(&work)?;
        let mut outcome =
            TransplantOutcome { path: child.to_owned(), parent: base.path.clone(), bytes_written: 0, unrecorded: None };
        if real(&old_parent)? != base.path {
            // The new base's companion records the child before the child reads through the base.
            let this = [child_at(child)];
            let freezes = !is_marked_read_only(&base.path)?;
            let change = ChildrenChange { new: &this, freezes, ..ChildrenChange::default() };
            outcome.unrecorded = record_children(&base.path, &change, guard)?;
            mark_read_only(&base.path)?;
            let mut image = held.image_mut(child)?;
            image.set_data_identity(work.payload.identity)?;
            let info = new.info().clone();
            let (old, new) = (DiskSide::of(Chain::open(&old_parent, &options)?)?, DiskSide::of(new)?);
            let stamps = vec![stamp_of(&old_parent)?, stamp_of(&base.path)?];
            let delta = Delta::Up { old: &old, new: &new, compare: true };
            outcome.bytes_written = Transfer { journal: &journal, delta, progress }.run(image, marks, stamps)?;
            let record = record_of(child, &base.path, &info, work.payload.absolute)?;
            held.record_parent(child, &ParentRecord { identity: base.identity, ..record })?;
            let gone = [child.to_owned()];
            record_children(&old_parent, &ChildrenChange { gone: &gone, ..ChildrenChange::default() }, guard)?;
        }
        Ok(outcome)
    };
    let outcome = run().map_err(|error: Error| error.under_way(work.header.image()))?;
    journal.end()?;
    Ok(outcome)
}

/// The child names its old base until the very end: giving up leaves it as it reads.
pub(crate) fn give_up(begun: &Header, guard: &Guard) -> Result<()> {
    let (journal, _) = Journal::<TransplantPayload>::reopen(begun)?;
    let work = journal.record().clone();
    let held = Held::default();
    held.take(work.header.image(), Access::AmendMetadata)?;
    let now = crate::family::parent_beside(work.header.image());
    if let Some(base) = work.header.parent.as_ref().filter(|base| now.as_ref() != Some(&base.path)) {
        let gone = [work.header.image().to_owned()];
        record_children(&base.path, &ChildrenChange { gone: &gone, ..ChildrenChange::default() }, guard)?;
    }
    journal.end()
}
