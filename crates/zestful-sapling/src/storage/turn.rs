//! Small files beside images are changed by one command at a time.

use std::cell::Cell;
use std::fs::{File, TryLockError};
use std::path::Path;
use std::time::{Duration, Instant};

use super::lock;
use crate::error::{Error, Refusal, Result};

/// A change of a companion takes milliseconds; a hundred of them in a row, seconds.
const PATIENCE: Duration = Duration::from_secs(20);
const BETWEEN_TRIES: Duration = Duration::from_millis(3);

thread_local! {
    static TURNS: Cell<usize> = const { Cell::new(0) };
}

/// The right to change the small files in a folder, until it is dropped.
///
/// The lock is one on the folder itself, which no change of a file replaces. Where a file system has no locks for
/// folders, there is no turn to wait for.
pub(crate) struct Turn {
    _folder: File,
}

impl Turn {
    /// Waits until nobody else has it.
    ///
    /// # Errors
    /// `Io` when the folder cannot be opened; `Refused` when somebody keeps it for longer than any change takes.
    pub(crate) fn take(folder: &Path) -> Result<Self> {
        let file = File::open(folder).map_err(|e| Error::io("open the folder", folder, e))?;
        let since = Instant::now();
        loop {
            match file.try_lock() {
                Ok(()) => break,
                Err(TryLockError::Error(error)) if lock::has_no_locks(&error) => break,
                Err(TryLockError::Error(error)) => return Err(Error::io("lock the folder", folder, error)),
                Err(TryLockError::WouldBlock) if since.elapsed() > PATIENCE => {
                    return Err(Error::refused(
                        Refusal::InUse { path: folder.to_owned(), holder: None },
                        format!("the folder {} is locked by another process", folder.display()),
                        "end that process, and begin again",
                    ));
                }
                Err(TryLockError::WouldBlock) => std::thread::sleep(BETWEEN_TRIES),
            }
        }
        TURNS.set(TURNS.get() + 1);
        Ok(Self { _folder: file })
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        TURNS.set(TURNS.get().saturating_sub(1));
    }
}

/// Whether this thread has a turn now: others may be waiting for its end.
#[cfg(feature = "testing")]
pub(super) fn has_turn() -> bool {
    TURNS.get() > 0
}
