//! Which of a machine's images grows from which, by the images themselves.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use uuid::Uuid;

use super::folder::Grove;
use crate::chain::{OpenOptions, candidates, direct_parent};
use crate::error::Result;
use crate::family::{Search, children_of};
use crate::image::{ParentReference, recognise};
use crate::storage::real;

/// Which moment of a disk an image holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Moment {
    /// A checkpoint, by its number.
    Checkpoint(u64),
    Present,
}

/// An image of a machine.
#[derive(Clone, Debug)]
pub(super) struct Grown {
    pub(super) label: String,
    pub(super) moment: Moment,
    pub(super) path: PathBuf,
    /// The image of the machine that it grows from; `None` when it stands alone, or grows from one elsewhere.
    pub(super) parent: Option<PathBuf>,
}

/// All images of a machine.
#[derive(Clone, Debug)]
pub(super) struct Lineage {
    pub(super) images: Vec<Grown>,
    by_path: BTreeMap<PathBuf, usize>,
}

impl Lineage {
    /// Looks into every image that the catalogue names; one that is not there, or raw, grows from nothing.
    pub(super) fn of(grove: &Grove) -> Self {
        let catalogue = grove.catalogue();
        let currents = catalogue.disks.iter().map(|disk| (&disk.label, Moment::Present, &disk.path));
        let layers = catalogue
            .checkpoints
            .iter()
            .flat_map(|one| one.disks.iter().map(|layer| (&layer.label, Moment::Checkpoint(one.number), &layer.path)));
        let all: Vec<_> = currents.chain(layers).collect();
        let said = for_each(&all, |(.., way)| Said::by(&grove.path(way)));
        let by_path: BTreeMap<PathBuf, usize> =
            all.iter().enumerate().map(|(number, (.., way))| (grove.path(way), number)).collect();
        let numbers: Vec<usize> = (0..all.len()).collect();
        let images = for_each(&numbers, |number| {
            let (label, moment, way) = all[*number];
            let path = grove.path(way);
            let parent = said[*number].parent_among(&path, &by_path, &said);
            let parent = parent.filter(|parent| by_path.contains_key(parent));
            Grown { label: label.clone(), moment, path, parent }
        });
        Self { images, by_path }
    }

    /// The machine's images that grow from this one.
    pub(super) fn children<'a>(&'a self, path: &'a Path) -> impl Iterator<Item = &'a Grown> {
        self.images.iter().filter(move |image| image.parent.as_deref() == Some(path))
    }

    /// Images elsewhere that grow from this one, or may.
    ///
    /// # Errors
    /// As [`children_of`].
    pub(super) fn children_elsewhere(&self, path: &Path, search: &Search) -> Result<Vec<PathBuf>> {
        let found = children_of(path, search)?;
        let unknown = found.unknown.iter().map(|unknown| &unknown.path);
        let is_elsewhere = |path: &&PathBuf| real(path).map_or(true, |path| !self.by_path.contains_key(&path));
        Ok(found.all().chain(unknown).filter(is_elsewhere).cloned().collect())
    }
}

/// What an image says of itself that tells its parent.
struct Said {
    identity: Option<Uuid>,
    parent: Option<ParentReference>,
}

impl Said {
    fn by(path: &Path) -> Self {
        let info = recognise(path).ok().flatten().map(|(image, _)| image.info().clone());
        let (identity, parent) = info.map_or((None, None), |info| (info.data_identity, info.parent));
        Self { identity, parent }
    }

    /// The image that the one at `path` reads through. Where that is one of the machine's it need not be opened again.
    fn parent_among(&self, path: &Path, by_path: &BTreeMap<PathBuf, usize>, said: &[Self]) -> Option<PathBuf> {
        let parent = self.parent.as_ref()?;
        let first = candidates(path, parent).iter().find_map(|candidate| real(candidate).ok());
        let is_right = |found: &PathBuf| {
            let identity = by_path.get(found).and_then(|number| said[*number].identity);
            identity.is_some_and(|identity| parent.accepted.contains(&identity))
        };
        first.filter(is_right).or_else(|| parent_of(path))
    }
}

/// The image that the one at `path` reads through, if it is there.
pub(super) fn parent_of(path: &Path) -> Option<PathBuf> {
    let (image, identity) = recognise(path).ok()??;
    let found = direct_parent(&*image, identity, &OpenOptions::new().without_locks()).ok()??;
    real(found.image.path()).ok()
}

/// Does the same with each of many things that have to be looked up on the host, several at a time.
pub(super) fn for_each<T: Sync, R: Send>(items: &[T], act: impl Fn(&T) -> R + Sync) -> Vec<R> {
    for_each_with(items, || (), |(), item| act(item))
}

/// The same; each of those that do it has something of its own, from one thing to the next.
pub(super) fn for_each_with<T: Sync, S, R: Send>(
    items: &[T],
    begin: impl Fn() -> S + Sync,
    act: impl Fn(&mut S, &T) -> R + Sync,
) -> Vec<R> {
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let share = items.len().div_ceil(threads).max(1);
    let all = |share: &[T]| {
        let mut own = begin();
        share.iter().map(|item| act(&mut own, item)).collect::<Vec<R>>()
    };
    std::thread::scope(|scope| {
        let shares: Vec<_> = items.chunks(share).map(|share| scope.spawn(|| all(share))).collect();
        shares
            .into_iter()
            .flat_map(|share| share.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            .collect()
    })
}
