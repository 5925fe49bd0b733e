//! Two disks compared file by file.

use std::path::{Path, PathBuf};

use crate::chain::{Comparison, DiskSide, OpenOptions};
use crate::error::{Error, Result};
use crate::guest::{ComparedFiles, FileComparison, FileTree, TakeChange};
use crate::progress::Progress;
use crate::ranges::Ranges;

/// Two disks of which the files of a volume are to be compared: two images, or two layers of one chain.
///
/// Files are told by their paths; one that was renamed is gone and has come. What both disks have from one place of one
/// file is the same without being looked at: of two layers of a chain only names are read, and what was written in
/// between.
#[derive(Clone, Debug)]
pub struct CompareFiles {
    one: PathBuf,
    other: PathBuf,
    volume: Option<u32>,
    contents: bool,
}

impl CompareFiles {
    /// The disks that these two images are the current ones of; the first is the older one.
    ///
    /// ```
    /// use std::path::Path;
    /// use zestful_sapling::guest::FileChange;
    /// use zestful_sapling::ops::CompareFiles;
    /// use zestful_sapling::progress::Progress;
    ///
    /// fn what_came(before: &Path, now: &Path) -> zestful_sapling::Result<Vec<String>> {
    ///     let mut found = Vec::new();
    ///     CompareFiles::new(before, now).run(&Progress::new(), &mut |change| {
    ///         if let FileChange::Added(entry) = change {
    ///             found.push(entry.path.to_string());
    ///         }
    ///         Ok(true)
    ///     })?;
    ///     Ok(found)
    /// }
    /// ```
    pub fn new(one: impl Into<PathBuf>, other: impl Into<PathBuf>) -> Self {
        Self { one: one.into(), other: other.into(), volume: None, contents: false }
    }

    /// The volume, counted from 1 in the order of the table; one that is the only one need not be named.
    pub fn with_volume(mut self, volume: u32) -> Self {
        self.volume = Some(volume);
        self
    }

    /// Compares contents by their digests, wherever they may differ; a file that was only touched is the same then.
    pub fn with_contents(mut self, contents: bool) -> Self {
        self.contents = contents;
        self
    }

    /// Compares, and calls `take` with each difference, in the order of the paths, folder by folder; with what is to be
    /// known of the volumes: that one was not unmounted, or that somebody writes to its disk. Nothing is written.
    /// Memory does not depend on how many files there are.
    ///
    /// # Errors
    /// What `take` returns; `Usage` when the volume must be named; as [`FileTree::of_image`]; `Cancelled`.
    pub fn run(&self, progress: &Progress, take: &mut TakeChange<'_>) -> Result<(ComparedFiles, Vec<String>)> {
        let options = OpenOptions::new();
        let (mut one, mut notes) = FileTree::of_image(&self.one, &options, self.volume)?;
        let number = self.volume.or(Some(one.volume().number));
        let (mut other, more) = FileTree::of_image(&self.other, &options, number)?;
        progress.begin(format!("comparing files of {} and {}", name(&self.one), name(&self.other)), 0);
        notes.extend(more.into_iter().filter(|note| !notes.contains(note)).collect::<Vec<_>>());
        let (was, now) = (one.volume(), other.volume());
        let differ = match (was.start, was.len) == (now.start, now.len) {
            true => self.differ(was.start, was.len, progress)?,
            false => None,
        };
        let compared = FileComparison::new(&mut one, &mut other, differ, self.contents, progress).run(take)?;
        Ok((compared, notes))
    }

    /// What of a volume may differ, in bytes from its beginning; none where tables cannot tell, since somebody writes.
    fn differ(&self, start: u64, len: u64, progress: &Progress) -> Result<Option<Ranges>> {
        let (one, other) = match (DiskSide::open(&self.one), DiskSide::open(&self.other)) {
            (Ok(one), Ok(other)) => (one, other),
            (Err(Error::Refused(..)), _) | (_, Err(Error::Refused(..))) => return Ok(None),
            (Err(error), _) | (_, Err(error)) => return Err(error),
        };
        let mut found = Ranges::default();
        let mut pair = Comparison::new(&one, &other, start..start.saturating_add(len));
        while let Some(part) = pair.next()? {
            progress.check()?;
            if part.differs {
                found.add(part.offset - start..part.offset - start + part.len);
            }
        }
        Ok(Some(found))
    }
}

fn name(path: &Path) -> String {
    path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned()
}
