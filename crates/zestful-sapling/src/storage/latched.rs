//! After the first failed sync nothing more is written.

use std::any::Any;
use std::ops::Range;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{Medium, ReadAt, Storage};
use crate::error::{Error, Refusal, Result};

/// Storage that refuses every change after a sync that failed.
///
/// A host that reports a failed sync may have dropped the data; a second sync then succeeds and proves nothing. Only
/// opening the image again, which replays its log, leads back to a known state. A write that failed is another matter:
/// whoever asked for it knows, and may try again once there is room.
///
/// All syncs of an image go through it, whichever thread asks: a host reports a lost write once, so that of two syncs
/// side by side one could come back clean after the other took the report. They take turns.
pub(crate) struct Latched {
    inner: Arc<dyn Storage>,
    failed: AtomicBool,
    syncing: Mutex<()>,
}

impl Latched {
    pub(crate) fn new(inner: Arc<dyn Storage>) -> Self {
        Self { inner, failed: AtomicBool::new(false), syncing: Mutex::new(()) }
    }

    /// The storage itself.
    pub(crate) fn inner(&self) -> Arc<dyn Storage> {
        self.inner.clone()
    }

    /// Nothing is written any more, whatever becomes of what is under way.
    pub(crate) fn stop(&self) {
        self.failed.store(true, Ordering::Release);
    }

    /// The value behind a lock. When somebody ended in the middle of a change, what is there is not to be written.
    pub(crate) fn sound<'a, T>(
        &self,
        locked: std::result::Result<MutexGuard<'a, T>, PoisonError<MutexGuard<'a, T>>>,
    ) -> MutexGuard<'a, T> {
        locked.unwrap_or_else(|poisoned| {
            self.stop();
            poisoned.into_inner()
        })
    }

    fn refuse_after_failure(&self) -> Result<()> {
        if self.failed.load(Ordering::Acquire) {
            return Err(Error::refused(
                Refusal::EarlierFailure { path: self.path().to_owned() },
                format!("an earlier change of {} failed, so nothing more is written to it", self.path().display()),
                "mend the cause and open the image again; all that was flushed is still there",
            ));
        }
        Ok(())
    }

    fn guard(&self, act: impl FnOnce(&dyn Storage) -> Result<()>) -> Result<()> {
        self.refuse_after_failure()?;
        act(&*self.inner)
    }

    /// Runs a change that must not be gone on with when it failed half-way: any failure is final.
    pub(crate) fn all_or_nothing<T>(&self, act: impl FnOnce() -> Result<T>) -> Result<T> {
        self.refuse_after_failure()?;
        act().inspect_err(|_| self.failed.store(true, Ordering::Release))
    }
}

#[deny(clippy::missing_trait_methods)]
impl ReadAt for Latched {
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
        self.inner.read_at(buffer, offset)
    }
    fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool> {
        self.inner.read_at_once(buffer, offset)
    }
    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        self.inner.next_data(offset)
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

#[deny(clippy::missing_trait_methods)]
impl Storage for Latched {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.guard(|inner| inner.write_at(bytes, offset))
    }
    fn set_len(&self, len: u64) -> Result<()> {
        self.guard(|inner| inner.set_len(len))
    }
    fn sync(&self) -> Result<()> {
        let _turn = self.syncing.lock().unwrap_or_else(PoisonError::into_inner);
        self.all_or_nothing(|| self.inner.sync())
    }
    fn let_others_read(&self) -> Result<()> {
        self.inner.let_others_read()
    }
    fn as_file(self: Arc<Self>) -> Option<Arc<dyn Any + Send + Sync>> {
        self.inner.clone().as_file()
    }
    fn keeps_holes(&self) -> bool {
        self.inner.keeps_holes()
    }
    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        self.guard(|inner| inner.punch_hole(offset, len))
    }
    fn write_zeros(&self, offset: u64, len: u64) -> Result<()> {
        self.guard(|inner| inner.write_zeros(offset, len))
    }
}
