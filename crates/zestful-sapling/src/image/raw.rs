//! The raw format: the disk's bytes and nothing else; holes of the host's file are its unused space.

use std::path::Path;
use std::sync::Arc;

use uuid::Uuid;

use super::commits::Commits;
use super::{
    Extent, Format, Image, ImageInfo, ImageMut, Kind, ParentRecord, Source, Syncer, check_growth, check_range,
    check_shrinking, no_parent,
};
use crate::bytes::wide;
use crate::error::{Error, Result};
use crate::finding::{Finding, RawFinding};
use crate::storage::{Latched, Medium, ReadAt, Storage};

const SECTOR: u32 = 512;

/// A raw disk, open for reading.
pub struct RawImage {
    storage: Arc<dyn ReadAt>,
    info: ImageInfo,
    warnings: Vec<Finding>,
}

impl RawImage {
    /// Opens a raw disk. Its virtual size is the file's length, cut to whole sectors: of 512 bytes in a file, the
    /// device's own on a block device.
    ///
    /// # Errors
    /// `Usage` when the file is shorter than a sector; `Io`.
    pub fn open(storage: Arc<dyn ReadAt>) -> Result<Self> {
        let len = storage.len()?;
        let (logical_sector, physical_sector) = match storage.medium() {
            Medium::Device { logical_sector, physical_sector } => (logical_sector, physical_sector),
            Medium::Pieces { logical_sector } => (logical_sector, logical_sector),
            Medium::File => (SECTOR, SECTOR),
        };
        let remainder = len.checked_rem(u64::from(logical_sector)).unwrap_or(len);
        let virtual_size = len.saturating_sub(remainder);
        if virtual_size == 0 {
            return Err(Error::usage(
                format!("{} is only {len} bytes long", storage.path().display()),
                format!("a raw disk has at least one sector of {logical_sector} bytes"),
            ));
        }
        let mut warnings = Vec::new();
        if remainder != 0 {
            warnings.push(Finding::new(RawFinding::Remainder { bytes: remainder }, virtual_size).at(storage.path()));
        }
        let info = ImageInfo {
            format: Format::Raw,
            kind: Kind::Fixed,
            virtual_size,
            block_size: None,
            logical_sector,
            physical_sector,
            identity: None,
            data_identity: None,
            time_stamp: None,
            parent: None,
            log_pending: false,
            saved_state: false,
        };
        Ok(Self { storage, info, warnings })
    }
}

impl Image for RawImage {
    fn storage(&self) -> &dyn ReadAt {
        &self.storage
    }

    fn info(&self) -> &ImageInfo {
        &self.info
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        Ok(Extent { len, source: Source::Data(offset) })
    }

    fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}

/// A raw disk, open for writing.
///
/// The format has no metadata, so there is nothing that a crash could leave half-made: each sector holds what was
/// flushed, or what was written to it since.
pub struct RawImageMut {
    read: RawImage,
    storage: Arc<Latched>,
    commits: Commits,
}

impl RawImageMut {
    /// Opens a raw disk for writing.
    ///
    /// # Errors
    /// As [`RawImage::open`].
    pub fn open(storage: Arc<dyn Storage>) -> Result<Self> {
        Ok(Self {
            read: RawImage::open(storage.clone())?,
            storage: Arc::new(Latched::new(storage)),
            commits: Commits::default(),
        })
    }
}

impl RawImageMut {
    fn set_size(&mut self, size: u64) -> Result<()> {
        check_resizable(self.storage.medium(), self.path())?;
        self.storage.set_len(size)?;
        self.storage.sync()?;
        self.read.info.virtual_size = size;
        Ok(())
    }
}

/// Refuses to give a device, or a disk in pieces, another size.
pub(crate) fn check_resizable(medium: Medium, path: &Path) -> Result<()> {
    let path = path.display();
    match medium {
        Medium::File => Ok(()),
        Medium::Device { .. } => Err(Error::usage(
            format!("{path} is a device, and has the size that it has"),
            "give the device itself another size where the host can",
        )),
        Medium::Pieces { .. } => Err(Error::usage(
            format!("{path} is a disk in pieces, whose sizes are written down one by one"),
            "copy it into one image, which can be resized, or into new pieces",
        )),
    }
}

impl Image for RawImageMut {
    fn storage(&self) -> &dyn ReadAt {
        self.read.storage()
    }

    fn info(&self) -> &ImageInfo {
        self.read.info()
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        self.read.extent_at(offset, len)
    }

    fn warnings(&self) -> &[Finding] {
        self.read.warnings()
    }
}

impl ImageMut for RawImageMut {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        check_range(&self.read.info, self.read.path(), offset, wide(bytes.len()))?;
        self.storage.write_at(bytes, offset)
    }

    fn write_at_once(&self, bytes: &[u8], offset: u64) -> Result<bool> {
        self.write_at(bytes, offset).map(|()| true)
    }

    fn zeroes_quickly(&self) -> bool {
        self.storage.medium() == Medium::File
    }

    fn zero_at(&self, offset: u64, len: u64) -> Result<()> {
        check_range(&self.read.info, self.read.path(), offset, len)?;
        self.storage.punch_hole(offset, len)
    }

    fn dig(&self, offset: u64, len: u64) -> Result<()> {
        self.zero_at(offset, len)
    }

    fn set_identity(&mut self, _: Uuid) -> Result<()> {
        Err(Error::usage(
            format!("{} is a raw disk, which has no identity of its own", self.path().display()),
            "what a guest wrote into it, such as a partition table's, is the guest's to change",
        ))
    }

    fn set_data_identity(&mut self, identity: Uuid) -> Result<()> {
        self.set_identity(identity)
    }

    fn remove_parent(&mut self) -> Result<()> {
        Err(no_parent(self.path()))
    }

    fn set_parent(&mut self, _: &ParentRecord) -> Result<()> {
        Err(no_parent(self.path()))
    }

    fn grow(&mut self, size: u64) -> Result<()> {
        check_growth(self.info(), self.path(), size)?;
        self.set_size(size)
    }

    fn shrink(&mut self, size: u64) -> Result<()> {
        check_shrinking(self.info(), self.path(), size)?;
        self.set_size(size)
    }

    fn syncer(&self) -> Syncer {
        Syncer::new(&self.storage)
    }

    fn flush(&self) -> Result<()> {
        self.commits.share(|| self.storage.sync())
    }

    fn settle(&mut self) -> Result<()> {
        self.flush()
    }

    fn storage_mut(&self) -> Arc<dyn Storage> {
        self.storage.inner()
    }

    fn retire(&self) {
        self.storage.stop();
    }
}
