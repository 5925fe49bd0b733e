//! The run of a forgetting, from its beginning or from wherever it was cut short.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::super::begun::Begun;
use super::super::folder::{Grove, clear_folder, save};
use super::super::lineage::parent_of;
use super::step::{Step, guard_for, merge_of, remove_of, steps, without_empty, without_names};
use super::{ForgetMark, Forgetting};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, must_record_children};
use crate::image::data_identity_at;
use crate::operation::{Operation, Planned};
use crate::ops::{carry_on_merge, give_up_merge};
use crate::progress::Progress;
use crate::sidecar::{
    Catalogue, Checkpoint, ChildrenChange, Header, Journal, Layer, Record, Work, clear_copies, under_way_at,
};
use crate::storage::{Held, allocated_at, relative_path, tidy as tidy_path};

/// What became of it. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct ForgetOutcome {
    /// The machine.
    pub machine: String,
    /// The checkpoints that were forgotten.
    pub forgotten: Vec<String>,
    /// Bytes that were moved by this run.
    pub bytes_moved: u64,
    /// What the machine's images take less on the host than before this run.
    pub freed_bytes: u64,
    /// Layers that stay without a name, because several images grow from each.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub shared: Vec<PathBuf>,
    /// What was finished, or taken back, before.
    pub begun: Option<Begun>,
}

pub(super) fn run(grove: &Grove, work: &Forgetting, guard: &Guard, progress: &Progress) -> Result<ForgetOutcome> {
    let journal = Journal::begin(Record::of_grove(grove.folder(), Vec::new(), work.clone()))?;
    complete(grove, journal, &[], guard, progress)
}

fn complete(
    grove: &Grove,
    journal: Journal<Forgetting>,
    marks: &[ForgetMark],
    guard: &Guard,
    progress: &Progress,
) -> Result<ForgetOutcome> {
    let run = Running { journal: &journal, guard, progress };
    let touched = Touched::from(marks);
    let outcome = run.finish(grove, touched).map_err(|error| match error {
        // The merge that ended is carried on with all the rest.
        Error::UnderWay { source, .. } => source.under_way(grove.folder()),
        other => other.under_way(grove.folder()),
    })?;
    journal.end()?;
    Ok(outcome)
}

/// Carries it on.
///
/// # Errors
/// `UnderWay` when it could not be finished this time either, with why.
pub(in crate::grove) fn carry_on(
    grove: &Grove,
    begun: &Header,
    guard: &Guard,
    progress: &Progress,
) -> Result<ForgetOutcome> {
    guard.refuse_other_host(begun)?;
    begun.refuse_unproven()?;
    let (journal, marks) = Journal::<Forgetting>::reopen(begun)?;
    complete(grove, journal, &marks, &guard_for(guard, grove), progress)
}

/// Refuses when a layer of a forgotten checkpoint is gone, or is no longer what it was.
fn refuse_lost(grove: &Grove, work: &Forgetting) -> Result<()> {
    let is_whole = |layer: &Layer| data_identity_at(&grove.path(&layer.path)) == Some(layer.identity);
    let is_lost =
        |one: &&Checkpoint| grove.catalogue().numbered(one.number).is_none() || !one.disks.iter().all(is_whole);
    match work.forgotten.iter().find(is_lost) {
        None => Ok(()),
        Some(one) => Err(Error::refused(
            Refusal::UnderWay { image: grove.folder().to_owned(), must_go_on: true },
            format!(
                "what the checkpoint {} held was merged, or is being merged",
                one.name.as_deref().unwrap_or_default()
            ),
            "only going on is left",
        )),
    }
}

/// Gives it up where no layer is gone yet: the checkpoints have their names again.
///
/// # Errors
/// `Refused` when data has moved, so that only going on is left.
pub(in crate::grove) fn give_up(grove: &Grove, begun: &Header, guard: &Guard) -> Result<()> {
    guard.refuse_other_host(begun)?;
    begun.refuse_unproven()?;
    let (journal, _) = Journal::<Forgetting>::reopen(begun)?;
    let work = &journal.record().payload;
    refuse_lost(grove, work)?;
    // A merge that has not begun to write leaves all as it is.
    for path in images(grove.catalogue()).map(|way| grove.path(&way)) {
        match under_way_at(&path)?.filter(|begun| begun.work == Work::Merge) {
            Some(begun) if begun.is_over()? => clear_copies(&begun)?,
            Some(begun) => give_up_merge(&begun, &guard_for(guard, grove))?,
            None => {}
        }
    }
    refuse_lost(grove, work)?;
    let mut catalogue = grove.catalogue().clone();
    for one in &mut catalogue.checkpoints {
        if let Some(before) = work.forgotten.iter().find(|before| before.number == one.number) {
            one.clone_from(before);
        }
    }
    save(grove.folder(), &catalogue)?;
    journal.end()
}

/// What was begun with single images, named from the grove's folder.
#[derive(Default)]
struct Touched {
    merged: BTreeSet<PathBuf>,
    removed: BTreeMap<PathBuf, Option<PathBuf>>,
}

impl From<&[ForgetMark]> for Touched {
    fn from(marks: &[ForgetMark]) -> Self {
        let mut touched = Self::default();
        for mark in marks {
            match mark {
                ForgetMark::Merging(path) => _ = touched.merged.insert(path.clone()),
                ForgetMark::Removing { layer, parent } => _ = touched.removed.insert(layer.clone(), parent.clone()),
            }
        }
        touched
    }
}

/// A forgetting whose journal is written.
struct Running<'a> {
    journal: &'a Journal<Forgetting>,
    guard: &'a Guard,
    progress: &'a Progress,
}

impl Running<'_> {
    /// Takes the names away, and then the layers, as far as that is not done yet.
    fn finish(&self, grove: &Grove, mut touched: Touched) -> Result<ForgetOutcome> {
        let (folder, work) = (grove.folder(), &self.journal.record().payload);
        let before = taken(grove);
        let numbers: BTreeSet<u64> = work.forgotten.iter().map(|one| one.number).collect();
        let catalogue = without_names(grove.catalogue(), &numbers);
        if catalogue != *grove.catalogue() {
            save(folder, &catalogue)?;
        }
        // Those that were removed before may still be known to what they grew from.
        for (layer, parent) in &touched.removed {
            self.strike(folder, layer, parent.as_deref())?;
        }
        let is_meant = |path: &Path| {
            work.forgotten.iter().any(|one| one.disks.iter().any(|layer| folder.join(&layer.path) == path))
        };
        let mut moved = 0;
        loop {
            moved += self.carry_on_merges(&Grove::open(folder)?)?;
            let grove = tidy(&Grove::open(folder)?, &touched.merged)?;
            let (steps, shared) = steps(&grove, grove.catalogue())?;
            let Some(step) = steps.first() else {
                return Ok(ForgetOutcome {
                    machine: grove.catalogue().machine.clone(),
                    forgotten: work.names(),
                    bytes_moved: moved,
                    freed_bytes: before.saturating_sub(taken(&grove)),
                    shared: shared.into_iter().map(|one| one.layer).filter(|layer| is_meant(layer)).collect(),
                    begun: None,
                });
            };
            self.progress.check()?;
            match step {
                Step::Remove { layer, .. } => {
                    let way = layer.strip_prefix(folder).unwrap_or(layer).to_owned();
                    if touched.removed.contains_key(&way) {
                        // What was known of it may have gone before it: that nothing grows from it was told then.
                        let change = ChildrenChange { freezes: true, ..ChildrenChange::default() };
                        must_record_children(layer, &change, self.guard)?;
                    } else {
                        let parent = parent_of(layer).map(|parent| relative_path(folder, &parent));
                        self.journal.mark(&ForgetMark::Removing { layer: way.clone(), parent: parent.clone() })?;
                        touched.removed.insert(way.clone(), parent);
                    }
                    remove_of(layer, self.guard).plan()?.run(self.progress)?;
                    self.strike(folder, &way, touched.removed.get(&way).and_then(Option::as_deref))?;
                }
                Step::Merge { child, layers, .. } => {
                    let merge = merge_of(child, layers, self.guard).plan()?;
                    let way = child.strip_prefix(folder).unwrap_or(child).to_owned();
                    if touched.merged.insert(way.clone()) {
                        self.journal.mark(&ForgetMark::Merging(way))?;
                    }
                    moved += merge.run(self.progress)?.bytes_moved;
                }
            }
        }
    }

    /// Has what a layer that is gone grew from forget it.
    fn strike(&self, folder: &Path, layer: &Path, parent: Option<&Path>) -> Result<()> {
        let parent = parent.map(|parent| tidy_path(&folder.join(parent))).filter(|parent| parent.exists());
        let Some(parent) = parent.filter(|_| !folder.join(layer).exists()) else { return Ok(()) };
        let gone = [folder.join(layer)];
        must_record_children(&parent, &ChildrenChange { gone: &gone, ..ChildrenChange::default() }, self.guard)
    }

    /// Merges of the machine's layers that were cut short.
    fn carry_on_merges(&self, grove: &Grove) -> Result<u64> {
        let mut moved = 0;
        for path in images(grove.catalogue()).map(|way| grove.path(&way)) {
            let begun = under_way_at(&path)?.filter(|begun| begun.work == Work::Merge);
            if let Some(begun) = begun {
                match begun.is_over()? {
                    true => clear_copies(&begun)?,
                    false => {
                        let held = Arc::new(Held::default());
                        moved += carry_on_merge(&begun, &held, self.guard, self.progress)?.bytes_moved;
                    }
                }
            }
        }
        Ok(moved)
    }
}

/// What the machine's images take on the host.
fn taken(grove: &Grove) -> u64 {
    let catalogue = grove.catalogue();
    let layers = catalogue.checkpoints.iter().flat_map(|one| one.disks.iter().map(|layer| &layer.path));
    let paths = catalogue.disks.iter().map(|disk| &disk.path).chain(layers);
    paths.map(|path| allocated_at(&grove.path(path))).sum()
}

fn images(catalogue: &Catalogue) -> impl Iterator<Item = PathBuf> {
    let layers = catalogue.checkpoints.iter().flat_map(|one| one.disks.iter().map(|layer| &layer.path));
    catalogue.disks.iter().map(|disk| &disk.path).chain(layers).cloned()
}

/// The catalogue follows what is there: layers without a name that are gone leave it, images that were merged with one
/// may have another identity, and a checkpoint of which nothing is left goes.
fn tidy(grove: &Grove, merged: &BTreeSet<PathBuf>) -> Result<Grove> {
    let folder = grove.folder();
    let mut catalogue = grove.catalogue().clone();
    for one in &mut catalogue.checkpoints {
        if one.name.is_none() {
            one.disks.retain(|layer| folder.join(&layer.path).exists());
        }
        for layer in one.disks.iter_mut().filter(|layer| merged.contains(&layer.path)) {
            layer.identity = data_identity_at(&folder.join(&layer.path)).unwrap_or(layer.identity);
        }
    }
    let (catalogue, gone) = without_empty(&catalogue);
    if catalogue == *grove.catalogue() {
        return Ok(grove.clone());
    }
    // Their folders go first: the catalogue that still names them has them looked for again.
    for gone in gone {
        clear_folder(&folder.join(&gone))?;
    }
    save(folder, &catalogue)?;
    Grove::open(folder)
}
