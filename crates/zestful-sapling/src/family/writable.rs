//! The current image of a chain, opened for writing under the guard.

use std::path::Path;

use super::guard::{Guard, OpenForWriting};
use crate::chain::{ChainMut, OpenOptions, open_parents};
use crate::error::Result;
use crate::image::open_image_mut;

impl ChainMut {
    /// Opens an image for writing, alone, and its parents for reading. Whether anything speaks against it is found
    /// out while the image is locked: its companion and its folder are looked through for children.
    ///
    /// # Errors
    /// As [`Chain::open`](crate::chain::Chain::open); `Refused` also when the image is marked read-only, pinned or in
    /// use, has a second name, is needed by children or may be, or when something is under way with it.
    pub fn open(path: &Path, options: &OpenOptions) -> Result<Self> {
        Self::open_guarded(path, options, &Guard::new())
    }

    /// The same with other places to look for children, and with what is meant so.
    ///
    /// # Errors
    /// As [`ChainMut::open`].
    pub fn open_guarded(path: &Path, options: &OpenOptions, guard: &Guard) -> Result<Self> {
        Self::over(guard.open_for_writing(path)?, options)
    }

    /// The chain over an image that is locked already.
    pub(crate) fn over(locked: OpenForWriting, options: &OpenOptions) -> Result<Self> {
        let current = open_image_mut(locked.storage, options.format())?;
        let (parents, _) = open_parents(&*current, locked.identity, options)?;
        Ok(Self::from_parts(current, parents))
    }
}
