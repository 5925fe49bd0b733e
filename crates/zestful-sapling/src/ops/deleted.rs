//! Files that were deleted: out of older layers of the chain, which hold them for certain, and what is left of them in
//! the volume itself.

use std::collections::HashSet;
use std::path::PathBuf;

use super::CompareFiles;
use crate::chain::{Chain, OpenOptions};
use crate::error::{Error, Result};
use crate::guest::{DeletedFile, Entry, EntryKind, FileChange, FileTree, InnerPath, Volume};
use crate::image::Format;
use crate::progress::Progress;

/// Of files that older layers hold so many are told.
const MOST: usize = 100_000;

/// A disk of which the deleted files of a volume are looked for.
#[derive(Clone, Debug)]
pub struct DeletedFiles {
    pub(super) image: PathBuf,
    pub(super) volume: Option<u32>,
    pub(super) format: Option<Format>,
}

/// A file that was deleted, and where it can be had.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Deleted {
    /// A layer of the chain still holds it: the newest that does, and the file as it is there.
    Held(PathBuf, Entry),
    /// Something of it is left in the volume.
    Left(DeletedFile),
}

impl Deleted {
    /// Where it was.
    pub fn path(&self) -> &InnerPath {
        match self {
            Self::Held(_, entry) => &entry.path,
            Self::Left(file) => &file.path,
        }
    }

    fn modified(&self) -> Option<jiff::Timestamp> {
        match self {
            Self::Held(_, entry) => entry.modified,
            Self::Left(file) => file.modified,
        }
    }
}

/// What was found.
#[derive(Debug)]
#[non_exhaustive]
pub struct FoundDeleted {
    /// The volume.
    pub volume: Volume,
    /// Those that a layer holds first, then what is left of others; of both those that were changed last first.
    pub files: Vec<Deleted>,
    /// What is to be known of it: that the volume was not unmounted, or that a layer could not be looked into.
    pub notes: Vec<String>,
}

impl DeletedFiles {
    /// Of the disk whose current image is at `image`.
    pub fn new(image: impl Into<PathBuf>) -> Self {
        Self { image: image.into(), volume: None, format: None }
    }

    /// Of the volume of this number; it need not be said where only one has files.
    pub fn with_volume(mut self, number: u32) -> Self {
        self.volume = Some(number);
        self
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// Looks for them. What was renamed counts as deleted under its old name. Nothing is written.
    ///
    /// # Errors
    /// As [`FileTree::of_image`], [`FileTree::deleted`] and [`CompareFiles::run`]; `Cancelled`.
    pub fn find(&self, progress: &Progress) -> Result<FoundDeleted> {
        let options = OpenOptions::of_format(self.format);
        let (mut tree, mut notes) = FileTree::of_image(&self.image, &options, self.volume)?;
        let volume = tree.volume().clone();
        let (chain, _) = Chain::open_for_look(&self.image, &options)?;
        let layers: Vec<PathBuf> = chain.layers().iter().map(|layer| layer.path().to_owned()).collect();
        drop(chain);
        let (mut files, mut met) = (Vec::new(), HashSet::new());
        for pair in layers.windows(2) {
            let [newer, older] = pair else { continue };
            let mut gone = Vec::new();
            let compare = CompareFiles::new(older, newer).with_volume(volume.number);
            let compared = compare.run(progress, &mut |change| {
                if let FileChange::Removed(entry) = change
                    && entry.kind == EntryKind::File
                {
                    gone.push(entry);
                }
                Ok(true)
            });
            match compared {
                Ok(_) => {}
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                // An older layer may come from a time before there was such a volume.
                Err(error @ (Error::Usage(_) | Error::Inside(_))) => {
                    notes.push(format!(
                        "nothing older than {} is looked into: {}",
                        newer.display(),
                        error.with_causes()
                    ));
                    break;
                }
                Err(error) => return Err(error),
            }
            for entry in gone {
                let is_back = met.contains(&entry.path) || tree.entry(&entry.path).is_ok();
                if !is_back && files.len() < MOST {
                    met.insert(entry.path.clone());
                    files.push(Deleted::Held(older.clone(), entry));
                }
            }
        }
        if files.len() == MOST {
            notes.push(format!("older layers hold {MOST} files or more that are gone: only so many are told"));
        }
        let held: HashSet<_> = files.iter().map(key).collect();
        let left = tree.deleted(progress)?.into_iter().map(Deleted::Left).filter(|file| !held.contains(&key(file)));
        files.sort_by(|one, other| other.modified().cmp(&one.modified()).then_with(|| one.path().cmp(other.path())));
        files.extend(left);
        Ok(FoundDeleted { volume, files, notes })
    }
}

/// What tells that something that is left is a file that a layer holds: names may have lost a letter.
fn key(file: &Deleted) -> (InnerPath, u64, Option<jiff::Timestamp>) {
    match file {
        Deleted::Held(_, entry) => (entry.path.clone(), entry.size.unwrap_or(0), entry.modified),
        Deleted::Left(file) => (file.path.clone(), file.size, file.modified),
    }
}
