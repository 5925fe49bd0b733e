//! New, empty VHDX images.

use uuid::Uuid;

use super::header::{HEADER_SECTION, HEADERS, Header, encode_identifier};
use super::metadata::{self, Parameters};
use super::region::{self, Region};
use super::table::{ENTRY_LEN, Entry, Geometry, State};
use super::{ALIGNMENT, MAX_BLOCK_SIZE, MAX_VIRTUAL_SIZE, MIN_BLOCK_SIZE};
use crate::bytes::{fit_u32, wide};
use crate::error::{Error, Result};
use crate::finding::TableEntry;
use crate::image::ParentReference;
use crate::size::format_size;
use crate::storage::Storage;

const LOG_LEN: u64 = 1 << 20;
/// Written into the file as its creator.
const CREATOR: &str = concat!("zestful-sapling ", env!("CARGO_PKG_VERSION"));

/// The smallest default block.
const SMALL_BLOCK: u64 = 2 << 20;
/// Larger blocks are taken rather than a larger table. The table of a differencing image may be larger, since its
/// blocks are touched here and there and each makes the file longer by a whole block.
const COMFORTABLE_TABLE: [u64; 2] = [1 << 20, 16 << 20];

/// The block size of a dynamic or differencing image unless another is asked for: 2 MiB, and for large disks (over
/// 256 GiB, or 4 TiB where differencing) the smallest power of two that keeps the table at 1 MiB, or 16 MiB.
/// `docs/formats.md` says what was measured.
///
/// ```
/// use zestful_sapling::image::vhdx::default_block_size;
/// assert_eq!(default_block_size(64 << 30, false), 2 << 20);
/// assert_eq!(default_block_size(4 << 40, false), 32 << 20);
/// assert_eq!(default_block_size(64 << 40, false), 256 << 20);
/// assert_eq!(default_block_size(64 << 40, true), 32 << 20);
/// ```
pub fn default_block_size(virtual_size: u64, differencing: bool) -> u64 {
    let most_blocks = COMFORTABLE_TABLE[usize::from(differencing)] / ENTRY_LEN;
    virtual_size.div_ceil(most_blocks).next_power_of_two().clamp(SMALL_BLOCK, MAX_BLOCK_SIZE)
}

/// What a new image is to be.
#[derive(Clone, Debug)]
pub struct CreateOptions {
    virtual_size: u64,
    block_size: Option<u64>,
    logical_sector: u32,
    physical_sector: u32,
    disk_id: Option<Uuid>,
    fixed: bool,
    parent: Option<ParentReference>,
}

impl CreateOptions {
    /// A dynamic image of that virtual size in bytes, with 512-byte logical and 4096-byte physical sectors.
    pub fn new(virtual_size: u64) -> Self {
        Self {
            virtual_size,
            block_size: None,
            logical_sector: 512,
            physical_sector: 4096,
            disk_id: None,
            fixed: false,
            parent: None,
        }
    }

    /// Another block size: a power of two from 1 MiB to 256 MiB.
    pub fn with_block_size(mut self, bytes: u64) -> Self {
        self.block_size = Some(bytes);
        self
    }

    /// Other sector sizes: 512 or 4096 each.
    pub fn with_sectors(mut self, logical: u32, physical: u32) -> Self {
        (self.logical_sector, self.physical_sector) = (logical, physical);
        self
    }

    /// The identity that a guest sees, instead of a random one.
    pub fn with_disk_id(mut self, id: Uuid) -> Self {
        self.disk_id = Some(id);
        self
    }

    /// A fixed image: every block has its place from the start, and keeps it.
    pub fn with_fixed(mut self, fixed: bool) -> Self {
        self.fixed = fixed;
        self
    }

    /// A differencing image with this parent.
    pub fn with_parent(mut self, parent: ParentReference) -> Self {
        self.parent = Some(parent);
        self
    }

    /// The block size that the image will have.
    pub fn block_size(&self) -> u64 {
        self.block_size.unwrap_or_else(|| default_block_size(self.virtual_size, self.parent.is_some()))
    }

    fn parameters(&self) -> Result<Parameters> {
        let block_size = self.block_size();
        if !block_size.is_power_of_two() || !(MIN_BLOCK_SIZE..=MAX_BLOCK_SIZE).contains(&block_size) {
            return Err(Error::usage(
                format!("vhdx has no blocks of {}", format_size(block_size)),
                "a block is a power of two from 1 MiB to 256 MiB",
            ));
        }
        for sector in [self.logical_sector, self.physical_sector] {
            if ![512, 4096].contains(&sector) {
                return Err(Error::usage(format!("vhdx has no sectors of {sector} bytes"), "512 and 4096 are there"));
            }
        }
        if self.fixed && self.parent.is_some() {
            return Err(Error::usage("a fixed disk has no parent", "leave one of the two out"));
        }
        check_size(self.virtual_size, self.logical_sector)?;
        Ok(Parameters {
            block_size,
            leave_blocks_allocated: self.fixed,
            virtual_size: self.virtual_size,
            disk_id: self.disk_id.unwrap_or_else(Uuid::new_v4),
            logical_sector: self.logical_sector,
            physical_sector: self.physical_sector,
            parent: self.parent.clone(),
        })
    }

    /// The length that the new file will have, in bytes.
    ///
    /// # Errors
    /// `Usage` when the format has no such image.
    pub fn file_len(&self) -> Result<u64> {
        let geometry = Geometry::new(&self.parameters()?);
        let data = if self.fixed { geometry.blocks.saturating_mul(geometry.block_size) } else { 0 };
        Ok(data_at(&geometry).saturating_add(data))
    }

    /// Where the data of a fixed image stands; empty for others.
    ///
    /// # Errors
    /// As [`CreateOptions::file_len`].
    pub fn data_range(&self) -> Result<std::ops::Range<u64>> {
        let geometry = Geometry::new(&self.parameters()?);
        Ok(data_at(&geometry)..self.file_len()?)
    }

    /// What the structures of an empty image take on the host at most, in bytes.
    ///
    /// # Errors
    /// As [`CreateOptions::file_len`].
    pub fn metadata_len(&self) -> Result<u64> {
        let geometry = Geometry::new(&self.parameters()?);
        let table = if self.fixed { table_len(&geometry) } else { 0 };
        Ok(table.saturating_add(1 << 20))
    }

    /// Lays the image out in empty storage. The caller syncs it and gives it its name; before that it is nothing.
    ///
    /// # Errors
    /// `Usage` when the format has no such image; `Io`.
    pub fn create_in(&self, storage: &dyn Storage) -> Result<()> {
        let parameters = self.parameters()?;
        let geometry = Geometry::new(&parameters);
        let regions = [
            Region { id: region::BAT, offset: TABLE_AT, len: table_len(&geometry), required: true },
            Region { id: region::METADATA, offset: METADATA_AT, len: ALIGNMENT, required: true },
        ];
        storage.set_len(self.file_len()?)?;
        storage.write_at(&encode_identifier(CREATOR), 0)?;
        let mut header = Header {
            sequence: 1,
            file_write: Uuid::new_v4(),
            data_write: Uuid::new_v4(),
            log: Uuid::nil(),
            log_version: 0,
            version: 1,
            log_length: fit_u32(LOG_LEN),
            log_offset: HEADER_SECTION,
        };
        for offset in HEADERS {
            storage.write_at(&header.encode(), offset)?;
            header.sequence = header.sequence.saturating_add(1);
        }
        let table = region::encode(&regions);
        for offset in region::TABLES {
            storage.write_at(&table, offset)?;
        }
        if self.fixed {
            fill_table(storage, &geometry, regions[0].end())?;
        }
        storage.write_at(&metadata::encode(&parameters), METADATA_AT)
    }
}

const METADATA_AT: u64 = HEADER_SECTION + LOG_LEN;
const TABLE_AT: u64 = METADATA_AT + ALIGNMENT;

/// Where the first block of a fixed image stands.
fn data_at(geometry: &Geometry) -> u64 {
    table_len(geometry).saturating_add(TABLE_AT)
}

/// Gives every block its place, one after the other.
fn fill_table(storage: &dyn Storage, geometry: &Geometry, first: u64) -> Result<()> {
    let mut bytes = Vec::new();
    let mut written = TABLE_AT;
    for index in 0..geometry.entries {
        let entry = match geometry.role(index) {
            TableEntry::Payload(block) => {
                let within = block.saturating_mul(geometry.block_size);
                Entry::new(State::FULLY_PRESENT, first.saturating_add(within))
            }
            TableEntry::Bitmap(_) => Entry(0),
        };
        bytes.extend(entry.0.to_le_bytes());
        if bytes.len() >= 1 << 20 || index.saturating_add(1) == geometry.entries {
            storage.write_at(&bytes, written)?;
            written = wide(bytes.len()).saturating_add(written);
            bytes.clear();
        }
    }
    Ok(())
}

fn table_len(geometry: &Geometry) -> u64 {
    geometry.entries.saturating_mul(ENTRY_LEN).next_multiple_of(ALIGNMENT)
}

fn check_size(size: u64, sector: u32) -> Result<()> {
    let limits = format!(
        "a vhdx disk is a multiple of its {sector}-byte sectors, from one sector to {}",
        format_size(MAX_VIRTUAL_SIZE)
    );
    match size {
        0 => Err(Error::usage("a disk of 0 bytes cannot be made", limits)),
        size if size > MAX_VIRTUAL_SIZE => {
            Err(Error::usage(format!("a disk of {} ({size} bytes) cannot be made", format_size(size)), limits))
        }
        size if !size.is_multiple_of(u64::from(sector)) => {
            Err(Error::usage(format!("a disk of {size} bytes cannot be made"), limits))
        }
        _ => Ok(()),
    }
}
