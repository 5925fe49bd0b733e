//! ext2, ext3 and ext4: the superblock, as the kernel's documentation of ext4 describes it.

use super::found::{Content, FileSystem, text, uuid};
use crate::bytes::{le_u16, le_u32};

const SUPERBLOCK: std::ops::Range<usize> = 1024..2048;
const MAGIC: u16 = 0xEF53;
/// Unmounted in order, and no error found.
const STATE_CLEAN: u16 = 1;
const STATE_ERRORS: u16 = 2;
const COMPATIBLE_JOURNAL: u32 = 0x4;
const INCOMPATIBLE_RECOVER: u32 = 0x4;
const INCOMPATIBLE_JOURNAL_DEVICE: u32 = 0x8;
const INCOMPATIBLE_64_BIT: u32 = 0x80;
/// What ext3 knows: file types in folders, recovery, meta block groups.
const INCOMPATIBLE_OF_EXT3: u32 = 0x2 | INCOMPATIBLE_RECOVER | 0x10;
/// What ext3 knows: sparse superblocks, large files, and a word of the past.
const READ_ONLY_OF_EXT3: u32 = 0x1 | 0x2 | 0x4;

pub(super) fn read(head: &[u8]) -> Option<Content> {
    let block = head.get(SUPERBLOCK).filter(|block| le_u16(block, 56) == MAGIC)?;
    let (compatible, incompatible, read_only) = (le_u32(block, 92), le_u32(block, 96), le_u32(block, 100));
    let shift = le_u32(block, 24);
    if incompatible & INCOMPATIBLE_JOURNAL_DEVICE != 0 || shift > 6 {
        return None;
    }
    let is_new = incompatible & !INCOMPATIBLE_OF_EXT3 != 0 || read_only & !READ_ONLY_OF_EXT3 != 0;
    let file_system = match (is_new, compatible & COMPATIBLE_JOURNAL) {
        (true, _) => FileSystem::Ext4,
        (false, 0) => FileSystem::Ext2,
        (false, _) => FileSystem::Ext3,
    };
    let high = |at| if incompatible & INCOMPATIBLE_64_BIT != 0 { u64::from(le_u32(block, at)) << 32 } else { 0 };
    let blocks = high(0x150) | u64::from(le_u32(block, 4));
    let free = high(0x158) | u64::from(le_u32(block, 12));
    let state = le_u16(block, 58);
    let was_ended = state & STATE_CLEAN != 0 && state & STATE_ERRORS == 0;
    let found = Content {
        label: text(&block[120..136]),
        identifier: uuid(&block[104..120]),
        clean: Some(was_ended && incompatible & INCOMPATIBLE_RECOVER == 0),
        ..Content::of(file_system)
    };
    Some(found.with_figures(1024 << shift, blocks, Some(free)))
}
