//! Which checkpoints are to be forgotten, and what that takes.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use jiff::{SignedDuration, Timestamp};
use schemars::JsonSchema;
use serde::Serialize;

use super::super::cost::{Cost, Opened};
use super::super::folder::{Grove, Locked};
use super::super::lineage::parent_of;
use super::super::resume::{plan_to_settle, settle_begun};
use super::Forgetting;
use super::run::{ForgetOutcome, run};
use super::step::{Shared, Step, guard_for, merge_of, remove_of, steps, without_names};
use crate::error::{Error, Refusal, Result};
use crate::family::Guard;
use crate::operation::{Operation, Plan, Planned};
use crate::ops::{Direction, MergeEstimate};
use crate::progress::Progress;
use crate::sidecar::{CATALOGUE, Catalogue, Checkpoint};
use crate::size::format_size;
use crate::storage::allocated_at;

/// Which checkpoints are meant.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Which {
    /// The one with this name.
    Named(String),
    /// The one with this name, and all that go on from it, except those that the present goes on from.
    WithDescendants(String),
    /// All but the youngest so many; protected ones are left alone, and count.
    AllBut(usize),
    /// Those that are older; protected ones are left alone.
    OlderThan(SignedDuration),
}

/// Checkpoints to be forgotten.
///
/// What it can be allowed to do all the same: as [`Merge`](crate::ops::Merge).
#[derive(Clone, Debug)]
pub struct Forget {
    folder: PathBuf,
    which: Which,
    guard: Guard,
}

impl Forget {
    /// These checkpoints of the machine in this folder.
    pub fn new(folder: impl Into<PathBuf>, which: Which) -> Self {
        Self { folder: folder.into(), which, guard: Guard::new() }
    }

    fn plan_in(self, locked: Locked) -> Result<ForgetPlan> {
        let guard = guard_for(&self.guard, &locked.grove);
        if let Some(begun) = &locked.begun {
            let mut plan = plan_to_settle(begun, "checkpoint forget")?;
            plan.steps.push("forget the checkpoints".to_owned());
            let (work, layers) = (Forgetting { forgotten: Vec::new() }, Vec::new());
            return Ok(ForgetPlan { plan, request: self, locked, guard, work, layers, is_fresh: false });
        }
        let catalogue = locked.grove.catalogue();
        let chosen = self.chosen(&locked.grove)?;
        let numbers: BTreeSet<u64> = chosen.iter().map(|one| one.number).collect();
        let work = Forgetting { forgotten: chosen.into_iter().cloned().collect() };
        let mut plan = Plan::of("checkpoint forget", Vec::new());
        plan.steps.extend(work.names().iter().map(|name| format!("forget the checkpoint {name}")));
        if work.forgotten.is_empty() {
            plan.steps.push("no checkpoint is meant".to_owned());
        }
        plan.files.change.push(locked.grove.folder().join(CATALOGUE));
        let layers = estimate(&locked.grove, &without_names(catalogue, &numbers), &guard, &mut plan)?;
        Ok(ForgetPlan { plan, request: self, locked, guard, work, layers, is_fresh: true })
    }

    /// The checkpoints that are meant, in the order in which they were taken.
    fn chosen<'a>(&self, grove: &'a Grove) -> Result<Vec<&'a Checkpoint>> {
        let catalogue = grove.catalogue();
        let mut named: Vec<&Checkpoint> = catalogue.checkpoints.iter().filter(|one| one.name.is_some()).collect();
        named.sort_by_key(|one| (one.taken, one.number));
        let old: Vec<&Checkpoint> = match &self.which {
            Which::Named(name) => vec![grove.checkpoint(name)?],
            Which::WithDescendants(name) => {
                let first = grove.checkpoint(name)?.number;
                let present = ancestors(catalogue, catalogue.after);
                let is_meant = |one: &&&Checkpoint| ancestors(catalogue, Some(one.number)).contains(&first);
                let is_left = |one: &&Checkpoint| one.number == first || !present.contains(&one.number);
                named.iter().filter(is_meant).copied().filter(is_left).collect()
            }
            Which::AllBut(count) => {
                let until = named.len().saturating_sub(*count);
                return Ok(named[..until].iter().filter(|one| !one.protected).copied().collect());
            }
            Which::OlderThan(age) => {
                let now = Timestamp::now();
                let is_old = |one: &&&Checkpoint| now.duration_since(one.taken) > *age && !one.protected;
                return Ok(named.iter().filter(is_old).copied().collect());
            }
        };
        match old.iter().find(|one| one.protected) {
            None => Ok(old),
            Some(one) => Err(Error::refused(
                Refusal::Protected { checkpoint: one.name.clone().unwrap_or_default() },
                format!("the checkpoint {} is protected", one.name.as_deref().unwrap_or_default()),
                "take its protection away first, if it is not needed any more",
            )),
        }
    }
}

/// A checkpoint, by its number, and those that it goes on from.
fn ancestors(catalogue: &Catalogue, from: Option<u64>) -> BTreeSet<u64> {
    let mut found = BTreeSet::new();
    let mut at = from;
    while let Some(one) = at.filter(|number| found.insert(*number)).and_then(|number| catalogue.numbered(number)) {
        at = one.parent;
    }
    found
}

/// What becomes of one layer. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct ForgetStep {
    /// The disk.
    pub label: String,
    /// The layers that go.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub layers: Vec<PathBuf>,
    /// The image that they become one with; `None` when nothing needs them.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Option<crate::path_data::PathData>")]
    pub into: Option<PathBuf>,
    /// Which way the data moves.
    pub direction: Option<Direction>,
    /// Bytes to be read and written.
    pub moves_bytes: u64,
    /// What the host gets back in the end.
    pub frees_bytes: u64,
}

/// What each step takes; nothing is changed.
fn estimate(grove: &Grove, after: &Catalogue, guard: &Guard, plan: &mut Plan) -> Result<Vec<ForgetStep>> {
    let (steps, shared) = steps(grove, after)?;
    let shown = |path: &Path| path.strip_prefix(grove.folder()).unwrap_or(path).display().to_string();
    let mut told = Vec::new();
    for step in &steps {
        let held: u64 = step.layers().iter().map(|path| allocated_at(path)).sum();
        match step {
            Step::Remove { label, layer } => {
                // Found out now whether anything speaks against it.
                if !waits(&steps, std::slice::from_ref(layer)) {
                    remove_of(layer, guard).plan()?;
                }
                plan.steps.push(format!("remove {}, which nothing grows from", shown(layer)));
                plan.files.remove.push(layer.clone());
                let (layers, into, direction) = (vec![layer.clone()], None, None);
                let one =
                    ForgetStep { label: label.clone(), layers, into, direction, moves_bytes: 0, frees_bytes: held };
                told.push(one);
            }
            Step::Merge { label, child, layers } => {
                let (direction, moves, peak) = match waits(&steps, layers) {
                    // Its cost can only be told once others are gone; it is no more than this.
                    true => (None, held.min(allocated_at(child)), held.min(allocated_at(child))),
                    false => {
                        let merge = merge_of(child, layers, guard).plan()?;
                        let new = merge.summary().warnings.iter().filter(|warning| !plan.warnings.contains(warning));
                        let new: Vec<String> = new.cloned().collect();
                        plan.warnings.extend(new);
                        let best = cheapest(merge.estimates());
                        best.map_or((None, 0, 0), |way| (Some(way.direction), way.bytes_moved, way.peak_extra_space))
                    }
                };
                let frees = frees_of(child, layers);
                let names: Vec<String> = layers.iter().map(|path| shown(path)).collect();
                let way = direction.map_or_else(|| "at most".to_owned(), |direction| direction.to_string());
                plan.steps.push(format!(
                    "merge {} with {} ({way}, {} to move)",
                    names.join(", "),
                    shown(child),
                    format_size(moves)
                ));
                plan.files.change.push(child.clone());
                plan.files.remove.extend(layers.iter().cloned());
                plan.bytes_read += moves;
                plan.bytes_written += moves;
                plan.peak_extra_space = plan.peak_extra_space.max(peak);
                told.push(ForgetStep {
                    label: label.clone(),
                    layers: layers.clone(),
                    into: Some(child.clone()),
                    direction,
                    moves_bytes: moves,
                    frees_bytes: frees,
                });
            }
        }
    }
    let is_meant = |one: &Shared| {
        let of = grove
            .catalogue()
            .checkpoints
            .iter()
            .find(|checkpoint| checkpoint.disks.iter().any(|layer| grove.path(&layer.path) == one.layer));
        of.is_some_and(|checkpoint| checkpoint.name.is_some())
    };
    for one in shared.into_iter().filter(is_meant) {
        let names: Vec<String> = one.children.iter().map(|path| shown(path)).collect();
        plan.warnings.push(format!(
            "{} stays as a layer without a name, since these grow from it: {}",
            shown(&one.layer),
            names.join(", ")
        ));
    }
    Ok(told)
}

/// What these layers and the image above them, each with the one below it, both hold: the host gets that back.
fn frees_of(child: &Path, layers: &[PathBuf]) -> u64 {
    let above = std::iter::once(child).chain(layers.iter().map(PathBuf::as_path));
    let mut opened = Opened::of(1);
    let pairs = above.zip(layers).map(|(upper, lower)| Cost::of_pair(lower, upper, &mut opened));
    pairs.flatten().map(|cost| cost.frees).sum()
}

/// Whether images that are to be removed before grow from one of these layers.
fn waits(steps: &[Step], layers: &[PathBuf]) -> bool {
    let removed = steps.iter().filter_map(|step| match step {
        Step::Remove { layer, .. } => parent_of(layer),
        Step::Merge { .. } => None,
    });
    removed.into_iter().any(|parent| layers.contains(&parent))
}

fn cheapest(estimates: &[MergeEstimate]) -> Option<&MergeEstimate> {
    estimates.iter().filter(|way| way.refused.is_none()).min_by_key(|way| way.bytes_moved)
}

impl Operation for Forget {
    type Planned = ForgetPlan;

    /// What forgetting would do with each layer, what it moves, and what the host gets back. The grove stays locked as
    /// long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when there is no such checkpoint; `Refused` when it is protected, a layer is in use, or a merge is not
    /// possible; otherwise as [`Merge`](crate::ops::Merge).
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take(&self.folder)?;
        self.plan_in(locked)
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to forget checkpoints.
pub struct ForgetPlan {
    plan: Plan,
    request: Forget,
    locked: Locked,
    guard: Guard,
    work: Forgetting,
    layers: Vec<ForgetStep>,
    is_fresh: bool,
}

impl ForgetPlan {
    /// What becomes of each layer.
    pub fn layers(&self) -> &[ForgetStep] {
        &self.layers
    }

    /// The checkpoints that are meant.
    pub fn checkpoints(&self) -> Vec<String> {
        self.work.names()
    }
}

impl Planned for ForgetPlan {
    type Outcome = ForgetOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Forgets. At every moment every checkpoint that is left, and the present, reads as before; stopped or killed, it
    /// is carried on by [`Resume`](crate::repair::Resume), or given up as long as no data has moved.
    ///
    /// # Errors
    /// `UnderWay` when it was begun and could not be finished, with why.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        progress.check()?;
        if !self.is_fresh {
            let begun = settle_begun(&self.locked, &self.guard)?;
            let outcome = self.request.clone().plan_in(self.locked.again()?)?.run(progress)?;
            return Ok(ForgetOutcome { begun, ..outcome });
        }
        run(&self.locked.grove, &self.work, &self.guard, progress)
    }
}
