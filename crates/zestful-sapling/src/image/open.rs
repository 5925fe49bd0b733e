//! From a path, or from storage, to an open image.

use std::path::Path;
use std::sync::Arc;

use uuid::Uuid;

use super::pieces::{Pieces, is_descriptor};
use super::probe::{format_of_name, probe, signatures};
use super::raw::{RawImage, RawImageMut};
use super::{Format, Image, ImageMut, ParentRecord, vhd, vhdx};
use crate::error::{Error, Refusal, Result};
use crate::storage::{Access, BlockDevice, FileStorage, Held, HostIdentity, ReadAt, Storage};

/// What stands at a path: a file, a block device, or a disk in pieces.
pub(crate) struct Place {
    pub(crate) storage: Arc<dyn ReadAt>,
    pub(crate) identity: HostIdentity,
    /// The same as `storage`, for a disk in pieces.
    pub(crate) pieces: Option<Arc<Pieces>>,
}

/// Whether what stands at `path` is one regular file.
pub(crate) fn is_single_file(path: &Path) -> bool {
    path.is_file() && !is_descriptor(path)
}

/// Opens what stands at `path` for reading.
pub(crate) fn open_place(path: &Path, access: Access) -> Result<Place> {
    if BlockDevice::is_at(path) {
        let device = BlockDevice::open(path, access)?;
        return Ok(Place { identity: device.host_identity(), storage: Arc::new(device), pieces: None });
    }
    if is_descriptor(path) {
        let identity = FileStorage::open(path, Access::ReadUnlocked)?.host_identity()?;
        let pieces = Arc::new(Pieces::open(path, access)?);
        return Ok(Place { storage: pieces.clone(), identity, pieces: Some(pieces) });
    }
    single_file(FileStorage::open(path, access)?)
}

/// The same for reading, without a moment's patience where somebody writes to it.
pub(crate) fn open_place_at_once(path: &Path) -> Result<Place> {
    match is_single_file(path) && !BlockDevice::is_at(path) {
        true => single_file(FileStorage::open_at_once(path, Access::Read)?),
        false => open_place(path, Access::Read),
    }
}

fn single_file(file: FileStorage) -> Result<Place> {
    Ok(Place { identity: file.host_identity()?, storage: Arc::new(file), pieces: None })
}

/// Opens what stands at `path` with [`Access::Write`] or [`Access::AmendMetadata`].
pub(crate) fn open_place_mut(path: &Path, access: Access) -> Result<(Arc<dyn Storage>, HostIdentity)> {
    if BlockDevice::is_at(path) {
        let device = BlockDevice::open(path, access)?;
        let identity = device.host_identity();
        return Ok((Arc::new(device), identity));
    }
    if is_descriptor(path) {
        return Err(Error::refused(
            Refusal::ReadOnly { path: path.to_owned(), marked: false },
            format!("{} is a disk in pieces, whose digests would no longer hold", path.display()),
            "copy it into one image, and write to that",
        ));
    }
    let file = FileStorage::open(path, access)?;
    let identity = file.host_identity()?;
    Ok((Arc::new(file), identity))
}

impl Held {
    /// An image for writing, through the file that is held.
    pub(crate) fn image_mut(&self, path: &Path) -> Result<Box<dyn ImageMut>> {
        open_image_mut(self.take(path, Access::AmendMetadata)?, None)
    }

    /// Records a parent in an image, through the file that is held; durable on return.
    ///
    /// # Errors
    /// As [`ImageMut::set_parent`].
    pub(crate) fn record_parent(&self, child: &Path, record: &ParentRecord) -> Result<()> {
        let mut image = self.image_mut(child)?;
        image.set_parent(record)?;
        image.close()
    }

    /// An image for reading, through the file that is held.
    pub(crate) fn image(&self, path: &Path) -> Result<Box<dyn Image>> {
        open_image(self.take(path, Access::Read)?, None)
    }
}

/// Opens an image for reading; the format is the one given or else the one that [`probe`] finds.
///
/// # Errors
/// As [`probe`] and the format's own opening.
pub fn open_image(storage: Arc<dyn ReadAt>, format: Option<Format>) -> Result<Box<dyn Image>> {
    match probe(&*storage, format)? {
        Format::Raw => Ok(Box::new(RawImage::open(storage)?)),
        Format::Vhd => Ok(Box::new(vhd::Vhd::open(storage)?)),
        Format::Vhdx => Ok(Box::new(vhdx::Vhdx::open(storage)?)),
    }
}

/// Opens an image for writing, as [`open_image`] does for reading; a pending log is replayed into the file first.
///
/// # Errors
/// As [`open_image`].
pub fn open_image_mut(storage: Arc<dyn Storage>, format: Option<Format>) -> Result<Box<dyn ImageMut>> {
    match probe(&*storage, format)? {
        Format::Raw => Ok(Box::new(RawImageMut::open(storage)?)),
        Format::Vhd => Ok(Box::new(vhd::VhdMut::open(storage)?)),
        Format::Vhdx => Ok(Box::new(vhdx::VhdxMut::open(storage)?)),
    }
}

/// Opens an image for a look, by its signature, whatever its name says; `None` when it carries none.
///
/// # Errors
/// Why it cannot be opened, though it carries one.
pub(crate) fn recognise(path: &Path) -> Result<Option<(Box<dyn Image>, HostIdentity)>> {
    let storage = Arc::new(FileStorage::open(path, Access::ReadUnlocked)?);
    let identity = storage.host_identity()?;
    let found = signatures(&*storage)?;
    let named = format_of_name(path);
    // A raw disk is nobody's child, whatever its guest wrote into it, unless it does open as one.
    let formats = found.iter().copied().filter(|format| Some(*format) == named).chain(found.iter().copied());
    let mut failed = None;
    for format in formats {
        match open_image(storage.clone(), Some(format)) {
            Ok(image) => return Ok(Some((image, identity))),
            Err(error) => _ = failed.get_or_insert(error),
        }
    }
    match (failed, named) {
        (Some(_), Some(Format::Raw)) | (None, None | Some(Format::Raw)) => Ok(None),
        (Some(error), _) => Err(error),
        // Its name promises an image, its content is none.
        (None, Some(_)) => open_image(storage, None).map(|image| Some((image, identity))),
    }
}

/// Opens the image at `path` for reading and takes no lock: for a look at what another process may be writing to.
///
/// # Errors
/// As [`open_image`].
pub(crate) fn open_unlocked(path: &Path) -> Result<Box<dyn Image>> {
    open_image(open_place(path, Access::ReadUnlocked)?.storage, None)
}

/// The data identity of the image at `path`, whatever its name says; `None` when none is there, or it has none.
pub(crate) fn data_identity_at(path: &Path) -> Option<Uuid> {
    recognise(path).ok()??.0.info().data_identity
}
