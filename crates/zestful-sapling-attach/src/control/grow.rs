//! A disk that another process has open for writing becomes larger: that process is asked to do it.

use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::time::Duration;

use zestful_sapling::path_data::PathData;

use super::client::{Attached, ask, attachments, is_same};
use super::protocol::{Answer, Ask};
use crate::error::AttachError;
use crate::front::Mode;

/// A large table moves meanwhile, on a slow disk.
const PATIENCE: Duration = Duration::from_secs(600);

/// Why a disk did not become larger.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum GrowError {
    /// The process that has it open says why.
    #[error("{message}")]
    NotGrown {
        /// Why, and what to do.
        message: String,
    },
    /// The process does not answer. Which size the disk has is to be looked up.
    #[error("process {process}, which has the disk open, gave no answer: {reason}")]
    NoAnswer {
        /// The process.
        process: u32,
        /// Why.
        reason: String,
    },
    /// The host refuses.
    #[error(transparent)]
    Attach(#[from] AttachError),
}

/// A disk that a process of ours has open for others to write to.
#[derive(Debug)]
pub struct WritableDisk {
    image: PathBuf,
    process: u32,
    control: PathBuf,
}

impl WritableDisk {
    /// The disk whose current image is at `image`, if a process has it open so.
    ///
    /// # Errors
    /// As [`attachments`].
    pub fn of(image: &Path) -> Result<Option<Self>, AttachError> {
        let has_it = |attached: &Attached| {
            let images = attached.images.iter().chain(&attached.path);
            attached.mode == Some(Mode::Writable) && images.map(PathData::to_path).any(|one| is_same(&one, image))
        };
        let found = attachments()?.into_iter().find(has_it);
        Ok(found.and_then(|one| {
            one.process.zip(one.control).map(|(process, control)| Self { image: image.to_owned(), process, control })
        }))
    }

    /// The process.
    pub fn process(&self) -> u32 {
        self.process
    }

    /// Has the process make the disk larger, to `size` bytes; what is new reads as zero, and the host sets aside what a
    /// fixed disk needs for it. Returns the devices of this host that do not know the new size yet. When this process
    /// ends before it is told, the disk has grown all the same, or not.
    ///
    /// # Errors
    /// [`GrowError`].
    pub fn grow(&self, size: u64) -> Result<Vec<String>, GrowError> {
        let no_answer = |reason: String| GrowError::NoAnswer { process: self.process, reason };
        let stream = UnixStream::connect(&self.control).map_err(|error| no_answer(error.to_string()))?;
        let image = std::path::absolute(&self.image).unwrap_or_else(|_| self.image.clone());
        let question = Ask::Grow { size, image: Some(PathData::from(image.as_path())) };
        match ask(&stream, question, PATIENCE) {
            Ok(Answer::Grown { devices, .. }) => Ok(devices),
            Ok(Answer::Failed { message }) => Err(GrowError::NotGrown { message }),
            Ok(Answer::Ending) => Err(no_answer("it ends this moment".to_owned())),
            Ok(_) => Err(no_answer("none that is known here".to_owned())),
            Err(error) => Err(no_answer(error.to_string())),
        }
    }
}
