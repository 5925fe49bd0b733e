//! What a machine's owner should know: what is wrong with its checkpoints, and what will become trouble.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use jiff::{SignedDuration, Timestamp};

use super::folder::Grove;
use crate::error::{Error, Result};
use crate::family::{
    Family, Folder, FolderReport, Listing, Problem, ProblemKind, Status, inspect_listing, is_gone, status_with,
};
use crate::image::{data_identity_at, format_of_name};
use crate::sidecar::{
    CATALOGUE, HISTORY, Owed, RECORD, image_of_undo, is_companion, is_journal, is_redo, is_salvage_list,
};
use crate::size::format_size;
use crate::storage::{allocated_at, files_in, is_temporary_name};

/// When a checkpoint, or a chain, becomes something to be told of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Limits {
    /// Checkpoints that are older.
    pub age: SignedDuration,
    /// Checkpoints that hold more of a disk, in percent of its size.
    pub share: u64,
    /// Disks with more layers.
    pub layers: usize,
}

impl Default for Limits {
    /// Seven days, a fifth of the disk, sixteen layers.
    fn default() -> Self {
        Self { age: SignedDuration::from_hours(7 * 24), share: 20, layers: 16 }
    }
}

/// A first look at a folder, as [`family::status_of`](crate::family::status_of); of the folder of a machine with its
/// whole history, and with what should be known of its checkpoints.
///
/// # Errors
/// `Io` when the folder cannot be read.
pub fn status_of(folder: impl Into<Folder>, limits: &Limits) -> Result<Status> {
    let folder = folder.into();
    let mut listing = folder.list()?;
    let (layers, problems) = machines_in(&mut listing, limits)?;
    status_with(folder.path(), listing, &layers, problems)
}

/// The images in a folder and their families, as [`Family::of_folder`]; of the folder of a machine with its whole
/// history, and with what should be known of its checkpoints.
///
/// # Errors
/// `Io` when the folder cannot be read.
pub fn family_of(folder: impl Into<Folder>, limits: &Limits) -> Result<Family> {
    let mut listing = folder.into().list()?;
    let (layers, problems) = machines_in(&mut listing, limits)?;
    let mut family = Family::of_listing(listing, &layers)?;
    family.state = problems.iter().map(|problem| problem.severity).fold(family.state, Ord::max);
    family.problems.extend(problems);
    Ok(family)
}

/// Looks at the images of a folder, one by one, as [`inspect`](crate::family::inspect) does; of the folder of a machine
/// with those of its checkpoints.
///
/// # Errors
/// `Io` when the folder cannot be read.
pub fn inspect_folder(folder: impl Into<Folder>) -> Result<FolderReport> {
    let mut listing = folder.into().list()?;
    machines_in(&mut listing, &Limits::default())?;
    inspect_listing(listing)
}

/// The layers that the checkpoints of machines keep, and what should be known of those.
fn machines_in(listing: &mut Listing, limits: &Limits) -> Result<(Vec<PathBuf>, Vec<Problem>)> {
    let (mut images, mut problems) = (Vec::new(), Vec::new());
    for (number, folder) in listing.folders.clone().into_iter().enumerate() {
        match machine_in(&folder, listing, limits) {
            Ok((layers, told)) => {
                images.extend(layers);
                problems.extend(told);
            }
            Err(error @ (Error::Damaged(_) | Error::Unsupported(_))) => problems.push(damaged(&folder, &error)),
            // One machine that cannot be looked at does not take the folders beside it with it.
            Err(_) if is_gone(&folder) => {}
            Err(error) if number > 0 => problems.push(Problem::of_error(&folder, &error)),
            Err(error) => return Err(error),
        }
    }
    Ok((images, problems))
}

fn machine_in(folder: &Path, listing: &mut Listing, limits: &Limits) -> Result<(Vec<PathBuf>, Vec<Problem>)> {
    let Some(grove) = Grove::at(folder)? else { return Ok(Default::default()) };
    let layers = layers(&grove);
    listing.keep_layers(folder, &layers);
    Ok((layers, problems_of(&grove, limits)?))
}

fn damaged(folder: &Path, error: &Error) -> Problem {
    Problem::new(&folder.join(CATALOGUE), ProblemKind::CatalogueDamaged, error.with_causes())
}

fn layers(grove: &Grove) -> Vec<PathBuf> {
    let layers = grove.catalogue().checkpoints.iter().flat_map(|one| &one.disks);
    layers.map(|layer| grove.path(&layer.path)).collect()
}

/// What is wrong with a machine's checkpoints, and what will become trouble.
///
/// # Errors
/// `Io` when the folder cannot be read.
pub fn problems_of(grove: &Grove, limits: &Limits) -> Result<Vec<Problem>> {
    let mut problems = Vec::new();
    // In the middle of something layers go, and change what they are known by.
    if grove.under_way()?.is_none() {
        tell_broken(grove, &mut problems);
    }
    problems.extend(tell_owed(grove));
    problems.extend(old_and_large(grove, limits));
    tell_strangers(grove, &mut problems)?;
    Ok(problems)
}

fn tell_owed(grove: &Grove) -> Option<Problem> {
    match Owed::of(grove.folder()) {
        Ok(owed) => owed.map(|owed| {
            let message = format!(
                "the command that was to run after the checkpoint {} has not run: process {} ended before, since {:.0} \
                 the guest may be at rest; let it go on yourself, and then give this up",
                owed.checkpoint, owed.process, owed.since
            );
            Problem::new(grove.folder(), ProblemKind::CommandOwed, message)
        }),
        Err(error) => Some(Problem::of_error(grove.folder(), &error)),
    }
}

fn tell_broken(grove: &Grove, problems: &mut Vec<Problem>) {
    let catalogue = grove.catalogue();
    for disk in &catalogue.disks {
        let path = grove.path(&disk.path);
        if !path.exists() {
            let message = format!(
                "{}, the disk {}, is not there: bring it back, or go back to a checkpoint on all disks",
                path.display(),
                disk.label
            );
            problems.push(Problem::new(&path, ProblemKind::LayerMissing, message));
        }
    }
    for one in &catalogue.checkpoints {
        // Nobody asks for what has no name; a child that needs it tells.
        let Some(name) = &one.name else { continue };
        for layer in &one.disks {
            let path = grove.path(&layer.path);
            let what = format!("{}, the disk {} at the checkpoint {name},", path.display(), layer.label);
            if !path.exists() {
                let message = format!("{what} is not there: bring it back, whatever followed that checkpoint needs it");
                problems.push(Problem::new(&path, ProblemKind::LayerMissing, message));
            } else if data_identity_at(&path).is_some_and(|found| found != layer.identity) {
                let message = format!(
                    "{what} is not what was kept: it was written to, or another file took its name; restore it from a \
                     copy"
                );
                problems.push(Problem::new(&path, ProblemKind::LayerChanged, message));
            }
        }
    }
}

/// Checkpoints that are old or large, and chains that are deep, told from the catalogue and sizes alone.
pub(super) fn old_and_large(grove: &Grove, limits: &Limits) -> Vec<Problem> {
    let mut problems = Vec::new();
    let (catalogue, now) = (grove.catalogue(), Timestamp::now());
    for one in catalogue.checkpoints.iter().filter(|one| !one.protected) {
        let Some(name) = &one.name else { continue };
        let folder = grove.path(&one.folder);
        let age = now.duration_since(one.taken);
        if age > limits.age {
            let message = format!(
                "the checkpoint {name} is {} days old: forget it if it is not needed, or protect it",
                age.as_hours() / 24
            );
            problems.push(Problem::new(&folder, ProblemKind::OldCheckpoint, message));
        }
        for layer in &one.disks {
            let held = allocated_at(&grove.path(&layer.path));
            let most = u128::from(layer.virtual_size) * u128::from(limits.share) / 100;
            // The first layer of a disk is the disk.
            let is_first = one.parent.is_none();
            if u128::from(held) > most && !is_first {
                let message = format!(
                    "the checkpoint {name} holds {} of the disk {}, more than {} % of it: merging it \
                     away takes its time",
                    format_size(held),
                    layer.label,
                    limits.share
                );
                problems.push(Problem::new(&folder, ProblemKind::LargeCheckpoint, message));
            }
        }
    }
    for disk in &catalogue.disks {
        let mut at = catalogue.after;
        let mut layers = 1;
        while let Some(one) = at.and_then(|number| catalogue.numbered(number)) {
            layers += usize::from(one.layer(&disk.label).is_some());
            at = one.parent;
        }
        if layers > limits.layers {
            let message = format!(
                "the disk {} reads through {layers} layers: forget checkpoints that are not needed",
                disk.label
            );
            problems.push(Problem::new(&grove.path(&disk.path), ProblemKind::DeepChain, message));
        }
    }
    problems
}

/// Files that belong to nothing: in the history whatever they are, in the folder itself images.
fn tell_strangers(grove: &Grove, problems: &mut Vec<Problem>) -> Result<()> {
    let catalogue = grove.catalogue();
    let mut known: BTreeSet<PathBuf> = layers(grove).into_iter().collect();
    known.extend(catalogue.disks.iter().map(|disk| grove.path(&disk.path)));
    let folders: BTreeSet<PathBuf> = catalogue.checkpoints.iter().map(|one| grove.path(&one.folder)).collect();
    // What the disks read through belongs to them.
    for disk in &catalogue.disks {
        let mut at = grove.path(&disk.path);
        while let Some(parent) = super::lineage::parent_of(&at).filter(|parent| known.insert(parent.clone())) {
            at = parent;
        }
    }
    let is_ours = |path: &Path| known.contains(path) || is_beside(path) || is_temporary_name(path);
    let mut found: Vec<PathBuf> = Vec::new();
    let own = files_in(grove.folder())?.into_iter().filter(|path| path.is_file() && format_of_name(path).is_some());
    found.extend(own.filter(|path| !is_ours(path)));
    for folder in files_in(&grove.folder().join(HISTORY)).unwrap_or_default() {
        if !folder.is_dir() || !folders.contains(&folder) {
            found.push(folder);
            continue;
        }
        let record = folder.join(RECORD);
        found.extend(files_in(&folder)?.into_iter().filter(|path| !is_ours(path) && *path != record));
    }
    problems.extend(found.into_iter().map(|path| {
        let message = format!(
            "{} belongs to none of the machine's disks and checkpoints: add it, move it away, or remove it",
            path.display()
        );
        Problem::new(&path, ProblemKind::NobodysFile, message)
    }));
    Ok(())
}

/// Whether this is the name of one of the small files beside an image.
fn is_beside(path: &Path) -> bool {
    is_companion(path) || is_journal(path) || image_of_undo(path).is_some() || is_redo(path) || is_salvage_list(path)
}
