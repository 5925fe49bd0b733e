//! Bytes that come one after the other, as from a pipe.

use std::io::Read;
use std::sync::{Arc, Mutex, PoisonError};

use crate::error::{Error, Result};
use crate::progress::Progress;
use crate::size::exact_size;

/// Bytes that are read once, from the first to the last.
#[derive(Clone)]
pub(super) struct Input(Arc<Mutex<dyn Read + Send>>);

impl Input {
    pub(super) fn new(input: impl Read + Send + 'static) -> Self {
        Self(Arc::new(Mutex::new(input)))
    }

    /// The next bytes of a disk of `size`, of which `before` were read.
    pub(super) fn fill(&self, bytes: &mut [u8], before: u64, size: u64, progress: &Progress) -> Result<()> {
        let mut input = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut done = 0;
        while done < bytes.len() {
            match input.read(&mut bytes[done..]) {
                Ok(0) => {
                    let message = format!(
                        "the input ended after {}, and the disk has {}",
                        exact_size(before + done as u64),
                        exact_size(size)
                    );
                    return Err(Error::usage(
                        message,
                        "see what ended it, or say the size that it has; nothing was made",
                    ));
                }
                Ok(more) => done += more,
                Err(error) if is_to_be_tried_again(&error) => progress.check()?,
                Err(error) => return Err(Error::io("read from", std::path::Path::new("the input"), error)),
            }
        }
        Ok(())
    }

    /// Refuses an input that goes on behind the end of the disk.
    pub(super) fn end(&self, size: u64, progress: &Progress) -> Result<()> {
        let mut input = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let more = loop {
            match input.read(&mut [0]) {
                Err(error) if is_to_be_tried_again(&error) => progress.check()?,
                other => break other,
            }
        };
        match more.map_err(|error| Error::io("read from", std::path::Path::new("the input"), error))? {
            0 => Ok(()),
            _ => Err(Error::usage(
                format!("the input goes on behind the {} of the disk", exact_size(size)),
                "say a larger size; nothing was made",
            )),
        }
    }
}

fn is_to_be_tried_again(error: &std::io::Error) -> bool {
    matches!(error.kind(), std::io::ErrorKind::Interrupted | std::io::ErrorKind::WouldBlock)
}
