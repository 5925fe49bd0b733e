//! New, empty VHD images.

use uuid::Uuid;

use super::footer::{DiskType, Footer, now};
use super::header::{self, DynamicHeader};
use super::{DEFAULT_BLOCK_SIZE, MAX_VIRTUAL_SIZE, SECTOR, locator};
use crate::bytes::{fit_u32, index, wide};
use crate::error::{Error, Result};
use crate::image::ParentRecord;
use crate::size::format_size;
use crate::storage::Storage;

/// The blocks that are made; others are read.
const BLOCK_SIZES: [u64; 2] = [512 << 10, 2 << 20];

/// What a new image is to be.
#[derive(Clone, Debug)]
pub struct CreateOptions {
    virtual_size: u64,
    block_size: Option<u64>,
    fixed: bool,
    parent: Option<ParentRecord>,
}

impl CreateOptions {
    /// A dynamic image of that virtual size in bytes.
    pub fn new(virtual_size: u64) -> Self {
        Self { virtual_size, block_size: None, fixed: false, parent: None }
    }

    /// A fixed image.
    pub fn with_fixed(mut self, fixed: bool) -> Self {
        self.fixed = fixed;
        self
    }

    /// Another block size: 512 KiB or 2 MiB.
    pub fn with_block_size(mut self, bytes: u64) -> Self {
        self.block_size = Some(bytes);
        self
    }

    /// A differencing image with this parent.
    pub fn with_parent(mut self, parent: ParentRecord) -> Self {
        self.parent = Some(parent);
        self
    }

    /// The block size that the image will have.
    pub fn block_size(&self) -> u64 {
        self.block_size.unwrap_or(DEFAULT_BLOCK_SIZE)
    }

    /// Whether the format has such an image.
    ///
    /// # Errors
    /// `Usage` with the limit that it exceeds.
    pub fn check(&self) -> Result<()> {
        let limits = format!("a vhd disk is a multiple of 512 bytes, up to {} GiB", MAX_VIRTUAL_SIZE >> 30);
        let size = self.virtual_size;
        if size == 0 || !size.is_multiple_of(SECTOR) || size > MAX_VIRTUAL_SIZE {
            return Err(Error::usage(format!("a disk of {size} bytes cannot be made"), limits));
        }
        if self.fixed && (self.block_size.is_some() || self.parent.is_some()) {
            return Err(Error::usage("a fixed disk has no blocks and no parent", "leave the block size out"));
        }
        if !BLOCK_SIZES.contains(&self.block_size()) {
            return Err(Error::usage(
                format!("vhd images are not made with blocks of {}", format_size(self.block_size())),
                "512K and 2M are there",
            ));
        }
        Ok(())
    }

    fn blocks(&self) -> u64 {
        self.virtual_size.div_ceil(self.block_size())
    }

    /// Bytes of the table, in whole sectors.
    fn table_len(&self) -> u64 {
        self.blocks().saturating_mul(4).div_ceil(SECTOR).saturating_mul(SECTOR)
    }

    /// Bytes that an empty image takes at most, its data not counted.
    pub fn metadata_len(&self) -> u64 {
        if self.fixed { SECTOR } else { self.table_len().saturating_add(8 << 10) }
    }

    /// Lays the image out in empty storage. The caller syncs it and gives it its name; before that it is nothing.
    ///
    /// # Errors
    /// `Usage` when the format has no such image; `Io`.
    pub fn create_in(&self, storage: &dyn Storage) -> Result<()> {
        self.check()?;
        let (id, time_stamp, size) = (Uuid::new_v4(), now(), self.virtual_size);
        if self.fixed {
            let footer = Footer::new(DiskType::FIXED, size, None, id, time_stamp);
            storage.set_len(size)?;
            return storage.write_at(footer.bytes(), size);
        }
        let header_at = SECTOR;
        let table_at = header_at.saturating_add(wide(header::LEN));
        let entries = self.blocks();
        let table = vec![0xFF; index(self.table_len())];
        let mut header = DynamicHeader::new(table_at, fit_u32(entries), fit_u32(self.block_size()));
        let mut end = table_at.saturating_add(wide(table.len()));
        let mut kind = DiskType::DYNAMIC;
        if let Some(parent) = &self.parent {
            kind = DiskType::DIFFERENCING;
            let (locators, bytes) = locator::encode(&parent.relative, parent.absolute.as_deref(), end);
            storage.write_at(&bytes, end)?;
            end = end.saturating_add(wide(bytes.len()));
            header =
                header.with_parent(parent.identity, parent.time_stamp.unwrap_or_default(), &parent.name, &locators);
        }
        let footer = Footer::new(kind, size, Some(header_at), id, time_stamp);
        storage.write_at(footer.bytes(), 0)?;
        storage.write_at(header.bytes(), header_at)?;
        storage.write_at(&table, table_at)?;
        storage.write_at(footer.bytes(), end)
    }
}
