//! The first part of a merge: data moves, while the child reads as before.

use std::path::Path;
use std::sync::Arc;

use super::estimate::Direction;
use super::record::{MergePayload, MergeRecord};
use crate::chain::{Chain, DiskSide, OpenOptions, record_of, records_absolute};
use crate::error::{Error, Refusal, Result};
use crate::image::{Image, ParentRecord, open_unlocked};
use crate::progress::Progress;
use crate::sidecar::{Journal, Member, Work};
use crate::storage::{Held, real};
use crate::transfer::{Delta, Mark, Stamp, Transfer, stamp_of};

/// Refuses when an image is not the one that the work speaks of.
pub(in crate::ops) fn refuse_unless_known(work: &MergeRecord) -> Result<()> {
    for member in &work.header.members {
        if !open_unlocked(&member.path)?.info().data_identity.is_some_and(|found| member.is_known_as(found)) {
            return Err(changed(work.header.work, &member.path));
        }
    }
    Ok(())
}

pub(in crate::ops) fn changed(work: Work, path: &Path) -> Error {
    Error::refused(
        Refusal::changed(path),
        format!("{} was written to by another program since {} was planned or begun", path.display(), work),
        "end what uses it and check the chain; where it was begun, giving it up leaves the chain as it reads now",
    )
}

/// Moves what is not moved yet; returns how many bytes that were.
pub(in crate::ops) fn run(
    journal: &Journal<MergePayload>,
    marks: &[Mark],
    held: &Arc<Held>,
    progress: &Progress,
) -> Result<u64> {
    let work = journal.record();
    refuse_unless_known(work)?;
    let options = OpenOptions::new().with_held(held);
    let (survivor, others) = match work.payload.direction {
        Direction::IntoParent => work.header.members.split_last(),
        _ => work.header.members.split_first(),
    }
    .ok_or_else(|| Error::usage("the journal names no image", "remove it"))?;
    let stamps = || others.iter().map(|member| stamp_of(&member.path)).collect::<Result<Vec<Stamp>>>();
    match work.payload.direction {
        Direction::IntoParent => {
            renew(work, held)?;
            let mut image = held.image_mut(&survivor.path)?;
            image.set_data_identity(work.payload.identity)?;
            let open = |member: &Member| held.image(&member.path);
            let upper = Chain::from_layers(others.iter().map(open).collect::<Result<_>>()?);
            let transfer = Transfer { journal, delta: Delta::Down { upper: &upper }, progress };
            transfer.run(image, marks, stamps()?)
        }
        _ => {
            let mut image = held.image_mut(&survivor.path)?;
            // What it takes in is what it read through its parent before, so that its content stays the same.
            image.set_data_identity(work.payload.identity)?;
            let old = DiskSide::of(Chain::open(&others[0].path, &options)?)?;
            let new = match &work.header.parent {
                Some(parent) => DiskSide::of(Chain::open(&parent.path, &options)?)?,
                None => DiskSide::nothing(),
            };
            let delta = Delta::Up { old: &old, new: &new, compare: false };
            Transfer { journal, delta, progress }.run(image, marks, stamps()?)
        }
    }
}

/// Every layer whose content is about to look different gets a new data identity, and the layer above it records
/// that. A format that can record two identities has both in between; for one that cannot, the journal answers in
/// between. The ancestor gets its new identity with the first data.
fn renew(work: &MergeRecord, held: &Held) -> Result<()> {
    for (number, pair) in work.header.members.windows(2).enumerate() {
        let [upper, lower] = pair else { continue };
        let Some(renewed) = lower.renewed else { continue };
        let accepts = |image: &dyn Image| {
            image.info().parent.as_ref().is_some_and(|reference| reference.accepted.contains(&renewed))
        };
        if !accepts(&*open_unlocked(&upper.path)?) {
            record(upper, lower, renewed, Some(lower.identity), held)?;
        }
        let is_ancestor = number + 2 == work.header.members.len();
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
    let absolute = records_absolute(open_unlocked(&upper.path)?.info().parent.as_ref());
    let info = open_unlocked(&lower.path)?.info().clone();
    let record = record_of(&real(&upper.path)?, &lower.path, &info, absolute)?;
    held.record_parent(&upper.path, &ParentRecord { identity, also, ..record })
}

/// Leaves the chain as it reads now; each layer accepts the identity that the one below it has.
pub(in crate::ops) fn take_back(work: &MergeRecord, held: &Held) -> Result<()> {
    if work.payload.direction != Direction::IntoParent {
        return Ok(());
    }
    for pair in work.header.members.windows(2) {
        let [upper, lower] = pair else { continue };
        let found = open_unlocked(&lower.path)?.info().data_identity;
        let now = found.filter(|id| lower.is_known_as(*id)).ok_or_else(|| {
            Error::refused(
                Refusal::changed(&lower.path),
                format!("{} was written to by another program since", lower.path.display()),
                "end what uses it, and check the chain",
            )
        })?;
        record(upper, lower, now, None, held)?;
    }
    Ok(())
}
