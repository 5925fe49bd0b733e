//! Who is related to an image: its children, and images by their identity, as far as one looks.

use std::collections::{HashSet, VecDeque};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use serde::Serialize;
use uuid::Uuid;

use super::Override;
use crate::chain::{Companion, OpenOptions, parent_of};
use crate::error::{Error, Refusal, Result};
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
    /// Images that once grew from it and are no longer where they were: removed, or moved by hand.
    pub unseen: Vec<PathBuf>,
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

    /// Refuses to go on when a child that once was known is not to be found; what is about to be done comes with it.
    pub(super) fn refuse_unseen(&self, image: &Path, overrides: &[Override]) -> Result<Option<String>> {
        if self.unseen.is_empty() {
            return Ok(None);
        }
        let names: Vec<String> = self.unseen.iter().map(|path| path.display().to_string()).collect();
        let message = format!(
            "{} grew from {}, and is not there any more: it was removed, or moved by hand and may need it still",
            names.join(", "),
            image.display()
        );
        match overrides.contains(&Override::UnknownChildren) {
            true => Ok(Some(message)),
            false => Err(Error::refused(
                Refusal::NeededByChildren,
                message,
                "search further (--search FOLDER), or say --force=unknown-children if it is gone for good",
            )),
        }
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

/// The images that grew from `image`: in its own folder, where `search` says, and those that its companion knows of.
///
/// # Errors
/// `Io` when a folder cannot be read or the image cannot be looked up; `Damaged` when its companion is; otherwise as
/// [`open_image`] for the image itself.
pub fn children_of(image: &Path, search: &Search) -> Result<Children> {
    let mut each = children_of_each(&[image.to_owned()], search)?;
    each.pop().ok_or_else(|| Error::usage("no image was named", "name one"))
}

/// The same for several images, each file looked at once.
pub(super) fn children_of_each(images: &[PathBuf], search: &Search) -> Result<Vec<Children>> {
    let Some(first) = images.first() else { return Ok(Vec::new()) };
    let search = images.iter().skip(1).fold(search.clone(), |search, image| search.and_beside(folder_of(image)));
    let mut found = search.files(first)?;
    let mut parents = Vec::new();
    for image in images {
        let storage = FileStorage::open(image, Access::Look)?;
        let identity = storage.host_identity()?;
        let data_identity = open_image(std::sync::Arc::new(storage), None)?.info().data_identity;
        let known = Companion::of(image)?.map_or_else(Vec::new, |companion| companion.child_paths(image));
        let (there, unseen) = known.into_iter().partition::<Vec<PathBuf>, _>(|path| path.exists());
        found.files.extend(there.into_iter().filter(|path| !found.looked.contains(&folder_of(path))));
        let children = Children {
            children: Vec::new(),
            lost: Vec::new(),
            unseen,
            looked: found.looked.clone(),
            complete: found.complete,
        };
        parents.push((identity, data_identity, children));
    }
    let options = OpenOptions::new().with_look(true);
    let mut seen: HashSet<HostIdentity> = HashSet::new();
    for path in found.files {
        let Some((other, other_identity)) = look(&path) else { continue };
        let Some(reference) = other.info().parent.as_ref().filter(|_| seen.insert(other_identity)) else { continue };
        let parent = parent_of(&*other, None, &[other_identity], &options);
        for (identity, data_identity, children) in &mut parents {
            let named = data_identity.is_some_and(|id| reference.accepted.contains(&id));
            match &parent {
                _ if *identity == other_identity => {}
                Ok(Some(parent)) if parent.identity == *identity => children.children.push(path.clone()),
                Err(_) if named => children.lost.push(path.clone()),
                _ => {}
            }
        }
    }
    Ok(parents.into_iter().map(|(.., children)| children).collect())
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
