//! The first part of a merge: data moves, while the child reads as before.

use std::path::Path;

use super::super::carry::Carry;
use super::super::mover::{Mover, open_mut};
use crate::chain::{
    Chain, Intent, Journal, Mark, Member, OpenOptions, Side, Stamp, Work, record_of, records_absolute, stamp_of,
};
use crate::error::{Error, Refusal, Result};
use crate::image::{Image, ParentRecord, open_image, open_image_mut, open_place, open_place_mut};
use crate::progress::Progress;
use crate::storage::{Access, FileStorage, real};

/// Refuses when an image is not the one that the intent speaks of.
pub(super) fn refuse_changed(intent: &Intent) -> Result<()> {
    let ancestor = intent.layers.len() - 1;
    for (number, member) in intent.layers.iter().enumerate() {
        let found = look(&member.path)?.info().data_identity;
        let is_renewed = intent.work == Work::MergeIntoParent && number == ancestor && found == Some(intent.identity);
        if found != Some(member.identity) && !is_renewed {
            return Err(changed(intent, &member.path));
        }
    }
    Ok(())
}

pub(super) fn changed(intent: &Intent, path: &Path) -> Error {
    Error::refused(
        Refusal::SourceChanged,
        format!("{} was written to by another program since {} was planned or begun", path.display(), intent.work),
        "end what uses it and look at the chain (`tree`, `check`); where it was begun, `abandon` leaves the chain as it \
         reads now",
    )
}

/// Refuses when somebody has one of the files that will be needed alone, or at all: better now than half-way.
pub(super) fn refuse_in_use(intent: &Intent) -> Result<()> {
    let survivor = intent.survivor().map(|member| &member.path);
    for member in &intent.layers {
        let access = if survivor == Some(&member.path) { Access::Amend } else { Access::Read };
        FileStorage::open(&member.path, access)?;
    }
    for child in intent.children.iter().filter(|child| child.path.exists()) {
        FileStorage::open(&child.path, Access::Amend)?;
    }
    Ok(())
}

fn look(path: &Path) -> Result<Box<dyn Image>> {
    open_image(open_place(path, Access::Look)?.storage, None)
}

/// Moves what is not moved yet; returns how many bytes that were.
pub(super) fn run(journal: &Journal, marks: &[Mark], progress: &Progress) -> Result<u64> {
    let intent = journal.intent();
    refuse_changed(intent)?;
    let options = OpenOptions::new();
    // Whoever grew from the child stays as it is meanwhile.
    let children = intent.children.iter().filter(|child| child.path.exists());
    let _held: Vec<FileStorage> =
        children.map(|child| FileStorage::open(&child.path, Access::Read)).collect::<Result<_>>()?;
    let (survivor, others) = match intent.work {
        Work::MergeIntoParent => intent.layers.split_last(),
        _ => intent.layers.split_first(),
    }
    .ok_or_else(|| Error::usage("the journal names no image", "remove it"))?;
    let stamps = || others.iter().map(|member| stamp_of(&member.path)).collect::<Result<Vec<Stamp>>>();
    match intent.work {
        Work::MergeIntoParent => {
            accept_both(intent)?;
            let (storage, mut image) = open_mut(&survivor.path)?;
            image.set_data_identity(intent.identity)?;
            let open = |member: &Member| open_image(open_place(&member.path, Access::Read)?.storage, None);
            let upper = Chain::from_layers(others.iter().map(open).collect::<Result<_>>()?);
            let mover = Mover { journal, storage: &*storage, carry: Carry::Down { upper: &upper }, progress };
            mover.run(image, marks, stamps()?)
        }
        _ => {
            let (storage, mut image) = open_mut(&survivor.path)?;
            // What it takes in is what it showed before.
            image.set_data_identity(intent.identity)?;
            let old = Side::of(Chain::open(&others[0].path, &options)?)?;
            let new = match &intent.parent {
                Some(parent) => Side::of(Chain::open(&parent.path, &options)?)?,
                None => Side::nothing(),
            };
            let carry = Carry::Up { old: &old, new: &new, compare: false };
            Mover { journal, storage: &*storage, carry, progress }.run(image, marks, stamps()?)
        }
    }
}

/// The nearest child accepts the ancestor's new identity beside the old one, where its format can; else the journal
/// speaks for the moment between.
fn accept_both(intent: &Intent) -> Result<()> {
    let [.., nearest, ancestor] = intent.layers.as_slice() else { return Ok(()) };
    let accepts = |image: &dyn Image| {
        image.info().parent.as_ref().is_some_and(|reference| reference.accepted.contains(&intent.identity))
    };
    if !accepts(&*look(&nearest.path)?) {
        record(nearest, ancestor, intent.identity, Some(ancestor.identity))?;
    }
    Ok(())
}

/// Has the nearest child accept these identities of the ancestor.
fn record(nearest: &Member, ancestor: &Member, identity: uuid::Uuid, also: Option<uuid::Uuid>) -> Result<()> {
    let mut image = open_image_mut(open_place_mut(&nearest.path, Access::Amend)?.0, None)?;
    let absolute = records_absolute(image.info().parent.as_ref());
    let info = look(&ancestor.path)?.info().clone();
    let record = record_of(&real(&nearest.path)?, &ancestor.path, &info, absolute)?;
    image.set_parent(&ParentRecord { identity, also, ..record })?;
    image.close()
}

/// Leaves the chain as it reads now; the nearest child accepts the identity that the ancestor has.
pub(super) fn take_back(intent: &Intent) -> Result<()> {
    let [.., nearest, ancestor] = intent.layers.as_slice() else { return Ok(()) };
    if intent.work == Work::MergeIntoParent {
        let found = look(&ancestor.path)?.info().data_identity;
        let now = found.filter(|id| [ancestor.identity, intent.identity].contains(id)).ok_or_else(|| {
            Error::refused(
                Refusal::SourceChanged,
                format!("{} was written to by another program since", ancestor.path.display()),
                "end what uses it, and see what `check` says of the chain",
            )
        })?;
        record(nearest, ancestor, now, None)?;
    }
    Ok(())
}
