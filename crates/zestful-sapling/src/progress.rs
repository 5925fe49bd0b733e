//! One object for watching long work and for stopping it.

use std::sync::Mutex;
use std::sync::PoisonError;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use crate::error::{Error, Result};

/// How far long work is, and the way to stop it; shared between the worker and whoever watches.
///
/// ```
/// use zestful_sapling::progress::Progress;
/// let progress = Progress::new();
/// progress.stop();
/// assert!(progress.check().is_err());
/// ```
#[derive(Debug, Default)]
pub struct Progress {
    done: AtomicU64,
    total: AtomicU64,
    stopped: AtomicBool,
    what: Mutex<String>,
}

/// One look at a [`Progress`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reading {
    /// Bytes done.
    pub done: u64,
    /// Bytes in all; zero when not known.
    pub total: u64,
    /// What is being done.
    pub what: String,
}

impl Progress {
    /// Nothing done yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Asks the work to stop at the next safe point.
    pub fn stop(&self) {
        self.stopped.store(true, Ordering::Relaxed);
    }

    /// Where the work is now.
    pub fn read(&self) -> Reading {
        Reading {
            done: self.done.load(Ordering::Relaxed),
            total: self.total.load(Ordering::Relaxed),
            what: self.what.lock().unwrap_or_else(PoisonError::into_inner).clone(),
        }
    }

    /// For workers between two steps.
    ///
    /// # Errors
    /// `Cancelled` once a stop was asked for.
    pub fn check(&self) -> Result<()> {
        if self.stopped.load(Ordering::Relaxed) { Err(Error::Cancelled) } else { Ok(()) }
    }

    pub(crate) fn begin(&self, what: impl Into<String>, total: u64) {
        self.done.store(0, Ordering::Relaxed);
        self.total.store(total, Ordering::Relaxed);
        *self.what.lock().unwrap_or_else(PoisonError::into_inner) = what.into();
    }

    pub(crate) fn advance(&self, bytes: u64) {
        self.done.fetch_add(bytes, Ordering::Relaxed);
    }
}
