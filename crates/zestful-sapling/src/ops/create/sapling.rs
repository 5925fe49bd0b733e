//! An empty child, in the format of its parent.

use crate::error::Result;
use crate::image::{Format, ImageInfo, ParentRecord, ParentReference, vhd, vhdx};
use crate::storage::Storage;

/// A legal differencing image that is not there yet.
#[derive(Clone, Debug)]
pub(in crate::ops) enum Sapling {
    Vhd(vhd::CreateOptions),
    Vhdx(vhdx::CreateOptions),
}

impl Sapling {
    /// A child with the size, the sectors and the guest's identity that `info` speaks of.
    pub(in crate::ops) fn new(
        format: Format,
        info: &ImageInfo,
        parent: ParentRecord,
        block_size: Option<u64>,
    ) -> Result<Self> {
        if format == Format::Vhd {
            let mut options = vhd::CreateOptions::new(info.virtual_size).with_parent(parent);
            if let Some(bytes) = block_size {
                options = options.with_block_size(bytes);
            }
            options.check()?;
            return Ok(Self::Vhd(options));
        }
        let mut options = vhdx::CreateOptions::new(info.virtual_size)
            .with_sectors(info.logical_sector, info.physical_sector)
            .with_parent(ParentReference::from(&parent));
        if let Some(id) = info.identity {
            options = options.with_disk_id(id);
        }
        if let Some(bytes) = block_size {
            options = options.with_block_size(bytes);
        }
        options.file_len()?;
        Ok(Self::Vhdx(options))
    }

    pub(in crate::ops) fn metadata_len(&self) -> Result<u64> {
        match self {
            Self::Vhd(options) => Ok(options.metadata_len()),
            Self::Vhdx(options) => options.metadata_len(),
        }
    }

    pub(in crate::ops) fn create_in(&self, storage: &dyn Storage) -> Result<()> {
        match self {
            Self::Vhd(options) => options.create_in(storage),
            Self::Vhdx(options) => options.create_in(storage),
        }
    }
}
