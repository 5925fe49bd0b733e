//! One object for watching long work and for stopping it.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

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
    stopped: Arc<AtomicBool>,
    what: Mutex<String>,
    /// Those of the bytes done that took no reading or writing.
    skipped: AtomicU64,
    /// Bytes a second at most; zero for as fast as the host can.
    limit: AtomicU64,
    started: Mutex<Option<Instant>>,
}

/// One look at a [`Progress`].
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
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

    /// Holds bulk work to so many bytes a second, to leave the host to its guests; 0 is no limit. Work that is under
    /// way hears of a change at once.
    pub fn set_rate_limit(&self, bytes_per_second: u64) {
        self.limit.store(bytes_per_second, Ordering::Relaxed);
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

    /// For one of several workers: it hears of a stop, has its share of the limit, and counts for itself.
    pub(crate) fn part(&self, workers: u64) -> Self {
        let limit = self.limit.load(Ordering::Relaxed).div_ceil(workers.max(1));
        Self { stopped: self.stopped.clone(), limit: AtomicU64::new(limit), ..Self::default() }
    }

    pub(crate) fn begin(&self, what: impl Into<String>, total: u64) {
        self.done.store(0, Ordering::Relaxed);
        self.skipped.store(0, Ordering::Relaxed);
        self.total.store(total, Ordering::Relaxed);
        *self.what.lock().unwrap_or_else(PoisonError::into_inner) = what.into();
        *self.started.lock().unwrap_or_else(PoisonError::into_inner) = Some(Instant::now());
    }

    /// Says in other words what is being done.
    pub(crate) fn call(&self, what: impl Into<String>) {
        *self.what.lock().unwrap_or_else(PoisonError::into_inner) = what.into();
    }

    /// Counts bytes as done that took no reading or writing: they are no part of the limit.
    pub(crate) fn skip(&self, bytes: u64) {
        self.skipped.fetch_add(bytes, Ordering::Relaxed);
        self.done.fetch_add(bytes, Ordering::Relaxed);
    }

    /// Counts bytes as done, and waits where that is faster than the limit.
    pub(crate) fn advance(&self, bytes: u64) {
        let done = self.done.fetch_add(bytes, Ordering::Relaxed) + bytes;
        let Some(started) = *self.started.lock().unwrap_or_else(PoisonError::into_inner) else { return };
        while !self.stopped.load(Ordering::Relaxed) {
            // Read anew each time: whoever watches may change it.
            let limit = self.limit.load(Ordering::Relaxed);
            if limit == 0 {
                return;
            }
            let work = done.saturating_sub(self.skipped.load(Ordering::Relaxed));
            let early = work as f64 / limit as f64 - started.elapsed().as_secs_f64();
            if early <= 0.0 {
                return;
            }
            std::thread::sleep(Duration::from_secs_f64(early.min(0.05)));
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc::channel;

    use super::*;

    #[test]
    fn work_that_waits_hears_of_another_limit_and_of_a_stop() {
        for lets_go in [|progress: &Progress| progress.set_rate_limit(0), Progress::stop] {
            let progress = Arc::new(Progress::new());
            progress.set_rate_limit(1);
            progress.begin("sowing", 3600);
            let (done, is_done) = channel();
            let worker = progress.clone();
            std::thread::spawn(move || {
                worker.advance(3600);
                _ = done.send(());
            });
            assert!(is_done.recv_timeout(Duration::from_millis(200)).is_err(), "an hour is not over");
            lets_go(&progress);
            assert_eq!(is_done.recv_timeout(Duration::from_secs(60)), Ok(()));
        }
    }
}
