//! Where the requests on a disk wait while it stands still.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};

/// Requests on a disk pass it, or wait. Those that have passed it go on.
#[derive(Default)]
pub(super) struct Gate {
    /// By how many.
    closed: AtomicUsize,
    turn: Mutex<()>,
    opened: Condvar,
}

impl Gate {
    pub(super) fn is_open(&self) -> bool {
        self.closed.load(Ordering::Acquire) == 0
    }

    /// Returns when it is open.
    pub(super) fn pass(&self) {
        if self.is_open() {
            return;
        }
        let mut turn = self.turn.lock().unwrap_or_else(PoisonError::into_inner);
        while !self.is_open() {
            turn = self.opened.wait(turn).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

/// A gate that is closed until this is dropped.
pub(super) struct Closed<'a>(&'a Gate);

impl<'a> Closed<'a> {
    pub(super) fn new(gate: &'a Gate) -> Self {
        gate.closed.fetch_add(1, Ordering::AcqRel);
        Self(gate)
    }
}

impl Drop for Closed<'_> {
    fn drop(&mut self) {
        let _turn = self.0.turn.lock().unwrap_or_else(PoisonError::into_inner);
        self.0.closed.fetch_sub(1, Ordering::AcqRel);
        self.0.opened.notify_all();
    }
}
