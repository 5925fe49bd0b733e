//! The long part of work that is under way: data moves from mark to mark, and can be carried on from each of them.

use super::delta::{Carry, cost_of};
use crate::error::Result;
use crate::image::ImageMut;
use crate::progress::Progress;
use crate::sidecar::{Journal, Mark, Stamp};

/// Bytes between two marks at first; later ones are further apart.
const FIRST_MARK: u64 = 1 << 20;
/// Bytes between two marks at most.
const MOST_BETWEEN_MARKS: u64 = 256 << 20;

pub(crate) struct Mover<'a> {
    pub(crate) journal: &'a Journal,
    pub(crate) carry: Carry<'a>,
    pub(crate) progress: &'a Progress,
}

impl Mover<'_> {
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
            .begin(format!("writing into {}", image.path().display()), cost_of(&self.carry, &*image, from)?.moved);
        let mut between = FIRST_MARK;
        while from < size {
            self.progress.check()?;
            let batch = self.carry.batch(&*image, from, between)?;
            moved += self.carry.run(&batch, &mut *image, self.progress)?;
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
