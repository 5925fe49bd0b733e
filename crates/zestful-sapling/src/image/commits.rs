//! Flushes that are asked for at the same time share one commit.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

use crate::error::Result;

/// The commits of an image, one at a time.
#[derive(Default)]
pub(super) struct Commits {
    state: Mutex<State>,
    ended: Condvar,
}

#[derive(Default)]
struct State {
    /// How many were begun.
    begun: u64,
    /// The last one that came to a good end.
    done: u64,
    running: bool,
}

impl Commits {
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns when a commit that was begun after this call came to a good end: one that is running already may have
    /// looked before what the caller did. Of those who wait one runs the next commit for all; when it fails, each of
    /// the others tries for itself, and learns its own reason.
    ///
    /// # Errors
    /// What `commit` returns.
    pub(super) fn share(&self, commit: impl FnOnce() -> Result<()>) -> Result<()> {
        let mut state = self.lock();
        let wanted = state.begun.saturating_add(1);
        while state.done < wanted {
            if state.running {
                state = self.ended.wait(state).unwrap_or_else(PoisonError::into_inner);
                continue;
            }
            state.running = true;
            state.begun = state.begun.saturating_add(1);
            let number = state.begun;
            drop(state);
            let running = Running(self);
            let result = commit();
            if result.is_ok() {
                self.lock().done = number;
            }
            drop(running);
            return result;
        }
        Ok(())
    }
}

/// A commit that is running, until it is dropped, however it ends.
struct Running<'a>(&'a Commits);

impl Drop for Running<'_> {
    fn drop(&mut self) {
        self.0.lock().running = false;
        self.0.ended.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicU64, Ordering};
    use std::time::Duration;

    /// Whoever asks is served by a commit that began after it asked, and many share one.
    #[test]
    fn a_commit_serves_who_asked_before_it_began() {
        let (commits, written) = (Arc::new(Commits::default()), Arc::new(AtomicU64::new(0)));
        let (durable, runs) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicU64::new(0)));
        std::thread::scope(|scope| {
            for _ in 0..8 {
                scope.spawn(|| {
                    for _ in 0..50 {
                        let mine = written.fetch_add(1, Ordering::SeqCst) + 1;
                        let commit = || {
                            let seen = written.load(Ordering::SeqCst);
                            std::thread::sleep(Duration::from_micros(300));
                            durable.fetch_max(seen, Ordering::SeqCst);
                            match runs.fetch_add(1, Ordering::SeqCst) % 10 {
                                9 => Err(crate::Error::usage("one in ten fails", "try again")),
                                _ => Ok(()),
                            }
                        };
                        let answer = commits.share(commit);
                        assert!(answer.is_err() || durable.load(Ordering::SeqCst) >= mine);
                    }
                });
            }
        });
        assert!(runs.load(Ordering::SeqCst) < 300, "400 flushes ran {runs:?} commits");
    }
}
