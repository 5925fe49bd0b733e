//! Opens the parents of an image, one after the other, and makes sure that each is the right one.

use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use uuid::Uuid;

use super::locate::candidates;
use super::{MAX_DEPTH, OpenOptions};
use crate::error::{Error, ParentProblemKind, Refusal, Result};
use crate::finding::{Finding, Repair};
use crate::image::{Image, ImageInfo, ParentReference, open_image};
use crate::sidecar::{stands_in, survivor_for};
use crate::size::format_size;
use crate::storage::HostIdentity;

/// Parents, nearest first, and what is unusual about them.
type Parents = (Vec<Box<dyn Image>>, Vec<Finding>);

/// All parents of `current`.
pub(crate) fn open_parents(current: &dyn Image, identity: HostIdentity, options: &OpenOptions) -> Result<Parents> {
    let mut parents: Vec<Box<dyn Image>> = Vec::new();
    let mut warnings = Vec::new();
    let mut seen = vec![identity];
    loop {
        let child: &dyn Image = parents.last().map_or(current, |last| &**last);
        let by_hand = options.parent.as_deref().filter(|_| parents.is_empty());
        let Some(found) = parent_of(child, by_hand, &seen, options)? else { return Ok((parents, warnings)) };
        if parents.len() >= MAX_DEPTH {
            return Err(Error::parent(current.path(), ParentProblemKind::TooDeep { limit: MAX_DEPTH }));
        }
        warnings.extend(found.warnings);
        seen.push(found.identity);
        parents.push(found.image);
    }
}

/// A parent that was found.
pub(crate) struct Found {
    pub(crate) image: Box<dyn Image>,
    pub(crate) identity: HostIdentity,
    /// What is unusual about the two together.
    pub(crate) warnings: Vec<Finding>,
}

/// The parent of one image, if it has any; `seen` are the files that it must not be.
pub(crate) fn parent_of(
    child: &dyn Image,
    by_hand: Option<&Path>,
    seen: &[HostIdentity],
    options: &OpenOptions,
) -> Result<Option<Found>> {
    let Some(reference) = &child.info().parent else { return Ok(None) };
    let tried = by_hand.map_or_else(|| candidates(child.path(), reference), |path| vec![path.to_owned()]);
    let mut found = match find(child.path(), reference, &tried, seen, options) {
        // The absolute path that it recorded for the while may be one of another folder by now.
        Err(Error::Parent(problem)) => match tried.iter().find_map(|path| survivor_for(child.path(), path)) {
            Some(survivor) => find(child.path(), reference, &[survivor], seen, options),
            None => Err(Error::Parent(problem)),
        },
        other => other,
    }?;
    found.warnings = judge_pair(child, found.image.info(), found.image.path())?;
    Ok(Some(found))
}

/// The first of the candidates that is the right parent.
fn find(
    child: &Path,
    reference: &ParentReference,
    tried: &[PathBuf],
    seen: &[HostIdentity],
    options: &OpenOptions,
) -> Result<Found> {
    // The most telling reason of those that the candidates give.
    let mut problem: Option<ParentProblemKind> = None;
    for path in tried {
        match try_candidate(child, path, reference, seen, options)? {
            Tried::Right(found) => return Ok(found),
            Tried::Absent => {}
            Tried::Wrong(kind) => {
                if rank(&kind) > problem.as_ref().map_or(0, rank) {
                    problem = Some(kind);
                }
            }
        }
    }
    let recorded = reference.paths.iter().map(|path| path.text.clone()).collect();
    Err(Error::parent(child, problem.unwrap_or(ParentProblemKind::Missing { tried: tried.to_vec(), recorded })))
}

fn rank(kind: &ParentProblemKind) -> u8 {
    match kind {
        ParentProblemKind::Cycle { .. } => 3,
        ParentProblemKind::Mismatch { .. } => 2,
        _ => 1,
    }
}

enum Tried {
    Right(Found),
    Absent,
    Wrong(ParentProblemKind),
}

fn try_candidate(
    child: &Path,
    path: &Path,
    reference: &ParentReference,
    seen: &[HostIdentity],
    options: &OpenOptions,
) -> Result<Tried> {
    match std::fs::metadata(path) {
        Ok(found) if seen.contains(&(found.dev(), found.ino())) => {
            return Ok(Tried::Wrong(ParentProblemKind::Cycle { again: path.to_owned() }));
        }
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
            return Ok(Tried::Absent);
        }
        // What else there may be, opening it tells.
        _ => {}
    }
    let unreadable = |error: Error| match error {
        // Somebody writing to the parent is an answer of its own, not a broken chain.
        Error::Refused(Refusal::InUse { .. }, _) => Err(error),
        other => {
            Ok(Tried::Wrong(ParentProblemKind::Unreadable { parent: path.to_owned(), reason: other.with_causes() }))
        }
    };
    let file = match options.open_file(path) {
        Ok(file) => file,
        Err(error) => return unreadable(error),
    };
    let identity = file.host_identity()?;
    let image = match open_image(file, None) {
        Ok(image) => image,
        Err(error) => return unreadable(error),
    };
    let data_identity = image.info().data_identity;
    let fits = |id: Uuid| reference.accepted.contains(&id) || stands_in(child, &reference.accepted, path, id);
    if !data_identity.is_some_and(fits) {
        return Ok(Tried::Wrong(ParentProblemKind::Mismatch {
            parent: path.to_owned(),
            expected: reference.accepted.iter().map(ToString::to_string).collect::<Vec<_>>().join(" or "),
            found: data_identity.map_or_else(|| format!("none, a {} disk", image.info().format), |id| id.to_string()),
        }));
    }
    Ok(Tried::Right(Found { image, identity, warnings: Vec::new() }))
}

/// What must, and what should, agree between a child and its parent.
pub(crate) fn judge_pair(child: &dyn Image, parent: &ImageInfo, parent_path: &Path) -> Result<Vec<Finding>> {
    let info = child.info();
    if info.logical_sector != parent.logical_sector {
        let kind = ParentProblemKind::SectorSize {
            parent: parent_path.to_owned(),
            child_bytes: info.logical_sector,
            parent_bytes: parent.logical_sector,
        };
        return Err(Error::parent(child.path(), kind));
    }
    let mut warnings = Vec::new();
    let (own, theirs) = (info.virtual_size, parent.virtual_size);
    if own != theirs {
        let tells = match own < theirs {
            true => "what lies past its own end is not seen",
            false => "past the parent's end it reads zeros",
        };
        let message = format!(
            "the disk has {} here and {} in its parent {}; {tells}",
            format_size(own),
            format_size(theirs),
            parent_path.display()
        );
        warnings.push(Finding::warning("chain-size", "virtual disk size", 0, message, Repair::None).at(child.path()));
    }
    let recorded = info.parent.as_ref().and_then(|reference| reference.time_stamp);
    if recorded.is_some() && recorded != parent.time_stamp {
        let message = format!("the time stamp recorded of the parent {} is another one", parent_path.display());
        warnings.push(Finding::warning("chain-time", "dynamic header", 0, message, Repair::Safe).at(child.path()));
    }
    Ok(warnings)
}
