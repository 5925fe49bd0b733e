//! The second part of a merge: all data is where it belongs; now names, records and files follow. Every step finds out
//! whether it was done already, so that all of it can be repeated.

use std::path::{Path, PathBuf};

use uuid::Uuid;

use super::super::kin::look;
use super::MergeOutcome;
use super::data::changed;
use crate::chain::{Companion, Grandchild, Intent, Work, record_of};
use crate::error::Result;
use crate::image::{ParentRecord, open_image, open_image_mut, open_place, open_place_mut};
use crate::storage::{Access, inherit, mark_read_only, real, remove, rename_over, sync_folder, unmark_read_only};

pub(super) fn run(intent: &Intent) -> Result<MergeOutcome> {
    let survivor = intent.survivor().map(|member| member.path.clone()).unwrap_or_default();
    let result = &intent.result;
    let swaps = survivor != *result;
    let replaced = intent.layers.iter().find(|member| member.path == *result).map(|member| member.identity);
    // A guest may have written to the result since, when only the removal of the journal was lost.
    let swapped = swaps && identity_at(&survivor) != Some(intent.identity) && identity_at(result) != replaced;
    let known = [intent.layers[0].identity, intent.identity];
    let (there, missing): (Vec<_>, Vec<_>) =
        intent.children.iter().partition(|child| names_one_of(&child.path, &known));
    let is_told = swaps || intent.work == Work::MergeIntoParent;
    if !swapped {
        refuse_changed(intent)?;
        for child in there.iter().filter(|_| is_told) {
            // Good both before and after the image gets its final name.
            record_parent(intent, &child.path, &survivor, swaps || child.absolute)?;
        }
        settle_own_parent(intent, &survivor)?;
        settle_mode(intent, &survivor, swaps)?;
        if swaps {
            rename_over(&survivor, result)?;
            sync_folder(result)?;
            sync_folder(&survivor)?;
        }
    }
    for member in intent.layers.iter().filter(|member| member.path != survivor) {
        // Only what was merged goes, never another file that came under its name.
        if member.path != *result && identity_at(&member.path) == Some(member.identity) {
            // Not synced: a host may take long to give the space back, and nothing relies on their being gone. The journal goes
            // after them.
            Companion::remove(&member.path)?;
            remove(&member.path)?;
        }
    }
    if swaps {
        for child in &there {
            record_parent(intent, &child.path, result, child.absolute)?;
        }
        if !intent.absolute {
            settle_own_parent(intent, result)?;
        }
    }
    tell_companions(intent, &survivor);
    let paths = |children: Vec<&Grandchild>| children.into_iter().map(|child| child.path.clone()).collect();
    let layers = intent.layers.iter().map(|member| member.path.clone());
    let removed = layers.filter(|path| path != result).collect();
    let relinked = if is_told { paths(there) } else { Vec::new() };
    Ok(MergeOutcome { path: result.clone(), bytes_moved: 0, removed, relinked, missing: paths(missing) })
}

/// Refuses to let go of an image that was written to after its data was moved, or of one that hides such a write.
fn refuse_changed(intent: &Intent) -> Result<()> {
    let mut whole = true;
    for member in &intent.layers {
        let is_survivor = intent.survivor() == Some(member);
        match identity_at(&member.path) {
            None => whole = false,
            Some(found) if is_survivor || found == member.identity => {}
            Some(_) => return Err(changed(intent, &member.path)),
        }
    }
    let survivor = intent.survivor().map(|member| member.path.as_path()).unwrap_or(intent.child());
    let is_other = identity_at(survivor) != Some(intent.identity);
    match whole && is_other && intent.work == Work::MergeIntoParent {
        true => Err(changed(intent, survivor)),
        false => Ok(()),
    }
}

/// Whether any of the names and records were changed, so that there is no way back.
pub(super) fn has_begun(intent: &Intent) -> bool {
    let records = |path: &Path, identity: Uuid| names_one_of(path, &[identity]);
    let is_gone = intent.layers.iter().any(|member| identity_at(&member.path).is_none());
    let is_switched = match (intent.work, intent.layers.get(1)) {
        (Work::MergeIntoChild, Some(parent)) => !records(intent.child(), parent.identity),
        _ => intent.children.iter().any(|child| records(&child.path, intent.identity)),
    };
    is_gone || is_switched
}

fn identity_at(path: &Path) -> Option<Uuid> {
    look(path)?.0.info().data_identity
}

/// Whether the image is there and records a parent with one of these identities.
fn names_one_of(path: &Path, identities: &[Uuid]) -> bool {
    look(path).is_some_and(|(image, _)| {
        let parent = image.info().parent.as_ref();
        parent.is_some_and(|parent| parent.accepted.iter().any(|id| identities.contains(id)))
    })
}

/// Records in `child` that its parent is the merged image, at its final place; at `now` as well when asked for.
fn record_parent(intent: &Intent, child: &Path, now: &Path, both: bool) -> Result<()> {
    let info = open_image(open_place(now, Access::Look)?.storage, None)?.info().clone();
    let absolute = both.then(|| now.to_string_lossy().replace('/', "\\"));
    let record = record_of(&real(child)?, &intent.result, &info, false)?;
    put_parent(child, &ParentRecord { identity: intent.identity, absolute, ..record })
}

fn put_parent(child: &Path, record: &ParentRecord) -> Result<()> {
    let mut image = open_image_mut(open_place_mut(child, Access::Amend)?.0, None)?;
    image.set_parent(record)?;
    image.close()
}

/// The parent of the merged image, recorded so that it is good from the image's place now and from its final one.
fn settle_own_parent(intent: &Intent, image: &Path) -> Result<()> {
    let moves = intent.survivor().is_some_and(|member| member.path.parent() != intent.result.parent());
    let Some(parent) = &intent.parent else {
        if intent.work == Work::MergeIntoChild {
            let mut image = open_image_mut(open_place_mut(image, Access::Amend)?.0, None)?;
            if image.info().parent.is_some() {
                image.remove_parent()?;
            }
            image.close()?;
        }
        return Ok(());
    };
    if intent.work == Work::MergeIntoParent && !moves {
        return Ok(());
    }
    let info = open_image(open_place(&parent.path, Access::Look)?.storage, None)?.info().clone();
    let absolute = intent.absolute || (moves && image != intent.result);
    let record = record_of(&intent.result, &parent.path, &info, absolute)?;
    // Whatever became of the parent meanwhile, the image is made for the one that it was.
    put_parent(image, &ParentRecord { identity: parent.identity, ..record })
}

/// The merged image has the child's part from here on, and is as free to write to; in another's place it belongs to
/// whoever owned that.
fn settle_mode(intent: &Intent, survivor: &Path, swaps: bool) -> Result<()> {
    if swaps {
        inherit(&intent.result, survivor)?;
    }
    match intent.frozen {
        true => mark_read_only(survivor),
        false => unmark_read_only(survivor),
    }
}

/// Best effort, as ever with companions: the merge is done whatever they say.
fn tell_companions(intent: &Intent, survivor: &Path) {
    let children: Vec<PathBuf> = intent.children.iter().map(|child| child.path.clone()).collect();
    let result = &intent.result;
    _ = Companion::remove(result);
    if survivor != result {
        _ = Companion::remove(survivor);
    }
    _ = Companion::change_children(result, &[], &children);
    if let Some(parent) = &intent.parent {
        let gone: Vec<PathBuf> = intent.layers.iter().map(|member| member.path.clone()).collect();
        _ = Companion::change_children(&parent.path, &gone, std::slice::from_ref(result));
    }
}
