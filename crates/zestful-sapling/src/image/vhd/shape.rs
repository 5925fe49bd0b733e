//! The measures of a disk's blocks.

use std::ops::Range;

use super::SECTOR;

/// Data of new blocks begins at multiples of this, as hosts' blocks do; the bitmap stands just before.
const DATA_ALIGNMENT: u64 = 4096;

/// How long the blocks of a disk are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct BlockShape {
    pub(super) block_size: u64,
    /// Bytes of the bitmap before each block's data, whole sectors.
    pub(super) bitmap_len: u64,
    virtual_size: u64,
}

impl BlockShape {
    pub(super) fn new(block_size: u64, virtual_size: u64) -> Self {
        Self { block_size, bitmap_len: block_size.div_ceil(SECTOR * 8).next_multiple_of(SECTOR), virtual_size }
    }

    /// Bytes that a block takes with its bitmap.
    pub(super) fn stride(&self) -> u64 {
        self.bitmap_len.saturating_add(self.block_size)
    }

    pub(super) fn sectors(&self) -> u64 {
        self.block_size / SECTOR
    }

    /// Bytes of a block that lie inside the disk.
    pub(super) fn visible_len(&self, block: u64) -> u64 {
        self.block_size.min(self.virtual_size.saturating_sub(block.saturating_mul(self.block_size)))
    }

    /// A place for a block in a gap, where the block's data begins where those of the host do if that fits.
    pub(super) fn place_in(&self, gap: &Range<u64>) -> Option<u64> {
        let fits = |place: &u64| place.saturating_add(self.stride()) <= gap.end;
        Some(self.aligned(gap.start)).filter(fits).or(Some(gap.start)).filter(fits)
    }

    /// The first place from `at` on for a block whose data begins where those of the host do.
    pub(super) fn aligned(&self, at: u64) -> u64 {
        let data = at.saturating_add(self.bitmap_len).div_ceil(DATA_ALIGNMENT).saturating_mul(DATA_ALIGNMENT);
        data.saturating_sub(self.bitmap_len)
    }
}
