//! Who is related to an image: its children, and images by their identity, as far as one looks.

use std::collections::{HashSet, VecDeque};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use serde::Serialize;
use uuid::Uuid;

use crate::chain::{OpenOptions, parent_of};
use crate::error::{Error, Result};
use crate::image::{Image, folder_of, format_of_name, open_image};
use crate::storage::{Access, FileStorage, HostIdentity};

/// Entries of folders that one search looks at.
const MOST_ENTRIES: usize = 200_000;
/// Folders inside of folders that one search follows.
const MOST_DEPTH: usize = 32;

/// Where to look, beside the image's own folder.
#[derive(Clone, Debug, Default)]
pub struct Search {
    folders: Vec<PathBuf>,
    /// Folders of which those below are not looked into.
    beside: Vec<PathBuf>,
}

impl Search {
    /// These folders and all below them; links are not followed. A search ends after 200,000 entries.
    pub fn below(folders: Vec<PathBuf>) -> Self {
        Self { folders, beside: Vec::new() }
    }

    pub(super) fn and_beside(mut self, folder: PathBuf) -> Self {
        self.beside.push(folder);
        self
    }

    /// Files that may be images by their endings: of the folder of `image`, not of folders below it, and of all that is
    /// to be searched.
    pub(super) fn files(&self, image: &Path) -> Result<Found> {
        let own = folder_of(image);
        let others = self.beside.iter().filter(|folder| **folder != own).cloned();
        let looked: Vec<PathBuf> = std::iter::once(own.clone()).chain(others).collect();
        let mut waiting: VecDeque<(PathBuf, usize)> = looked.iter().map(|own| (own.clone(), MOST_DEPTH)).collect();
        let mut found = Found { files: Vec::new(), looked, complete: true };
        let mut seen: HashSet<HostIdentity> = HashSet::new();
        waiting.extend(self.folders.iter().map(|folder| (folder.clone(), 0)));
        found.looked.extend(self.folders.iter().cloned());
        let mut entries = 0;
        while let Some((folder, depth)) = waiting.pop_front() {
            for entry in std::fs::read_dir(&folder).map_err(|e| Error::io("read the folder", &folder, e))? {
                let entry = entry.map_err(|e| Error::io("read the folder", &folder, e))?;
                entries += 1;
                if entries > MOST_ENTRIES {
                    found.complete = false;
                    return Ok(found);
                }
                let (path, Ok(kind)) = (entry.path(), entry.file_type()) else { continue };
                if kind.is_dir() && depth < MOST_DEPTH {
                    waiting.push_back((path, depth + 1));
                } else if kind.is_file() && format_of_name(&path).is_some() {
                    let Ok(there) = entry.metadata() else { continue };
                    if seen.insert((there.dev(), there.ino())) {
                        found.files.push(path);
                    }
                }
            }
        }
        found.files.sort();
        Ok(found)
    }
}

/// What a search came upon.
pub(super) struct Found {
    pub(super) files: Vec<PathBuf>,
    pub(super) looked: Vec<PathBuf>,
    /// Whether everything was looked at.
    pub(super) complete: bool,
}

/// The children of an image, as far as was looked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Children {
    /// Images that read through it now.
    pub children: Vec<PathBuf>,
    /// Images that recorded it as their parent and do not find it.
    pub lost: Vec<PathBuf>,
    /// The folders that were looked into. None found there does not mean that there are none elsewhere.
    pub looked: Vec<PathBuf>,
    /// Whether the search came to its end.
    pub complete: bool,
}

impl Children {
    /// All of them: whoever recorded the image needs it.
    pub fn all(&self) -> impl Iterator<Item = &PathBuf> {
        self.children.iter().chain(&self.lost)
    }

    /// Where was looked, in words.
    pub fn place(&self) -> String {
        let folders: Vec<String> = self.looked.iter().map(|folder| folder.display().to_string()).collect();
        let end = if self.complete { "" } else { " (and not to the end: there are too many files)" };
        format!("{}{end}", folders.join(", "))
    }
}

/// Refuses a symbolic link where the file itself is to get another name or to go.
pub(super) fn refuse_link(path: &Path) -> Result<()> {
    match std::fs::symlink_metadata(path) {
        Ok(found) if found.is_symlink() => Err(Error::usage(
            format!("{} is a link to an image", path.display()),
            "name the image itself; the link can be moved or removed as any other file",
        )),
        _ => Ok(()),
    }
}

/// Opens an image for a look; files that cannot be opened are nobody's kin.
pub(super) fn look(path: &Path) -> Option<(Box<dyn Image>, HostIdentity)> {
    let storage = FileStorage::open(path, Access::Look).ok()?;
    let identity = storage.host_identity().ok()?;
    Some((open_image(std::sync::Arc::new(storage), None).ok()?, identity))
}

/// The images that grew from `image`: in its own folder, and where `search` says.
///
/// # Errors
/// `Io` when a folder cannot be read or the image cannot be looked up; otherwise as [`open_image`] for the image itself.
pub fn children_of(image: &Path, search: &Search) -> Result<Children> {
    let storage = FileStorage::open(image, Access::Look)?;
    let identity = storage.host_identity()?;
    let data_identity = open_image(std::sync::Arc::new(storage), None)?.info().data_identity;
    let found = search.files(image)?;
    let mut children =
        Children { children: Vec::new(), lost: Vec::new(), looked: found.looked, complete: found.complete };
    let options = OpenOptions::new().with_look(true);
    for path in found.files {
        let Some((other, other_identity)) = look(&path) else { continue };
        let Some(reference) = other.info().parent.as_ref().filter(|_| other_identity != identity) else { continue };
        let named = data_identity.is_some_and(|id| reference.accepted.contains(&id));
        match parent_of(&*other, None, &[other_identity], &options) {
            Ok(Some(parent)) if parent.identity == identity => children.children.push(path),
            Err(_) if named => children.lost.push(path),
            _ => {}
        }
    }
    Ok(children)
}

/// The images with one of these data identities, the file `not` left out.
pub(super) fn with_identity(
    accepted: &[Uuid],
    near: &Path,
    not: HostIdentity,
    search: &Search,
) -> Result<(Vec<PathBuf>, Found)> {
    let found = search.files(near)?;
    let matches = |path: &&PathBuf| {
        look(path).is_some_and(|(image, identity)| {
            identity != not && image.info().data_identity.is_some_and(|id| accepted.contains(&id))
        })
    };
    let matching = found.files.iter().filter(matches).cloned().collect();
    Ok((matching, found))
}
