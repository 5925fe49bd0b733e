//! The second part of a merge: all data is where it belongs; now names, records and files follow. Every step finds out
//! whether it was done already, so that all of it can be repeated.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::data::changed;
use super::estimate::Direction;
use super::record::MergeRecord;
use crate::chain::record_of;
use crate::error::Result;
use crate::family::{Guard, record_children};
use crate::image::{ParentRecord, data_identity_at, open_unlocked, recognise};
use crate::sidecar::{ChildrenChange, Companion, NewChild, Reader, child_at, remove_undo};
use crate::storage::{FileId, Held, inherit, mark_read_only, real, remove, rename_over, sync_folder, unmark_read_only};

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct MergeOutcome {
    /// Where the merged image stands.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Bytes that were moved by this run.
    pub bytes_moved: u64,
    /// The names under which no image stands any more.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub removed: Vec<PathBuf>,
    /// The children that record the merged image as their parent now.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub relinked: Vec<PathBuf>,
    /// Children that were not where they had been: they must be relinked by hand.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub missing: Vec<PathBuf>,
}

/// Moves names and records; `children` are those that grew from the child, all of them locked.
pub(in crate::ops) fn run(work: &MergeRecord, children: &[Reader], held: &Held, guard: &Guard) -> Result<MergeOutcome> {
    let survivor = work.header.survivor_path().to_owned();
    let finishing = Finishing { work, children, held, guard, survivor };
    finishing.run()
}

struct Finishing<'a> {
    work: &'a MergeRecord,
    children: &'a [Reader],
    held: &'a Held,
    guard: &'a Guard,
    survivor: PathBuf,
}

impl Finishing<'_> {
    fn run(&self) -> Result<MergeOutcome> {
        let Self { work, children, survivor, .. } = self;
        let result = &work.header.result;
        let swaps = survivor != result;
        let replaced = work.header.members.iter().find(|member| member.path == *result).map(|member| member.identity);
        // A guest may have written to the result since, when only the removal of the journal was lost.
        let swapped =
            swaps && data_identity_at(survivor) != Some(work.payload.identity) && data_identity_at(result) != replaced;
        let is_told = swaps || work.payload.direction == Direction::IntoParent;
        if !swapped {
            refuse_lost_writes(work)?;
            self.tell_companions_first()?;
            for child in children.iter().filter(|_| is_told) {
                // Good both before and after the image gets its final name.
                self.record_parent(&child.path, survivor, swaps || child.absolute)?;
            }
            self.record_own_parent(survivor)?;
            hand_on_mode(work, survivor, swaps)?;
            if swaps {
                rename_over(survivor, result)?;
                sync_folder(result)?;
                sync_folder(survivor)?;
            }
        }
        for member in work.header.members.iter().filter(|member| member.path != *survivor && member.path != *result) {
            // Only what was merged goes, never another file that came under its name.
            let is_it = data_identity_at(&member.path).is_some_and(|found| member.is_known_as(found));
            if is_it && work.header.is_member(member, &member.path) {
                Companion::remove(&member.path)?;
                let _until_removed = self.held.let_go(&member.path)?;
                remove(&member.path)?;
                // Those that read through others go before them, also where each folder is a file system of its own.
                sync_folder(&member.path)?;
                remove_undo(&member.path);
            }
        }
        if swaps {
            for child in children.iter() {
                self.record_parent(&child.path, result, child.absolute)?;
            }
            if !work.payload.absolute {
                self.record_own_parent(result)?;
            }
        }
        self.tell_companions_last()?;
        let layers = work.header.members.iter().map(|member| member.path.clone());
        let is_missing =
            |child: &&Reader| !children.iter().any(|found| found.file == child.file || found.path == child.path);
        let paths = |children: &[Reader]| children.iter().map(|child| child.path.clone()).collect();
        Ok(MergeOutcome {
            path: result.clone(),
            bytes_moved: 0,
            removed: layers.filter(|path| path != result).collect(),
            relinked: if is_told { paths(children) } else { Vec::new() },
            missing: work.header.readers.iter().filter(is_missing).map(|child| child.path.clone()).collect(),
        })
    }

    /// Records in an image's companion who is about to read through it, before that happens.
    fn tell_companions_first(&self) -> Result<()> {
        let Self { work, children, guard, survivor, .. } = self;
        let new: Vec<NewChild> = children.iter().map(|child| child_at(&child.path)).collect();
        let change = ChildrenChange { new: &new, freezes: work.payload.frozen, ..ChildrenChange::default() };
        if !new.is_empty() || work.payload.frozen {
            record_children(survivor, &change, guard)?;
            if *survivor != work.header.result {
                record_children(&work.header.result, &change, guard)?;
            }
        }
        if let Some(parent) = &work.header.parent {
            let new = [(work.header.result.clone(), FileId::of(survivor).ok())];
            record_children(&parent.path, &ChildrenChange { new: &new, ..ChildrenChange::default() }, guard)?;
        }
        Ok(())
    }

    /// Takes away the companions of layers that are gone.
    fn tell_companions_last(&self) -> Result<()> {
        let Self { work, children, guard, survivor, .. } = self;
        let result = &work.header.result;
        if survivor != result && data_identity_at(survivor).is_none() {
            Companion::remove(survivor)?;
        }
        let before = Companion::of(result).ok().flatten();
        let gone = before.map_or_else(Vec::new, |companion| companion.child_paths(result));
        let new: Vec<NewChild> = children.iter().map(|child| child_at(&child.path)).collect();
        let (freezes, thaws) = (work.payload.frozen, !work.payload.frozen);
        record_children(
            result,
            &ChildrenChange { gone: &gone, new: &new, freezes, thaws, ..Default::default() },
            guard,
        )?;
        if let Some(parent) = &work.header.parent {
            let layers = work.header.members.iter().map(|member| member.path.clone());
            let gone: Vec<PathBuf> = layers.filter(|path| path != result).collect();
            let new = [child_at(result)];
            record_children(&parent.path, &ChildrenChange { gone: &gone, new: &new, ..Default::default() }, guard)?;
        }
        Ok(())
    }

    /// Records in `child` that its parent is the merged image, at its final place; at `now` as well when asked for.
    fn record_parent(&self, child: &Path, now: &Path, both: bool) -> Result<()> {
        let info = open_unlocked(now)?.info().clone();
        let absolute = both.then(|| now.to_string_lossy().replace('/', "\\"));
        let record = record_of(&real(child)?, &self.work.header.result, &info, false)?;
        self.held.record_parent(child, &ParentRecord { identity: self.work.payload.identity, absolute, ..record })
    }

    /// The parent of the merged image, recorded so that it is good from the image's place now and from its final one.
    fn record_own_parent(&self, image: &Path) -> Result<()> {
        let work = self.work;
        let moves = work.header.survivor().is_some_and(|member| member.path.parent() != work.header.result.parent());
        let Some(parent) = &work.header.parent else {
            if work.payload.direction == Direction::IntoChild {
                let mut image = self.held.image_mut(image)?;
                if image.info().parent.is_some() {
                    image.remove_parent()?;
                }
                image.close()?;
            }
            return Ok(());
        };
        if work.payload.direction == Direction::IntoParent && !moves {
            return Ok(());
        }
        let info = open_unlocked(&parent.path)?.info().clone();
        let absolute = work.payload.absolute || (moves && image != work.header.result);
        let record = record_of(&work.header.result, &parent.path, &info, absolute)?;
        // Whatever became of the parent meanwhile, the image is made for the one that it was.
        self.held.record_parent(image, &ParentRecord { identity: parent.identity, ..record })
    }
}

/// Refuses to let go of an image that was written to after its data was moved, or of one that hides such a write.
fn refuse_lost_writes(work: &MergeRecord) -> Result<()> {
    let mut whole = true;
    for member in &work.header.members {
        let is_survivor = work.header.survivor() == Some(member);
        match data_identity_at(&member.path) {
            None => whole = false,
            Some(found) if is_survivor || member.is_known_as(found) => {}
            Some(_) => return Err(changed(work.header.work, &member.path)),
        }
    }
    let survivor = work.header.survivor_path();
    let is_other = data_identity_at(survivor) != Some(work.payload.identity);
    match whole && is_other && work.payload.direction == Direction::IntoParent {
        true => Err(changed(work.header.work, survivor)),
        false => Ok(()),
    }
}

/// Whether any of the names and records were changed, so that there is no way back.
pub(in crate::ops) fn has_begun(work: &MergeRecord) -> bool {
    let records = |path: &Path, identity: Uuid| names_one_of(path, &[identity]);
    let is_gone = work.header.members.iter().any(|member| data_identity_at(&member.path).is_none());
    let is_switched = match (work.payload.direction, work.header.members.get(1)) {
        (Direction::IntoChild, Some(parent)) => !records(work.header.image(), parent.identity),
        _ => work.header.readers.iter().any(|child| records(&child.path, work.payload.identity)),
    };
    is_gone || is_switched
}

/// Whether the image is there and records a parent with one of these identities.
pub(in crate::ops) fn names_one_of(path: &Path, identities: &[Uuid]) -> bool {
    recognise(path).ok().flatten().is_some_and(|(image, _)| {
        let parent = image.info().parent.as_ref();
        parent.is_some_and(|parent| parent.accepted.iter().any(|id| identities.contains(id)))
    })
}

/// The merged image takes the place of the child: it can be written to if the child could, and where it takes another
/// image's name it belongs to the owner of that image.
fn hand_on_mode(work: &MergeRecord, survivor: &Path, swaps: bool) -> Result<()> {
    if swaps {
        // Kept as far as we may.
        _ = inherit(&work.header.result, survivor)?;
    }
    match work.payload.frozen {
        true => mark_read_only(survivor),
        false => unmark_read_only(survivor),
    }
}
