//! Storage that goes on where the host cannot read.

use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use super::{Medium, ReadAt};
use crate::bytes::{in_units, index, wide};
use crate::error::Result;
use crate::ranges::Ranges;

/// Where a read fails it is gone at in pieces of this size.
const PIECE: u64 = 4096;
/// How often a piece is tried: disks answer late sometimes.
const TRIES: usize = 3;

/// A file of which parts may not be readable: they read as zero, and are noted.
pub(crate) struct Lenient {
    inner: Arc<dyn ReadAt>,
    bad: Mutex<Ranges>,
}

impl Lenient {
    pub(crate) fn new(inner: Arc<dyn ReadAt>) -> Self {
        Self { inner, bad: Mutex::default() }
    }

    /// The parts of the file that could not be read so far.
    pub(crate) fn bad(&self) -> Ranges {
        self.bad.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

#[deny(clippy::missing_trait_methods)]
impl ReadAt for Lenient {
    fn path(&self) -> &Path {
        self.inner.path()
    }

    fn len(&self) -> Result<u64> {
        self.inner.len()
    }

    fn is_empty(&self) -> Result<bool> {
        self.inner.is_empty()
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let end = offset.checked_add(wide(buffer.len()));
        match self.inner.read_at(buffer, offset) {
            // What lies past the end is no matter of a host that fails.
            Err(error) if end.is_none_or(|end| self.inner.len().is_ok_and(|len| end > len)) => return Err(error),
            Err(_) => {}
            Ok(()) => return Ok(()),
        }
        for step in in_units(offset, wide(buffer.len()), PIECE) {
            let part = &mut buffer[index(step.done)..][..index(step.len)];
            let at = offset.saturating_add(step.done);
            let reads = (0..TRIES).any(|_| self.inner.read_at(part, at).is_ok());
            if !reads {
                part.fill(0);
                self.bad.lock().unwrap_or_else(PoisonError::into_inner).add(at..at.saturating_add(step.len));
            }
        }
        Ok(())
    }

    fn read_at_once(&self, _: &mut [u8], _: u64) -> Result<bool> {
        Ok(false)
    }

    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        match self.inner.next_data(offset) {
            Ok(found) => Ok(found),
            // Where the host cannot tell what is a hole, all of it may be data.
            Err(_) => Ok(Some(offset..self.inner.len()?).filter(|rest| !rest.is_empty())),
        }
    }

    fn allocated(&self) -> Result<u64> {
        self.inner.allocated()
    }

    fn medium(&self) -> Medium {
        self.inner.medium()
    }

    fn stands_at(&self, path: &Path) -> Result<bool> {
        self.inner.stands_at(path)
    }
}
