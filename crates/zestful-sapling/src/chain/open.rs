//! A chain of images, opened for reading.

use std::path::Path;

use super::cache::Resolved;
use super::disk::{Disk, DiskExtent, check_extent};
use super::options::OpenOptions;
use super::resolve::open_parents;
use crate::error::{Error, Holder, Refusal, Result};
use crate::finding::Finding;
use crate::image::{Image, ImageInfo, open_image};
use crate::storage::server_of;

/// A chain of images, all open for reading.
pub struct Chain {
    layers: Vec<Box<dyn Image>>,
    resolved: Resolved,
    warnings: Vec<Finding>,
}

impl Chain {
    /// Opens an image and all its parents, each locked against writers (or, with [`OpenOptions::without_locks`], not).
    ///
    /// # Errors
    /// `Parent` with what is wrong with which file; otherwise as [`open_image`] and
    /// [`FileStorage::open`](crate::storage::FileStorage::open).
    pub fn open(path: &Path, options: &OpenOptions) -> Result<Self> {
        let place = options.open_place(path)?;
        let current = open_image(place.storage, options.format())?;
        let (parents, warnings) = open_parents(&*current, place.identity, options)?;
        let layers = std::iter::once(current).chain(parents).collect();
        Ok(Self { layers, resolved: Resolved::default(), warnings })
    }

    /// The same for a look at it: where somebody serves the disk to others through this library, it is opened without
    /// locks, and who that is is told. What is read then may change meanwhile.
    ///
    /// # Errors
    /// As [`Chain::open`].
    pub fn open_for_look(path: &Path, options: &OpenOptions) -> Result<(Self, Option<Holder>)> {
        match Self::open(path, options) {
            Err(error @ Error::Refused(Refusal::InUse { .. }, _)) => match server_of(path)? {
                Some(server) => Ok((Self::open(path, &options.clone().without_locks())?, Some(server))),
                None => Err(error),
            },
            other => other.map(|chain| (chain, None)),
        }
    }

    /// A disk of images that are open already, the current one first.
    ///
    /// The caller answers for each being the parent of the one before; there is at least one.
    pub(crate) fn from_layers(layers: Vec<Box<dyn Image>>) -> Self {
        Self { layers, resolved: Resolved::default(), warnings: Vec::new() }
    }

    /// The images, the current one first, to be read under something else.
    pub fn into_layers(self) -> Vec<Box<dyn Image>> {
        self.layers
    }

    /// The images, the current one first, the base last.
    pub fn layers(&self) -> &[Box<dyn Image>] {
        &self.layers
    }

    /// What is unusual about the chain, beside what each image says of itself.
    pub fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}

impl Disk for Chain {
    fn layer(&self, number: usize) -> Option<&dyn Image> {
        self.layers.get(number).map(|layer| &**layer)
    }

    fn info(&self) -> &ImageInfo {
        self.layers[0].info()
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<DiskExtent> {
        check_extent(self.virtual_size(), offset, len)?;
        self.resolved.extent_at(&self.layers, offset, len)
    }
}
