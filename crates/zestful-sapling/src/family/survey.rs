//! What stands in a folder, image by image, and what is wrong with it.

use std::collections::{HashMap, HashSet};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use uuid::Uuid;

use super::facts::{COUNTED_TABLE, Opened, open_for_look};
use super::folder::is_gone;
use super::health::{Health, Problem, ProblemKind};
use super::place::PlaceReport;
use super::scatter::Scatter;
use super::totals::Totals;
use super::unfinished::UnderWay;
use crate::chain::{Ascent, OpenOptions, candidates, direct_parent};
use crate::error::{Error, ParentProblemKind, Result};
use crate::finding::Finding;
use crate::image::pieces::is_descriptor;
use crate::image::{Format, Image, ImageInfo, format_of_name, recognise};
use crate::sidecar::{Companion, Header, under_way_at, waits_to_be_removed};
use crate::storage::{HostIdentity, ReadAt, allocated_at, real};

/// An image that was looked at.
pub(super) struct Seen {
    pub(super) path: PathBuf,
    pub(super) place: PlaceReport,
    /// Whether it stands elsewhere than where was looked.
    pub(super) elsewhere: bool,
    pub(super) info: ImageInfo,
    pub(super) file_size: u64,
    pub(super) allocated_size: u64,
    pub(super) modified: Option<Timestamp>,
    pub(super) created: Option<Timestamp>,
    pub(super) companion: Option<Companion>,
    pub(super) read_only: bool,
    pub(super) under_way: bool,
    pub(super) cut_short: bool,
    pub(super) in_use: Option<String>,
    pub(super) scatter: Option<Scatter>,
    pub(super) parent: Option<usize>,
    pub(super) broken: bool,
}

/// All that was seen.
#[derive(Default)]
pub(super) struct Survey {
    /// What the images of the folder are called there; a child may lead to them by another path.
    pub(super) names: HashMap<HostIdentity, PathBuf>,
    pub(super) images: Vec<Seen>,
    pub(super) by_identity: HashMap<HostIdentity, usize>,
    pub(super) problems: Vec<Problem>,
    pub(super) under_way: Vec<UnderWay>,
    /// Companions in the folder whose image is not there, until one fits.
    pub(super) lone: Vec<PathBuf>,
    /// Files that should be images and do not open.
    pub(super) unreadable: Totals,
}

impl Seen {
    /// Whether its file can still take more on the host.
    pub(super) fn grows(&self) -> bool {
        !self.read_only && self.place == PlaceReport::File
    }
}

impl Survey {
    /// Adds an image of the place that is looked at, and its parents. One that does not open is told.
    pub(super) fn add_or_tell(&mut self, path: &Path) {
        let before = self.images.len();
        let Err(error) = self.add(path, None) else { return };
        if is_gone(path) {
            return;
        }
        self.problems.push(Problem::of_error(path, &error));
        if self.images.len() == before {
            self.unreadable.add_unreadable(allocated_at(path));
        }
    }

    /// Adds those elsewhere that are known to have grown from what was seen, and that still read through it, or lost it
    /// because it changed.
    pub(super) fn add_known_children(&mut self) {
        let mut number = 0;
        while let Some(parent) = self.images.get(number) {
            let path = parent.path.clone();
            let children = parent.companion.as_ref().map_or_else(Vec::new, |known| known.child_paths(&path));
            for child in children {
                self.add_known_child(&path, &child);
            }
            number += 1;
        }
    }

    fn add_known_child(&mut self, parent: &Path, child: &Path) {
        // One that is not there, or cannot be read, is a matter of who asks for the children.
        let Ok(Some((image, identity))) = recognise(child) else { return };
        if self.by_identity.contains_key(&identity) {
            return;
        }
        let is_parent = |path: &Path| real(path).is_ok_and(|path| real(parent).is_ok_and(|parent| parent == path));
        let depends = match direct_parent(&*image, identity, &OpenOptions::new().without_locks()) {
            Ok(found) => found.is_some_and(|found| is_parent(found.image.path())),
            Err(Error::Parent(problem)) => {
                matches!(&problem.kind, ParentProblemKind::Mismatch { parent, .. } if is_parent(parent))
            }
            Err(_) => false,
        };
        let before = self.images.len();
        if depends && self.add(child, None).is_ok() {
            self.images[before..].iter_mut().for_each(|image| image.elsewhere = true);
        }
    }

    /// Adds an image and all its parents that are not known yet; they are elsewhere until they are added themselves.
    pub(super) fn add(&mut self, path: &Path, format: Option<Format>) -> Result<()> {
        let options = OpenOptions::new().without_locks();
        let mut child: Option<usize> = None;
        let (mut next, mut ascent): (PathBuf, Option<Ascent<'_>>) = (path.to_owned(), None);
        loop {
            let opened = open_for_look(&next, format.filter(|_| ascent.is_none()), false)?;
            let identity = opened.identity;
            let known = self.by_identity.get(&identity).copied();
            let number = match known {
                Some(number) => number,
                None => self.note(&next, &opened)?,
            };
            match child {
                Some(child) => self.images[child].parent = Some(number),
                None => self.images[number].elsewhere = false,
            }
            if known.is_some() {
                return Ok(());
            }
            if let Some(parent) = self.known_parent(&*opened.image) {
                self.images[number].parent = Some(parent);
                return Ok(());
            }
            let ascent = ascent.get_or_insert_with(|| Ascent::new(path, identity, &options));
            match ascent.parent_of(&*opened.image) {
                Ok(None) => return Ok(()),
                Ok(Some(found)) => next = found.image.path().to_owned(),
                Err(Error::Parent(_)) if waits_to_be_removed(opened.image.path()) => return Ok(()),
                Err(error @ (Error::Parent(_) | Error::Io { .. })) => {
                    self.images[number].broken = true;
                    self.problems.push(Problem::of_error(&self.images[number].path, &error));
                    return Ok(());
                }
                Err(other) => return Err(other),
            }
            child = Some(number);
        }
    }

    fn note(&mut self, path: &Path, opened: &Opened) -> Result<usize> {
        let Opened { identity, storage, .. } = opened;
        let found = std::fs::metadata(path).ok();
        let time =
            |time: std::io::Result<std::time::SystemTime>| time.ok().and_then(|time| Timestamp::try_from(time).ok());
        let known = Companion::of(path).and_then(|own| Companion::joined(path, own, &self.lone));
        let companion = known.unwrap_or_else(|error| {
            self.problems.push(Problem::new(path, ProblemKind::CompanionDamaged, error.with_causes()));
            None
        });
        let under_way = under_way_at(path).unwrap_or_else(|error| {
            self.problems.push(Problem::new(path, ProblemKind::JournalDamaged, error.with_causes()));
            None
        });
        let cut_short = under_way.as_ref().is_some_and(|header| self.note_under_way(header).is_none());
        let pin = companion.as_ref().and_then(|companion| companion.pin.as_ref());
        let doubt = pin.and_then(|pin| pin.mark().doubt(path, opened.image.info().data_identity));
        let doubt = doubt.map(|kind| Finding::new(kind, 0).at(path));
        let damaged = Problem::of_findings(path, opened.image.warnings());
        // Until it is verified nobody knows what its children read.
        let broken = doubt.is_some() || damaged.as_ref().is_some_and(|problem| problem.severity == Health::Broken);
        self.problems.extend(damaged);
        self.problems.extend(doubt.map(|doubt| Problem::of_finding(path, ProblemKind::PinTouched, &doubt)));
        self.images.push(Seen {
            path: self.names.get(identity).map_or(path, PathBuf::as_path).to_owned(),
            info: opened.image.info().clone(),
            place: PlaceReport::of(storage.medium()),
            elsewhere: true,
            file_size: storage.len()?,
            allocated_size: storage.allocated()?,
            modified: found.as_ref().and_then(|found| time(found.modified())),
            created: found.as_ref().and_then(|found| time(found.created())),
            companion,
            read_only: found.as_ref().is_some_and(|found| found.permissions().readonly()),
            under_way: under_way.is_some(),
            cut_short,
            in_use: opened.in_use.clone(),
            scatter: Scatter::of(&*opened.image, COUNTED_TABLE),
            parent: None,
            broken,
        });
        self.by_identity.insert(*identity, self.images.len() - 1);
        Ok(self.images.len() - 1)
    }

    /// Returns who is at it now.
    pub(super) fn note_under_way(&mut self, header: &Header) -> Option<String> {
        let found = UnderWay::of(header);
        let holder = found.holder.clone();
        if !self.under_way.contains(&found) {
            self.under_way.push(found);
        }
        holder
    }

    /// The parent of an image where it is an image that was seen already: many children share one, which need not be
    /// opened for each of them.
    fn known_parent(&self, child: &dyn Image) -> Option<usize> {
        let reference = child.info().parent.as_ref()?;
        let first = candidates(child.path(), reference).into_iter().find_map(|path| std::fs::metadata(path).ok())?;
        let number = *self.by_identity.get(&(first.dev(), first.ino()))?;
        let info = &self.images[number].info;
        let fits = info.data_identity.is_some_and(|id| reference.accepted.contains(&id))
            && info.logical_sector == child.info().logical_sector;
        fits.then_some(number)
    }

    /// A link with the name of an image that leads nowhere.
    pub(super) fn tell_broken_link(&mut self, path: &Path) {
        let Some(target) = std::fs::read_link(path).ok().filter(|_| !path.exists()) else { return };
        if format_of_name(path).is_some() || is_descriptor(path) {
            let message = format!(
                "{} is a link to {}, and nothing is there: bring that back, or remove the link",
                path.display(),
                target.display()
            );
            self.problems.push(Problem::new(path, ProblemKind::DanglingLink, message));
        }
    }

    /// Companions whose image is not there, and that belong to none of those that are: what they know is out of sight.
    pub(super) fn tell_lone_companions(&mut self) {
        let images: Vec<PathBuf> = self.images.iter().map(|image| image.path.clone()).collect();
        for path in std::mem::take(&mut self.lone) {
            let fits = |image: &PathBuf| Companion::joined(image, None, std::slice::from_ref(&path));
            if images.iter().any(|image| fits(image).is_ok_and(|found| found.is_some())) {
                continue;
            }
            let message = format!(
                "{} is the companion of an image that is not there: one that was moved or removed by hand has left \
                 its pin and its known children behind; bring it back, or have a child find it, or remove the \
                 companion if the image is gone for good",
                path.display()
            );
            self.problems.push(Problem::new(&path, ProblemKind::LoneCompanion, message));
        }
    }

    /// Images that others cannot tell apart.
    pub(super) fn find_twins(&mut self) {
        let mut by_data: HashMap<Uuid, &Seen> = HashMap::new();
        let mut twins = Vec::new();
        // What others grew from, or is known of, is the original; or else what was there first.
        let is_parent: HashSet<usize> = self.images.iter().filter_map(|image| image.parent).collect();
        let mut order: Vec<(usize, &Seen)> = self.images.iter().enumerate().collect();
        order.sort_by_key(|(number, image)| {
            (!is_parent.contains(number), image.companion.is_none(), image.created, image.path.clone())
        });
        for (_, image) in order {
            let Some(id) = image.info.data_identity else { continue };
            if let Some(first) = by_data.get(&id) {
                let message = format!(
                    "{} has the same identity as {}: it was copied by hand; whoever searches for a parent may find \
                     either (a fresh identity tells the copy apart)",
                    image.path.display(),
                    first.path.display()
                );
                twins.push(Problem::new(&image.path, ProblemKind::Twin, message));
            } else {
                by_data.insert(id, image);
            }
        }
        self.problems.append(&mut twins);
    }

    /// A chain that leads back to itself is cut at one place, which is told.
    pub(super) fn break_cycles(&mut self) {
        for start in 0..self.images.len() {
            let (mut at, mut steps) = (start, 0);
            while let Some(parent) = self.images[at].parent {
                if parent == start {
                    self.images[start].parent = None;
                    self.images[start].broken = true;
                    let path = self.images[start].path.clone();
                    let message = format!("{}: its chain of parents leads back to itself", path.display());
                    self.problems.push(Problem::new(&path, ProblemKind::ParentCycle, message));
                    break;
                }
                steps += 1;
                if steps > self.images.len() {
                    break;
                }
                at = parent;
            }
        }
    }
}
