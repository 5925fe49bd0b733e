//! Which of a machine's images grows from which, by the images themselves.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::folder::Grove;
use crate::chain::{OpenOptions, direct_parent};
use crate::error::Result;
use crate::family::{Search, children_of};
use crate::image::recognise;
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
        let images = for_each(&all, |(label, moment, way)| Grown {
            label: (*label).clone(),
            moment: *moment,
            path: grove.path(way),
            parent: parent_of(&grove.path(way)),
        });
        let by_path = images.iter().enumerate().map(|(number, image)| (image.path.clone(), number)).collect();
        let mut lineage = Self { images, by_path };
        for number in 0..lineage.images.len() {
            let parent = lineage.images[number].parent.take();
            lineage.images[number].parent = parent.filter(|parent| lineage.by_path.contains_key(parent));
        }
        lineage
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

/// The image that the one at `path` reads through, if it is there.
pub(super) fn parent_of(path: &Path) -> Option<PathBuf> {
    let (image, identity) = recognise(path).ok()??;
    let found = direct_parent(&*image, identity, &OpenOptions::new().without_locks()).ok()??;
    real(found.image.path()).ok()
}

/// Does the same with each of many things that have to be looked up on the host, several at a time.
pub(super) fn for_each<T: Sync, R: Send>(items: &[T], act: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let share = items.len().div_ceil(threads).max(1);
    std::thread::scope(|scope| {
        let shares: Vec<_> =
            items.chunks(share).map(|share| scope.spawn(|| share.iter().map(&act).collect::<Vec<R>>())).collect();
        shares
            .into_iter()
            .flat_map(|share| share.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            .collect()
    })
}
