//! Opens the parents of an image, one after the other, and makes sure that each is the right one.

use std::cmp::Ordering;
use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use uuid::Uuid;

use super::locate::candidates;
use super::{MAX_DEPTH, OpenOptions};
use crate::error::{Error, ParentProblemKind, Refusal, Result};
use crate::finding::{ChainFinding, Finding};
use crate::image::{Image, ImageInfo, ParentReference, open_image};
use crate::sidecar::{stands_in, survivor_for};
use crate::storage::HostIdentity;

/// The way up a chain, from an image to its parent and on to the base: never through one file twice, and never further
/// than any sound chain goes.
pub(crate) struct Ascent<'a> {
    first: PathBuf,
    seen: Vec<HostIdentity>,
    options: &'a OpenOptions,
}

impl<'a> Ascent<'a> {
    /// Beginning at the image at `path`.
    pub(crate) fn new(path: &Path, identity: HostIdentity, options: &'a OpenOptions) -> Self {
        Self { first: path.to_owned(), seen: vec![identity], options }
    }

    /// One step: the parent of `child`, which was found last, or is the first.
    ///
    /// # Errors
    /// `Parent` with what is wrong with it; `Refused` when somebody writes to it; `Io`.
    pub(crate) fn parent_of(&mut self, child: &dyn Image) -> Result<Option<Found>> {
        let by_hand = self.options.parent.as_deref().filter(|_| self.seen.len() == 1);
        let Some(found) = parent_of(child, by_hand, &self.seen, self.options)? else { return Ok(None) };
        if self.depth() >= MAX_DEPTH {
            return Err(Error::parent(&self.first, ParentProblemKind::TooDeep { limit: MAX_DEPTH }));
        }
        self.seen.push(found.identity);
        Ok(Some(found))
    }

    /// How many parents were found.
    pub(crate) fn depth(&self) -> usize {
        self.seen.len().saturating_sub(1)
    }
}

/// Parents, nearest first, and what is unusual about them.
type Parents = (Vec<Box<dyn Image>>, Vec<Finding>);

/// All parents of `current`.
pub(crate) fn open_parents(current: &dyn Image, identity: HostIdentity, options: &OpenOptions) -> Result<Parents> {
    let mut ascent = Ascent::new(current.path(), identity, options);
    let (mut parents, mut warnings): (Vec<Box<dyn Image>>, Vec<Finding>) = Default::default();
    while let Some(found) = ascent.parent_of(parents.last().map_or(current, |last| &**last))? {
        warnings.extend(found.warnings);
        parents.push(found.image);
    }
    Ok((parents, warnings))
}

/// The direct parent of an image, if it has any.
pub(crate) fn direct_parent(child: &dyn Image, identity: HostIdentity, options: &OpenOptions) -> Result<Option<Found>> {
    Ascent::new(child.path(), identity, options).parent_of(child)
}

/// A parent that was found.
pub(crate) struct Found {
    pub(crate) image: Box<dyn Image>,
    pub(crate) identity: HostIdentity,
    /// What is unusual about the two together.
    pub(crate) warnings: Vec<Finding>,
}

/// The parent of one image, if it has any; `seen` are the files that it must not be.
fn parent_of(
    child: &dyn Image,
    by_hand: Option<&Path>,
    seen: &[HostIdentity],
    options: &OpenOptions,
) -> Result<Option<Found>> {
    let Some(reference) = &child.info().parent else { return Ok(None) };
    let tried = by_hand.map_or_else(|| candidates(child.path(), reference), |path| vec![path.to_owned()]);
    let mut found = match find(child.path(), reference, &tried, seen, options) {
        // While work is under way a child records an absolute path, which is wrong once the folder got another name.
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
    // Each candidate may be wrong for another reason; the one that says most is told.
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
        // Any other trouble shows when the file is opened.
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
    let found = |kind| Finding::new(kind, 0).at(child.path());
    let named = || parent_path.display().to_string();
    match own.cmp(&theirs) {
        Ordering::Less => warnings.push(found(ChainFinding::Smaller { own, parents: theirs, parent: named() })),
        Ordering::Greater => warnings.push(found(ChainFinding::Larger { own, parents: theirs, parent: named() })),
        Ordering::Equal => {}
    }
    let recorded = info.parent.as_ref().and_then(|reference| reference.time_stamp);
    if recorded.is_some() && recorded != parent.time_stamp {
        warnings.push(found(ChainFinding::Time { parent: named() }));
    }
    Ok(warnings)
}
