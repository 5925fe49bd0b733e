//! The first part of a merge: data moves, while the child reads as before.

use std::path::Path;
use std::sync::Arc;

use crate::chain::{Chain, OpenOptions, Side, record_of, records_absolute};
use crate::error::{Error, Refusal, Result};
use crate::image::{Image, ParentRecord, open_unlocked};
use crate::progress::Progress;
use crate::sidecar::{Intent, Journal, Mark, Member, Stamp, Work, stamp_of};
use crate::storage::{Held, real};
use crate::transfer::{Carry, Mover};

/// Refuses when an image is not the one that the intent speaks of.
pub(in crate::ops) fn refuse_changed(intent: &Intent) -> Result<()> {
    for member in &intent.layers {
        if !open_unlocked(&member.path)?.info().data_identity.is_some_and(|found| member.is_known_as(found)) {
            return Err(changed(intent, &member.path));
        }
    }
    Ok(())
}

pub(in crate::ops) fn changed(intent: &Intent, path: &Path) -> Error {
    Error::refused(
        Refusal::SourceChanged,
        format!("{} was written to by another program since {} was planned or begun", path.display(), intent.work),
        "end what uses it and look at the chain (`tree`, `check`); where it was begun, `abandon` leaves the chain as it \
         reads now",
    )
}

/// Moves what is not moved yet; returns how many bytes that were.
pub(in crate::ops) fn run(journal: &Journal, marks: &[Mark], held: &Arc<Held>, progress: &Progress) -> Result<u64> {
    let intent = journal.intent();
    refuse_changed(intent)?;
    let options = OpenOptions::new().with_held(held);
    let (survivor, others) = match intent.work {
        Work::MergeIntoParent => intent.layers.split_last(),
        _ => intent.layers.split_first(),
    }
    .ok_or_else(|| Error::usage("the journal names no image", "remove it"))?;
    let stamps = || others.iter().map(|member| stamp_of(&member.path)).collect::<Result<Vec<Stamp>>>();
    match intent.work {
        Work::MergeIntoParent => {
            renew(intent, held)?;
            let mut image = held.image_mut(&survivor.path)?;
            image.set_data_identity(intent.identity)?;
            let open = |member: &Member| held.image(&member.path);
            let upper = Chain::from_layers(others.iter().map(open).collect::<Result<_>>()?);
            let mover = Mover { journal, carry: Carry::Down { upper: &upper }, progress };
            mover.run(image, marks, stamps()?)
        }
        _ => {
            let mut image = held.image_mut(&survivor.path)?;
            // What it takes in is what it showed before.
            image.set_data_identity(intent.identity)?;
            let old = Side::of(Chain::open(&others[0].path, &options)?)?;
            let new = match &intent.parent {
                Some(parent) => Side::of(Chain::open(&parent.path, &options)?)?,
                None => Side::nothing(),
            };
            let carry = Carry::Up { old: &old, new: &new, compare: false };
            Mover { journal, carry, progress }.run(image, marks, stamps()?)
        }
    }
}

/// Every layer whose content is about to look different gets a new data identity, and the layer above it accepts
/// that: beside the old one, where its format can; else the journal speaks for the moment between. The ancestor gets
/// its own with the first data.
fn renew(intent: &Intent, held: &Held) -> Result<()> {
    for (number, pair) in intent.layers.windows(2).enumerate() {
        let [upper, lower] = pair else { continue };
        let Some(renewed) = lower.renewed else { continue };
        let accepts = |image: &dyn Image| {
            image.info().parent.as_ref().is_some_and(|reference| reference.accepted.contains(&renewed))
        };
        if !accepts(&*open_unlocked(&upper.path)?) {
            record(upper, lower, renewed, Some(lower.identity), held)?;
        }
        let is_ancestor = number + 2 == intent.layers.len();
        if !is_ancestor && open_unlocked(&lower.path)?.info().data_identity != Some(renewed) {
            let mut image = held.image_mut(&lower.path)?;
            image.set_data_identity(renewed)?;
            image.close()?;
        }
    }
    Ok(())
}

/// Has a layer accept these identities of the one below it.
fn record(upper: &Member, lower: &Member, identity: uuid::Uuid, also: Option<uuid::Uuid>, held: &Held) -> Result<()> {
    let mut image = held.image_mut(&upper.path)?;
    let absolute = records_absolute(image.info().parent.as_ref());
    let info = open_unlocked(&lower.path)?.info().clone();
    let record = record_of(&real(&upper.path)?, &lower.path, &info, absolute)?;
    image.set_parent(&ParentRecord { identity, also, ..record })?;
    image.close()
}

/// Leaves the chain as it reads now; each layer accepts the identity that the one below it has.
pub(in crate::ops) fn take_back(intent: &Intent, held: &Held) -> Result<()> {
    if intent.work != Work::MergeIntoParent {
        return Ok(());
    }
    for pair in intent.layers.windows(2) {
        let [upper, lower] = pair else { continue };
        let found = open_unlocked(&lower.path)?.info().data_identity;
        let now = found.filter(|id| lower.is_known_as(*id)).ok_or_else(|| {
            Error::refused(
                Refusal::SourceChanged,
                format!("{} was written to by another program since", lower.path.display()),
                "end what uses it, and see what `check` says of the chain",
            )
        })?;
        record(upper, lower, now, None, held)?;
    }
    Ok(())
}
