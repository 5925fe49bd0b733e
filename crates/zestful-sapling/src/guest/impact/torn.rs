//! A disk of which parts are lost: whoever reads there is told so, and is not given zeros.

use std::io;
use std::path::Path;
use std::sync::Arc;

use crate::chain::{Disk, DiskExtent, DiskStatus};
use crate::error::{Error, Result};
use crate::image::{Image, ImageInfo, Visit};
use crate::ranges::Ranges;

/// A disk with parts that cannot be read.
pub(crate) struct TornDisk {
    disk: Arc<dyn Disk>,
    lost: Ranges,
}

impl TornDisk {
    pub(crate) fn new(disk: Arc<dyn Disk>, lost: Ranges) -> Self {
        Self { disk, lost }
    }
}

impl Disk for TornDisk {
    fn layer(&self, number: usize) -> Option<&dyn Image> {
        self.disk.layer(number)
    }

    fn info(&self) -> &ImageInfo {
        self.disk.info()
    }

    fn virtual_size(&self) -> u64 {
        self.disk.virtual_size()
    }

    fn visit(&self) -> Visit<'_> {
        self.disk.visit()
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<DiskExtent> {
        self.disk.extent_at(offset, len)
    }

    fn status_at(&self, offset: u64, len: u64) -> Result<DiskStatus> {
        self.disk.status_at(offset, len)
    }

    fn read_at_once(&self, _: &mut [u8], _: u64) -> Result<bool> {
        Ok(false)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let end = offset.saturating_add(buffer.len() as u64);
        if self.lost.within(offset..end).next().is_some() {
            let path = self.layer(0).map(Image::path).unwrap_or(Path::new(""));
            let lost = io::Error::new(io::ErrorKind::InvalidData, "this part of the disk is lost");
            return Err(Error::io("read", path, lost));
        }
        self.disk.read_at(buffer, offset)
    }
}
