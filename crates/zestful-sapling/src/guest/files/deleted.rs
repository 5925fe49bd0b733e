//! Files that were deleted, as far as something is left of them in the volume itself.

use jiff::Timestamp;

use super::path::InnerPath;
use super::system::{Certainty, Remains};
use super::tree::FileTree;
use super::walk::TakePart;
use crate::error::{Error, InsideProblemKind};
use crate::guest::trouble::Trouble;
use crate::progress::Progress;

/// Of more only those that were changed last are told.
const MOST: usize = 100_000;

/// A file that was deleted.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct DeletedFile {
    /// Where it was, as far as that can be told: a first letter that is gone is shown as `_`, a folder that is not
    /// known any more as `(unknown folder)`. Of several of one path those that were changed earlier have a number
    /// behind it.
    pub path: InnerPath,
    /// The length of it in bytes.
    pub size: u64,
    /// When it was last changed.
    pub modified: Option<Timestamp>,
    /// Whether what is left is its content.
    pub certainty: Certainty,
    /// Why so.
    pub why: &'static str,
    remains: Remains,
}

impl FileTree {
    /// What is left of files that were deleted, those that were changed last first; at most 100,000. Of FAT the entries
    /// are left, and where a file lay behind its first cluster is a guess; of NTFS the records; of ext nothing.
    ///
    /// # Errors
    /// `Cancelled`; as [`FileTree::list`].
    pub fn deleted(&mut self, progress: &Progress) -> Result<Vec<DeletedFile>, Error> {
        let (context, mut found) = (self.context().clone(), Vec::new());
        let order = |one: &Remains, other: &Remains| {
            other.modified.cmp(&one.modified).then_with(|| (&one.path, one.key).cmp(&(&other.path, other.key)))
        };
        progress.begin("looking for deleted files", 0);
        let told = self.system().deleted(&mut |remains| {
            let Some(remains) = remains else { return progress.check().is_ok() };
            if found.len() == 2 * MOST {
                found.sort_unstable_by(order);
                found.truncate(MOST);
            }
            found.push(remains);
            true
        });
        told.map_err(|trouble| context.error(None, trouble))?;
        found.sort_unstable_by(order);
        found.truncate(MOST);
        let mut met = std::collections::HashMap::new();
        let file = |remains: Remains| {
            let count = met.entry(remains.path.clone()).or_insert(0u32);
            *count += 1;
            let path = match (*count, remains.path.name()) {
                (2.., Some(name)) => remains.path.parent().join(&[name, format!(" ({count})").as_bytes()].concat()),
                _ => remains.path.clone(),
            };
            let Remains { size, modified, certainty, why, .. } = remains;
            DeletedFile { path, size, modified, certainty, why, remains }
        };
        Ok(found.into_iter().map(file).collect())
    }

    /// That no deleted file is known by a path.
    pub(crate) fn no_such_deleted(&mut self, path: &InnerPath) -> Error {
        let inside = "the files that were deleted".to_owned();
        self.context().problem(Some(path), InsideProblemKind::NotFound { inside })
    }

    /// That nothing of a file can be had.
    pub(crate) fn lost(&mut self, file: &DeletedFile) -> Error {
        self.context().problem(Some(&file.path), InsideProblemKind::Lost(file.why))
    }

    /// What lies where a deleted file lay, as [`Found::read`](super::Found::read) gives it.
    ///
    /// # Errors
    /// What `take` returns; `Inside` when it is lost; as [`Disk::read_at`](crate::chain::Disk::read_at).
    pub fn read_deleted(&mut self, file: &DeletedFile, take: &mut TakePart<'_>) -> Result<(), Error> {
        let context = self.context().clone();
        let read = self.system().deleted_content(&file.remains, &mut |at, bytes| Ok::<(), Trouble>(take(at, bytes)?));
        read.map_err(|trouble| context.error(Some(&file.path), trouble))
    }
}
