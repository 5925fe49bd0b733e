//! A child gets another base, and keeps its content.

use std::path::{Path, PathBuf};

use serde::Serialize;

use super::carry::{Carry, cost_of};
use super::guard::{refuse_change, refuse_written_elsewhere};
use super::kin::{look, refuse_link};
use super::mover::{Mover, open_mut};
use super::{Override, Plan};
use crate::chain::{
    Chain, Companion, Disk, Intent, Journal, Mark, Member, OpenOptions, Side, Work, identity_of, intent_of, judge_pair,
    record_of, records_absolute, refuse_under_way, stamp_of,
};
use crate::error::{Error, ParentProblemKind, Refusal, Result};
use crate::image::{Image, ParentRecord};
use crate::progress::Progress;
use crate::size::format_size;
use crate::storage::{is_marked_read_only, mark_read_only, real};

/// A child that is to be put onto another base.
#[derive(Clone, Debug)]
pub struct Transplant {
    child: PathBuf,
    base: PathBuf,
    overrides: Vec<Override>,
}

impl Transplant {
    /// This child onto that base.
    pub fn new(child: impl Into<PathBuf>, base: impl Into<PathBuf>) -> Self {
        Self { child: child.into(), base: base.into(), overrides: Vec::new() }
    }

    /// Allows something unusual: [`Override::InUse`] though another process has an image open for writing,
    /// [`Override::OtherHost`] carries on what another host began.
    pub fn with_override(mut self, allowed: Override) -> Self {
        self.overrides.push(allowed);
        self
    }

    /// What it would do. What lies between the two bases, and the child does not hold itself, is written into the child;
    /// the bytes named are what tables tell, of which content that is the same on both sides is left out by the run.
    ///
    /// # Errors
    /// `Usage` when the child has no parent, or the base has another format or no identity; `Parent` when the base grew
    /// from the child; `Refused` when one of them is in use, pinned (the child), or something is under way with it, or
    /// when too little space is left; otherwise as [`Chain::open`].
    pub fn plan(self) -> Result<TransplantPlan> {
        let mut plan = Plan { operation: "transplant", ..Plan::default() };
        let (child_path, base_path) = (real(&self.child)?, real(&self.base)?);
        if let Some(intent) = intent_of(&self.child)? {
            let goes_there = intent.parent.as_ref().is_some_and(|parent| parent.path == base_path);
            if intent.work != Work::Transplant || !goes_there {
                refuse_under_way(&self.child)?;
            }
            plan.steps.push(format!("carry on the transplant that was begun {:.0}", intent.started));
            return Ok(TransplantPlan { plan, intent, begun: true, overrides: self.overrides });
        }
        refuse_link(&self.child)?;
        refuse_change(&self.child)?;
        refuse_under_way(&self.base)?;
        refuse_written_elsewhere([&*child_path, &*base_path], &self.overrides)?;
        let child = Chain::open(&self.child, &OpenOptions::new())?;
        let base = Chain::open(&self.base, &OpenOptions::new())?;
        let Some(parent) = child.layers().get(1) else {
            return Err(Error::usage(
                format!("{} has no parent", self.child.display()),
                "it stands alone and needs no base; `copy` and `derive` make a child of a base",
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
                "parent and child have one format: convert the base first (`copy`)",
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
        let member =
            |path: &Path, chain: &Chain| Ok(Member { path: real(path)?, identity: identity_of(path, chain.info())? });
        let own = member(&self.child, &child)?;
        let identity = own.identity;
        let mut intent = Intent::new(Work::Transplant, vec![own], identity, child_path);
        intent.parent = Some(member(&self.base, &base)?);
        intent.absolute = records_absolute(child.info().parent.as_ref());
        let old_parent = parent.path().to_owned();
        let old = Side::open(&old_parent)?;
        let new = Side::of(base)?;
        let cost = cost_of(&Carry::Up { old: &old, new: &new, compare: true }, &*child.layers()[0], 0)?;
        plan.steps.push(format!(
            "compare up to {} and write into {} what {} has otherwise than {}",
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
        drop((child, old, new));
        crate::storage::FileStorage::open(&self.child, crate::storage::Access::Amend)?;
        Ok(TransplantPlan { plan, intent, begun: false, overrides: self.overrides })
    }
}

/// A checked plan to transplant.
pub struct TransplantPlan {
    plan: Plan,
    intent: Intent,
    begun: bool,
    overrides: Vec<Override>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TransplantOutcome {
    /// The child.
    pub path: PathBuf,
    /// The base that it reads through now.
    pub parent: PathBuf,
    /// Bytes that had to be written into the child.
    pub bytes_written: u64,
}

impl TransplantPlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Transplants. At every moment, also after a crash, the child and all that grew from it read as before; the same
    /// call, or [`resume`](super::resume), carries on.
    ///
    /// # Errors
    /// `Refused` when an image changed since the plan was made or is in use; `UnderWay` when it was begun and could not be
    /// finished, with why.
    pub fn run(&self, progress: &Progress) -> Result<TransplantOutcome> {
        let (journal, marks) = match self.begun {
            true => Journal::reopen(&self.intent)?,
            false => {
                // A bound from tables: what is the same on both sides will not be written.
                Plan::require_space(self.intent.child(), self.plan.peak_extra_space)?;
                progress.check()?;
                refuse_changed(&self.intent)?;
                (Journal::begin(self.intent.clone())?, Vec::new())
            }
        };
        carry_on(journal, &marks, &self.overrides, progress)
    }
}

fn refuse_changed(intent: &Intent) -> Result<()> {
    for member in intent.layers.iter().chain(&intent.parent) {
        let found = look(&member.path).and_then(|(image, _)| image.info().data_identity);
        if found != Some(member.identity) {
            return Err(Error::refused(
                Refusal::SourceChanged,
                format!(
                    "{} was written to by another program since the transplant was planned or begun",
                    member.path.display()
                ),
                "end what uses it and look at both (`tree`, `check`); `abandon` leaves the child as it reads now",
            ));
        }
    }
    Ok(())
}

/// Goes on with a transplant from wherever it is.
pub(super) fn carry_on(
    journal: Journal,
    marks: &[Mark],
    overrides: &[Override],
    progress: &Progress,
) -> Result<TransplantOutcome> {
    let intent = journal.intent().clone();
    let run = || {
        super::unfinished::refuse_other_host(&intent, overrides)?;
        refuse_written_elsewhere([intent.child()], overrides)?;
        refuse_changed(&intent)?;
        let child = intent.child();
        let Some(base) = &intent.parent else { return Err(Error::usage("the journal names no base", "remove it")) };
        let old = Chain::open(child, &OpenOptions::new())?;
        let old_parent = old.layers().get(1).map(|parent| parent.path().to_owned()).unwrap_or_default();
        drop(old);
        let mut written = 0;
        if real(&old_parent)? != base.path {
            let (storage, mut image) = open_mut(child)?;
            image.set_data_identity(intent.identity)?;
            let (old, new) = (Side::open(&old_parent)?, Side::open(&base.path)?);
            let stamps = vec![stamp_of(&old_parent)?, stamp_of(&base.path)?];
            let carry = Carry::Up { old: &old, new: &new, compare: true };
            written = Mover { journal: &journal, storage: &*storage, carry, progress }.run(image, marks, stamps)?;
            drop(storage);
            mark_read_only(&base.path)?;
            let info = new.chain().map(|chain| chain.info().clone());
            let info = info.ok_or_else(|| Error::usage("the base is gone", "put it back"))?;
            let record = record_of(child, &base.path, &info, intent.absolute)?;
            let mut image = open_mut(child)?.1;
            image.set_parent(&ParentRecord { identity: base.identity, ..record })?;
            image.close()?;
            // Best effort, as ever with companions.
            let child = [child.to_owned()];
            _ = Companion::change_children(&base.path, &[], &child);
            _ = Companion::change_children(&old_parent, &child, &[]);
        }
        Ok(TransplantOutcome { path: child.to_owned(), parent: base.path.clone(), bytes_written: written })
    };
    let outcome = run().map_err(|error: Error| error.under_way(intent.child()))?;
    journal.end()?;
    Ok(outcome)
}
