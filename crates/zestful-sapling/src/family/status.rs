//! The first look at a folder: what is whole, what is not, what was begun, who holds what, and whether the host can
//! hold it all.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::folder::{Folder, Listing};
use super::health::{Health, Problem, ProblemKind};
use super::totals::Totals;
use super::tree::{Family, Node};
use super::unfinished::UnderWay;
use crate::error::Result;
use crate::image::pieces::stray_pieces;
use crate::sidecar::image_of_undo;
use crate::size::format_size;
use crate::storage::{free_space, is_temporary_name, user_of, writers_of};

/// What a first look shows. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Status {
    /// The folder.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub folder: PathBuf,
    /// How the worst of it is.
    pub state: Health,
    /// Images of the folder, those that cannot be read as well.
    pub images: usize,
    /// Families that they form.
    pub families: usize,
    /// What is wrong, file by file.
    pub problems: Vec<Problem>,
    /// What was begun and is not finished.
    pub under_way: Vec<UnderWay>,
    /// Images that somebody uses now, as far as this host tells.
    pub held: Vec<Held>,
    /// The disks that guests write to.
    pub current: Vec<CurrentDisk>,
    /// Images that are pinned.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub pinned: Vec<PathBuf>,
    /// Layers of the deepest chain.
    pub deepest: usize,
    /// The frozen layer that was not changed for the longest time.
    pub oldest_frozen: Option<OldestFrozen>,
    /// The most that all current disks can still grow together.
    pub most_growth: u64,
    /// What the images of the folder take together.
    pub totals: Totals,
    /// Free space of the file system that holds the folder.
    pub host_free: u64,
    /// What could not be looked at when writers were looked for.
    pub not_seen: Option<String>,
}

/// The frozen layer that was not changed for the longest time.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct OldestFrozen {
    /// The file.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// When it was last changed.
    pub since: Timestamp,
}

/// An image that somebody uses now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Held {
    /// The file.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Who.
    pub holder: String,
}

/// A disk that a guest writes to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CurrentDisk {
    /// Its current image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The size that a guest sees.
    pub virtual_size: u64,
    /// What its current image takes on the host.
    pub allocated_size: u64,
    /// The most that it can still grow.
    pub most_growth: u64,
    /// Layers below the current one.
    pub depth: usize,
    /// How it is, with all that it reads through.
    pub state: Health,
}

/// Looks at all images in a folder, and at those elsewhere that they grew from, or that are known to have grown from
/// them.
///
/// # Errors
/// `Io` when the folder cannot be read; what is wrong with an image is part of the status.
pub fn status_of(folder: impl Into<Folder>) -> Result<Status> {
    let folder = folder.into();
    status_with(folder.path(), folder.list()?, &[], Vec::new())
}

/// The same of what stands in a folder, with these images besides, and what else is wrong.
pub(crate) fn status_with(
    folder: &Path,
    listing: Listing,
    others: &[PathBuf],
    problems: Vec<Problem>,
) -> Result<Status> {
    let entries = listing.entries.clone();
    let family = Family::of_listing(listing, others)?;
    let mut status = Status {
        folder: folder.to_owned(),
        state: family.state,
        images: family.totals.images,
        families: family.roots.len(),
        problems: family.problems,
        under_way: family.under_way,
        held: Vec::new(),
        current: Vec::new(),
        pinned: Vec::new(),
        deepest: 0,
        oldest_frozen: None,
        most_growth: family.totals.most_growth,
        totals: family.totals,
        host_free: free_space(folder)?,
        not_seen: None,
    };
    let mut waiting: Vec<&Node> = family.roots.iter().collect();
    while let Some(node) = waiting.pop() {
        status.note(node);
        waiting.extend(&node.children);
    }
    status.note_writers(&family.roots);
    status.current.sort_by(|one, other| one.path.cmp(&other.path));
    for path in entries.iter().filter(|path| is_temporary_name(path)) {
        stray_pieces(path).iter().for_each(|piece| status.tell_left_over(piece));
        match path.is_file().then(|| user_of(path)).transpose()?.flatten() {
            Some(holder) => status.held.push(Held { path: path.clone(), holder: holder.name }),
            None => status.tell_left_over(path),
        }
    }
    for path in entries.iter().filter(|path| is_lone_undo(path)) {
        let message = format!("{} holds what a repair overwrote in an image that is not there", path.display());
        status.problems.push(Problem::new(path, ProblemKind::LeftOver, message));
    }
    if status.most_growth > status.host_free {
        let message = format!(
            "all disks together can still grow by {}, and the host has {} free",
            format_size(status.most_growth),
            format_size(status.host_free)
        );
        status.problems.push(Problem::new(folder, ProblemKind::DoesNotFit, message));
    }
    status.problems.extend(problems);
    status.problems.sort_by(|one, other| (other.severity, &one.path).cmp(&(one.severity, &other.path)));
    status.state = status.problems.iter().map(|problem| problem.severity).fold(status.state, Health::max);
    Ok(status)
}

impl Status {
    fn tell_left_over(&mut self, path: &Path) {
        let message = format!("{} was never finished and nothing refers to it", path.display());
        self.problems.push(Problem::new(path, ProblemKind::LeftOver, message));
    }

    /// Who has images open for writing without taking a lock, as far as this host lets us see.
    fn note_writers(&mut self, roots: &[Node]) {
        let mut paths = Vec::new();
        let mut waiting: Vec<&Node> = roots.iter().collect();
        while let Some(node) = waiting.pop() {
            paths.push(node.path.as_path());
            waiting.extend(&node.children);
        }
        let writers = writers_of(paths);
        self.not_seen = writers.not_seen();
        for (path, holder) in writers.found {
            if !self.held.iter().any(|held| held.path == path) {
                self.held.push(Held { path, holder: holder.name });
            }
        }
    }

    fn note(&mut self, node: &Node) {
        if !node.elsewhere {
            self.deepest = self.deepest.max(node.depth + 1);
        }
        if let Some(holder) = &node.in_use {
            self.held.push(Held { path: node.path.clone(), holder: holder.clone() });
        }
        if node.pinned {
            self.pinned.push(node.path.clone());
        }
        if !node.is_written() {
            if let Some(modified) = node.modified
                && self.oldest_frozen.as_ref().is_none_or(|oldest| modified < oldest.since)
            {
                self.oldest_frozen = Some(OldestFrozen { path: node.path.clone(), since: modified });
            }
            return;
        }
        if node.elsewhere {
            return;
        }
        self.current.push(CurrentDisk {
            path: node.path.clone(),
            virtual_size: node.virtual_size,
            allocated_size: node.allocated_size,
            most_growth: node.most_growth,
            depth: node.depth,
            state: node.state,
        });
    }
}

fn is_lone_undo(path: &Path) -> bool {
    image_of_undo(path).is_some_and(|image| std::fs::symlink_metadata(image).is_err())
}
