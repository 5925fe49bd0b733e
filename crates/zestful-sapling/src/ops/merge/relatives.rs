//! The images that a merge which was cut short is about: locked again, and the children counted again.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::finish::names_one_of;
use super::record::MergeRecord;
use crate::chain::{Chain, OpenOptions, records_absolute};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override, children_of_each};
use crate::image::recognise;
use crate::sidecar::Reader;
use crate::storage::{Access, FileId, Held, real};

/// Locks every image that will change or go, and keeps writers from what is only read.
pub(in crate::ops) fn take(work: &MergeRecord, held: &Arc<Held>) -> Result<()> {
    for path in work.header.changing().filter(|path| path.exists()) {
        held.take(path, Access::AmendMetadata)?;
    }
    if let Some(parent) = work.header.parent.as_ref().filter(|parent| parent.path.exists()) {
        Chain::open(&parent.path, &OpenOptions::new().with_held(held))?;
    }
    Ok(())
}

/// The children that are to be told: those that the journal knows, wherever they are now, and any others.
///
/// # Errors
/// `Refused` when one is not to be found, or something may have grown from the layers of which that cannot be told.
pub(in crate::ops) fn count_again(work: &MergeRecord, held: &Arc<Held>, guard: &Guard) -> Result<Vec<Reader>> {
    let known = [work.header.members[0].identity, work.payload.identity];
    let is_there = |child: &&Reader| names_one_of(&child.path, &known);
    let mut children: Vec<Reader> = work.header.readers.iter().filter(is_there).cloned().collect();
    // Until the end the children read through the child or, once they were told, through the merged image.
    let survivor = work.header.survivor().map(|member| member.path.clone());
    let mut parents: Vec<PathBuf> = Vec::new();
    for path in [Some(work.header.image().to_owned()), survivor, Some(work.header.result.clone())].into_iter().flatten()
    {
        if path.exists() && !parents.contains(&path) {
            parents.push(path);
        }
    }
    let is_layer = |path: &Path| work.header.members.iter().any(|member| member.path == path);
    for (parent, found) in parents.iter().zip(children_of_each(&parents, &guard.search)?) {
        for path in found.all() {
            let path = real(path)?;
            if !is_layer(&path) && !children.iter().any(|child| child.path == path) {
                held.take(&path, Access::AmendMetadata)?;
                guard.refuse_hard_links(&path)?;
                let before =
                    work.header.readers.iter().find(|child| FileId::of(&path).is_ok_and(|id| id == child.file));
                let found = reader(&path)?;
                children.push(Reader { absolute: before.map_or(found.absolute, |before| before.absolute), ..found });
            }
        }
        let elsewhere = |path: &Path| !is_layer(path) && !work.header.readers.iter().any(|child| child.path == path);
        let mut others = found.clone();
        others.unknown.retain(|unknown| elsewhere(&unknown.path));
        // The ancestor's own record may still speak of layers that are gone.
        if parent == work.header.image() {
            guard.refuse_unknown(parent, &others)?;
        }
    }
    let missing = |child: &&Reader| !children.iter().any(|found| found.path == child.path || found.file == child.file);
    match work.header.readers.iter().find(missing) {
        Some(missing) if !guard.allows(Override::UnknownChildren) => Err(Error::refused(
            Refusal::NeededByChildren {
                image: work.header.image().to_owned(),
                children: Vec::new(),
                unknown: vec![missing.path.clone()],
            },
            format!(
                "{} grew from {} and is to be told of the merged image, but it is not there, or has another parent now",
                missing.path.display(),
                work.header.image().display()
            ),
            "bring it back, or search for it",
        )),
        _ => Ok(children),
    }
}

/// A child of the layers, as the journal speaks of it.
pub(super) fn reader(path: &Path) -> Result<Reader> {
    let absolute = recognise(path)?.is_some_and(|(image, _)| records_absolute(image.info().parent.as_ref()));
    Ok(Reader { path: real(path)?, absolute, file: FileId::of(path)? })
}
