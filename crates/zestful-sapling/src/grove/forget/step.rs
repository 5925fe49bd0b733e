//! What is to be done with the layers that nobody asks for, one step after the other.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::super::folder::Grove;
use super::super::lineage::{Lineage, Moment};
use crate::error::Result;
use crate::family::{Guard, Search};
use crate::ops::{Merge, Remove};
use crate::sidecar::Catalogue;

/// One step.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Step {
    /// Nothing grows from a layer: it goes.
    Remove { label: String, layer: PathBuf },
    /// One image of the machine reads through these layers alone, the nearest first: they become one with it.
    Merge { label: String, child: PathBuf, layers: Vec<PathBuf> },
}

impl Step {
    /// The layers that are gone afterwards.
    pub(super) fn layers(&self) -> &[PathBuf] {
        match self {
            Step::Remove { layer, .. } => std::slice::from_ref(layer),
            Step::Merge { layers, .. } => layers,
        }
    }
}

/// A layer that stays, because several images read through it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Shared {
    pub(super) layer: PathBuf,
    pub(super) children: Vec<PathBuf>,
}

/// All steps that a grove needs whose catalogue would be this one, and the layers that stay all the same.
pub(super) fn steps(grove: &Grove, after: &Catalogue) -> Result<(Vec<Step>, Vec<Shared>)> {
    let mut lineage = Lineage::of(grove);
    let unnamed: BTreeSet<u64> =
        after.checkpoints.iter().filter(|one| one.name.is_none()).map(|one| one.number).collect();
    let is_unasked = |moment: Moment| matches!(moment, Moment::Checkpoint(number) if unnamed.contains(&number));
    let search = Search::below(vec![grove.folder().to_owned()]);
    let mut elsewhere: Vec<(PathBuf, Vec<PathBuf>)> = Vec::new();
    for image in lineage.images.iter().filter(|image| is_unasked(image.moment) && image.path.exists()) {
        elsewhere.push((image.path.clone(), lineage.children_elsewhere(&image.path, &search)?));
    }
    let others = |path: &Path| elsewhere.iter().find(|(layer, _)| layer == path).map_or(&[][..], |(_, all)| all);
    let mut steps = Vec::new();
    // Leaves first: what goes may leave others without a child, or with one.
    while let Some(number) = lineage.images.iter().position(|image| {
        is_unasked(image.moment)
            && image.path.exists()
            && lineage.children(&image.path).next().is_none()
            && others(&image.path).is_empty()
    }) {
        let image = lineage.images.remove(number);
        steps.push(Step::Remove { label: image.label, layer: image.path });
    }
    let lone_child = |path: &Path| {
        let mut children = lineage.children(path);
        let only = children.next()?;
        (children.next().is_none() && others(path).is_empty()).then(|| only.clone())
    };
    let mut shared = Vec::new();
    for image in lineage.images.iter().filter(|image| is_unasked(image.moment) && image.path.exists()) {
        let Some(child) = lone_child(&image.path) else {
            let mut children: Vec<PathBuf> = lineage.children(&image.path).map(|child| child.path.clone()).collect();
            children.extend(others(&image.path).iter().cloned());
            shared.push(Shared { layer: image.path.clone(), children });
            continue;
        };
        // A run of layers is merged at once, from the image above it that is asked for.
        if is_unasked(child.moment) && lone_child(&child.path).is_some() {
            continue;
        }
        let mut layers = vec![image.path.clone()];
        let mut at = image;
        while let Some(below) =
            at.parent.as_ref().and_then(|parent| lineage.images.iter().find(|one| one.path == *parent))
        {
            if !is_unasked(below.moment) || lone_child(&below.path).is_none() {
                break;
            }
            layers.push(below.path.clone());
            at = below;
        }
        steps.push(Step::Merge { label: image.label.clone(), child: child.path.clone(), layers });
    }
    Ok((steps, shared))
}

/// The catalogue without names for these checkpoints.
pub(super) fn without_names(catalogue: &Catalogue, numbers: &BTreeSet<u64>) -> Catalogue {
    let mut after = catalogue.clone();
    after.checkpoints.iter_mut().filter(|one| numbers.contains(&one.number)).for_each(|one| {
        one.name = None;
        one.protected = false;
    });
    after
}

/// The catalogue without checkpoints that have neither a name nor a layer; what followed them follows their parents.
/// The folders of those that went come with it.
pub(super) fn without_empty(catalogue: &Catalogue) -> (Catalogue, Vec<PathBuf>) {
    let mut after = catalogue.clone();
    let mut folders = Vec::new();
    while let Some(number) = after.checkpoints.iter().position(|one| one.name.is_none() && one.disks.is_empty()) {
        let gone = after.checkpoints.remove(number);
        let follows = |number: &mut Option<u64>| {
            if *number == Some(gone.number) {
                *number = gone.parent;
            }
        };
        follows(&mut after.after);
        after.checkpoints.iter_mut().for_each(|one| follows(&mut one.parent));
        folders.push(gone.folder);
    }
    (after, folders)
}

/// The guard with which a grove works on its own layers: all its folders are looked into for children.
pub(in crate::grove) fn guard_for(guard: &Guard, grove: &Grove) -> Guard {
    let search = Search::below(vec![grove.folder().to_owned()]);
    let search = match guard.search == Search::default() {
        true => search,
        false => guard.search.clone().and_beside(grove.folder().to_owned()),
    };
    guard.clone().with_search(search).of_grove(grove.folder())
}

pub(super) fn merge_of(child: &Path, layers: &[PathBuf], guard: &Guard) -> Merge {
    let merge = Merge::new(child).with_guard(guard.clone());
    layers.last().map_or(merge.clone(), |ancestor| merge.with_ancestor(ancestor))
}

pub(super) fn remove_of(layer: &Path, guard: &Guard) -> Remove {
    Remove::new(layer).with_guard(guard.clone())
}
