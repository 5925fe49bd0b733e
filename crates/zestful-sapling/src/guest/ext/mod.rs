//! ext2, ext3 and ext4, read by the kernel's documentation of the layout ("ext4 Data Structures and Algorithms") and of
//! the journal (jbd2).
//!
//! There is a crate that reads these file systems, and it is not used: of a file with unwritten extents (any that was
//! preallocated) it gives out what stood on the disk before, and it tells no places.

mod bitmaps;
mod folder;
mod group;
mod inode;
mod journal;
mod map;
mod superblock;
mod volume;

pub(super) use folder::NamedInode;
pub(super) use inode::{Inode, InodeKind};
pub(super) use journal::open;
pub(super) use map::Part;
pub(super) use superblock::ROOM;
pub(super) use volume::{ExtVolume, JournalState};

/// A CRC-32C as ext4 counts it: nothing is inverted at the beginning or the end.
fn checksum(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// The CRC-16 of descriptors before there was the other.
fn short_checksum(seed: u16, bytes: &[u8]) -> u16 {
    bytes.iter().fold(seed, |sum, byte| {
        (0..8).fold(sum ^ u16::from(*byte), |sum, _| if sum & 1 == 0 { sum >> 1 } else { sum >> 1 ^ 0xA001 })
    })
}
