//! Where images may be: the folder of an image, and wherever a search leads.

use std::collections::{HashSet, VecDeque};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use uuid::Uuid;

use crate::error::Result;
use crate::image::recognise;
use crate::sidecar::{Companion, image_of_journal, image_of_undo, is_lone, is_redo, is_salvage_list};
use crate::storage::{FileId, HostIdentity, entries_in, folder_of, is_temporary_name};

/// Entries of folders that one search looks at.
pub(super) const MOST_ENTRIES: usize = 200_000;
/// Folders inside of folders that one search follows.
pub(super) const MOST_DEPTH: usize = 32;

/// Where to look, beside the image's own folder.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Search {
    folders: Vec<PathBuf>,
    /// Folders of which those below are not looked into.
    beside: Vec<PathBuf>,
}

impl Search {
    /// These folders and all below them; links to folders are not followed. A search ends after 200,000 entries.
    pub fn below(folders: Vec<PathBuf>) -> Self {
        Self { folders, beside: Vec::new() }
    }

    pub(crate) fn and_beside(mut self, folder: PathBuf) -> Self {
        self.beside.push(folder);
        self
    }

    /// All files that may be images, whatever they are called: of the folder of `image`, not of folders below it, and
    /// of all that is to be searched.
    ///
    /// # Errors
    /// `Io` when one of the folders named, or the image's own, cannot be read; one below them only leaves the search
    /// incomplete.
    pub(crate) fn files(&self, image: &Path) -> Result<Found> {
        let own = folder_of(image);
        let others = self.beside.iter().filter(|folder| **folder != own).cloned();
        let looked: Vec<PathBuf> = std::iter::once(own.clone()).chain(others).collect();
        let mut waiting: VecDeque<(PathBuf, usize)> = looked.iter().map(|own| (own.clone(), MOST_DEPTH)).collect();
        waiting.extend(self.folders.iter().map(|folder| (folder.clone(), 0)));
        let named = waiting.len();
        let mut found = Found { looked, complete: true, ..Found::default() };
        found.looked.extend(self.folders.iter().cloned());
        let mut seen: HashSet<HostIdentity> = HashSet::new();
        let mut entries = 0;
        for number in 0.. {
            let Some((folder, depth)) = waiting.pop_front() else { break };
            let listed = match entries_in(&folder) {
                Err(_) if number >= named => {
                    found.complete = false;
                    continue;
                }
                other => other?,
            };
            for entry in listed {
                let path = entry?.path();
                entries += 1;
                if entries > MOST_ENTRIES {
                    found.complete = false;
                    return Ok(found);
                }
                let Ok(kind) = std::fs::symlink_metadata(&path) else { continue };
                if kind.is_dir() && depth < MOST_DEPTH {
                    waiting.push_back((path, depth + 1));
                    continue;
                }
                // A link in the folder of an image may lead to a child elsewhere.
                let Ok(there) = std::fs::metadata(&path) else { continue };
                if there.is_file() && seen.insert((there.dev(), there.ino())) {
                    found.sort_in(path);
                }
            }
        }
        found.files.sort();
        Ok(found)
    }
}

/// What a search came upon.
#[derive(Debug, Default)]
pub(crate) struct Found {
    pub(crate) files: Vec<PathBuf>,
    /// Companions whose image is not there.
    pub(crate) lone: Vec<PathBuf>,
    /// Files that never came to their names.
    pub(crate) staged: Vec<FileId>,
    pub(crate) looked: Vec<PathBuf>,
    /// Whether everything was looked at.
    pub(crate) complete: bool,
}

impl Found {
    fn sort_in(&mut self, path: PathBuf) {
        if is_temporary_name(&path) {
            self.staged.extend(FileId::of(&path).ok());
        } else if Companion::image_of(&path).is_some() {
            self.lone.extend(is_lone(&path).then_some(path));
        } else if image_of_journal(&path).is_none()
            && image_of_undo(&path).is_none()
            && !is_redo(&path)
            && !is_salvage_list(&path)
        {
            self.files.push(path);
        }
    }
}

/// The images with one of these data identities, the file `not` left out.
pub(crate) fn with_identity(
    accepted: &[Uuid],
    near: &Path,
    not: HostIdentity,
    search: &Search,
) -> Result<(Vec<PathBuf>, Found)> {
    let found = search.files(near)?;
    let matches = |path: &&PathBuf| {
        recognise(path).ok().flatten().is_some_and(|(image, identity)| {
            identity != not && image.info().data_identity.is_some_and(|id| accepted.contains(&id))
        })
    };
    let matching = found.files.iter().filter(matches).cloned().collect();
    Ok((matching, found))
}
