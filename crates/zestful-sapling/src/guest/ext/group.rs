//! The descriptor of a group: where its bitmaps and its inodes are, and what it says of them.

use std::ops::Range;

use super::superblock::{GroupSums, Superblock};
use super::{checksum, short_checksum};
use crate::bytes::{le_u16, le_u32};

const INODES_UNWRITTEN: u16 = 0x1;
const BLOCKS_UNWRITTEN: u16 = 0x2;
const SUM: Range<usize> = 0x1E..0x20;

/// The descriptor of a group.
#[derive(Clone, Copy, Debug)]
pub(super) struct Group {
    pub(super) block_bitmap: u64,
    pub(super) inode_bitmap: u64,
    pub(super) table: u64,
    /// Clusters.
    pub(super) free: u64,
    /// Inodes at the end of its table that were never used.
    pub(super) unused_inodes: u64,
    flags: u16,
    pub(super) block_sum: u32,
    pub(super) inode_sum: u32,
    /// Whether it matches its checksum, if it has one.
    pub(super) is_right: bool,
}

impl Group {
    pub(super) fn parse(superblock: &Superblock, group: u64, bytes: &[u8]) -> Self {
        let has_upper = superblock.has_wide_descriptors();
        let long = |at: usize, upper: usize| {
            u64::from(le_u32(bytes, at)) | if has_upper { u64::from(le_u32(bytes, upper)) << 32 } else { 0 }
        };
        let short = |at: usize, upper: usize| {
            u32::from(le_u16(bytes, at)) | if has_upper { u32::from(le_u16(bytes, upper)) << 16 } else { 0 }
        };
        let has_sums = superblock.group_sums != GroupSums::None;
        Self {
            block_bitmap: long(0, 0x20),
            inode_bitmap: long(4, 0x24),
            table: long(8, 0x28),
            free: u64::from(short(0x0C, 0x2C)),
            unused_inodes: if has_sums { u64::from(short(0x1C, 0x32)) } else { 0 },
            flags: if has_sums { le_u16(bytes, 0x12) } else { 0 },
            block_sum: short(0x18, 0x38),
            inode_sum: short(0x1A, 0x3A),
            is_right: has_right_sum(superblock, group, bytes),
        }
    }

    /// Whether its bitmap of blocks was never written: what no structure takes of it is free.
    pub(super) fn has_no_block_bitmap(&self) -> bool {
        self.flags & BLOCKS_UNWRITTEN != 0
    }

    /// Whether none of its inodes was ever used.
    pub(super) fn has_no_inodes(&self) -> bool {
        self.flags & INODES_UNWRITTEN != 0
    }
}

fn has_right_sum(superblock: &Superblock, group: u64, bytes: &[u8]) -> bool {
    let number = (group as u32).to_le_bytes();
    let found = match superblock.group_sums {
        GroupSums::None => return true,
        GroupSums::Full => {
            let mut copy = bytes.to_vec();
            copy[SUM].fill(0);
            checksum(checksum(superblock.seed, &number), &copy) as u16
        }
        GroupSums::Short => {
            let parts: [&[u8]; 4] = [&superblock.uuid, &number, &bytes[..SUM.start], &bytes[SUM.end..]];
            parts.into_iter().fold(u16::MAX, short_checksum)
        }
    };
    found == le_u16(bytes, SUM.start)
}
