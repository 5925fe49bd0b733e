//! A folder to look at, alone or with all folders below it, and what counts as an image there.

use std::collections::HashSet;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use super::health::{Problem, ProblemKind};
use super::search::{MOST_DEPTH, MOST_ENTRIES};
use crate::error::Result;
use crate::image::pieces::is_descriptor;
use crate::image::{format_of_name, recognise};
use crate::sidecar::{CATALOGUE, HISTORY};
use crate::storage::{HostIdentity, files_in, is_temporary_name, real};

/// A folder to be looked at, alone or with all folders below it. A path stands for the folder alone.
///
/// All that look at a folder count the same files as images: regular files and block devices whose name ends like an
/// image's or whose content carries an image's signature, disks in pieces by their descriptor, and in a machine's
/// folder the layers of its checkpoints. A file with several names in it counts once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Folder {
    path: PathBuf,
    below: bool,
}

impl<P: AsRef<Path> + ?Sized> From<&P> for Folder {
    fn from(path: &P) -> Self {
        Self { path: path.as_ref().to_owned(), below: false }
    }
}

impl Folder {
    /// Whether the folders below it are looked at as well, 32 deep and 200,000 entries in all at most; links to folders
    /// are not followed.
    pub fn with_folders_below(self, below: bool) -> Self {
        Self { below, ..self }
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// # Errors
    /// `Io` when the folder itself cannot be read.
    pub(crate) fn list(&self) -> Result<Listing> {
        let mut listing = Listing::default();
        let mut waiting = vec![(self.path.clone(), 0)];
        while let Some((folder, depth)) = waiting.pop() {
            let entries = match files_in(&folder) {
                Err(error) if depth > 0 => {
                    listing.problems.push(Problem::of_error(&folder, &error));
                    continue;
                }
                other => other?,
            };
            let has_history = folder.join(CATALOGUE).is_file();
            for path in entries {
                let is_folder = std::fs::symlink_metadata(&path).is_ok_and(|found| found.is_dir());
                match is_folder {
                    true if has_history && path.ends_with(HISTORY) => listing.add_history(&path),
                    true if self.below && depth < MOST_DEPTH => waiting.push((path, depth + 1)),
                    true => {}
                    false => listing.entries.push(path),
                }
            }
            listing.folders.push(folder);
            if listing.entries.len() > MOST_ENTRIES && !waiting.is_empty() {
                let message = format!(
                    "there are more than {MOST_ENTRIES} files below {}: the rest was not looked at; look at single \
                     folders",
                    self.path.display()
                );
                listing.problems.push(Problem::new(&self.path, ProblemKind::Unreadable, message));
                break;
            }
        }
        listing.find_images();
        Ok(listing)
    }
}

/// What stands in a folder.
#[derive(Debug, Default)]
pub(crate) struct Listing {
    /// The folders that were looked into, without those of checkpoints.
    pub(crate) folders: Vec<PathBuf>,
    /// All that stands in those, folders left out.
    pub(crate) entries: Vec<PathBuf>,
    /// What counts as an image, sorted; those of checkpoints as well.
    pub(crate) images: Vec<PathBuf>,
    /// The folders of checkpoints.
    histories: Vec<PathBuf>,
    /// Folders that could not be looked into.
    pub(crate) problems: Vec<Problem>,
}

impl Listing {
    /// The layers of checkpoints; a folder of one that cannot be read is told where the checkpoints are.
    fn add_history(&mut self, history: &Path) {
        self.histories.push(history.to_owned());
        for checkpoint in files_in(history).unwrap_or_default().iter().filter(|path| path.is_dir()) {
            let layers = files_in(checkpoint).unwrap_or_default();
            self.images.extend(layers.into_iter().filter(|path| is_image(path)));
        }
    }

    /// Of what stands with the checkpoints of a machine only these layers; whatever else is there belongs to a change
    /// in progress, or to nobody.
    pub(crate) fn keep_layers(&mut self, machine: &Path, layers: &[PathBuf]) {
        let Some(history) = self.histories.iter().find(|history| history.parent() == Some(machine)) else { return };
        let kept: HashSet<PathBuf> = layers.iter().filter_map(|layer| real(layer).ok()).collect();
        self.images.retain(|path| !path.starts_with(history) || real(path).is_ok_and(|path| kept.contains(&path)));
    }

    /// Each file once, under its own name rather than that of a link to it.
    fn find_images(&mut self) {
        let found = self.entries.iter().filter(|path| is_image(path)).cloned();
        let mut named: Vec<PathBuf> = std::mem::take(&mut self.images).into_iter().chain(found).collect();
        named.sort();
        named.sort_by_key(|path| path.is_symlink());
        let mut seen: HashSet<HostIdentity> = HashSet::new();
        named.retain(|path| std::fs::metadata(path).is_ok_and(|found| seen.insert((found.dev(), found.ino()))));
        named.sort();
        self.images = named;
    }
}

/// Whether what was listed is not there any more: others work in a folder while it is looked at, and what they took
/// away is not broken.
pub(crate) fn is_gone(path: &Path) -> bool {
    std::fs::symlink_metadata(path).is_err_and(|error| error.kind() == std::io::ErrorKind::NotFound)
}

fn is_image(path: &Path) -> bool {
    let Ok(found) = std::fs::metadata(path) else { return false };
    match found.is_file() {
        true => {
            format_of_name(path).is_some()
                || is_descriptor(path)
                || !is_temporary_name(path) && recognise(path).is_ok_and(|found| found.is_some())
        }
        false => found.file_type().is_block_device() && format_of_name(path).is_some(),
    }
}
