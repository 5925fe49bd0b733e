//! The long part of work that is under way: data moves from mark to mark, and can be carried on from each of them.

use std::os::unix::fs::MetadataExt;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::delta::{Delta, cost_of};
use crate::error::{Error, Result};
use crate::image::ImageMut;
use crate::progress::Progress;
use crate::sidecar::{Journal, Payload};

/// Bytes between two marks at first; later ones are further apart.
const FIRST_MARK: u64 = 1 << 20;
/// Bytes between two marks at most.
const MOST_BETWEEN_MARKS: u64 = 256 << 20;

/// How far the work was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Mark {
    /// The work on the data began; what the files looked like that are only read.
    Begun(Vec<Stamp>),
    /// All below this byte of the disk is durable in its new place.
    Upto(u64),
    /// All data is.
    Moved,
}

/// What tells that a file was written to: length, seconds and nanoseconds of its last change.
pub(crate) type Stamp = (u64, i64, i64);

pub(crate) fn stamp_of(path: &Path) -> Result<Stamp> {
    let found = std::fs::metadata(path).map_err(|e| Error::io("look up", path, e))?;
    Ok((found.len(), found.mtime(), found.mtime_nsec()))
}

/// Data on its way into an image, as far as the journal says.
pub(crate) struct Transfer<'a, P> {
    pub(crate) journal: &'a Journal<P>,
    pub(crate) delta: Delta<'a>,
    pub(crate) progress: &'a Progress,
}

impl<P: Payload<Mark = Mark>> Transfer<'_, P> {
    /// Everything from the last mark on; what is only read must look as it did then, else all of it once more.
    pub(crate) fn run(&self, mut image: Box<dyn ImageMut>, marks: &[Mark], stamps: Vec<Stamp>) -> Result<u64> {
        let size = image.info().virtual_size;
        let mut from = 0;
        let mut trusted = false;
        for mark in marks {
            match mark {
                Mark::Begun(then) => (trusted, from) = (*then == stamps, 0),
                Mark::Upto(upto) if trusted => from = *upto,
                _ => {}
            }
        }
        if !trusted {
            self.journal.mark(&Mark::Begun(stamps))?;
        }
        let mut moved = 0;
        self.progress
            .begin(format!("writing into {}", image.path().display()), cost_of(&self.delta, &*image, from)?.moved);
        let mut between = FIRST_MARK;
        while from < size {
            self.progress.check()?;
            let batch = self.delta.batch(&*image, from, between)?;
            moved += self.delta.run(&batch, &mut *image, self.progress)?;
            from = batch.upto;
            if from < size && !batch.tasks.is_empty() {
                image.flush()?;
                self.journal.mark(&Mark::Upto(from))?;
            }
            between = (between * 4).min(MOST_BETWEEN_MARKS);
        }
        image.close()?;
        self.journal.mark(&Mark::Moved)?;
        Ok(moved)
    }
}
