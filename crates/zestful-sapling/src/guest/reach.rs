//! How much of its volume a file system takes for its own, as it says itself.

use super::content::FileSystem;
use super::view::{View, of_disk};
use super::volume::Volume;
use crate::bytes::{be_u32, be_u64, le_u16, le_u32, le_u64};
use crate::chain::Disk;
use crate::error::Result;

/// Where btrfs has its first superblock, and where in it the size of this device stands.
const BTRFS_SIZE: u64 = (64 << 10) + 0xC9 + 8;

/// Bytes from the beginning of a volume that its file system takes for its own; `None` where only the length of the
/// volume tells, since nothing is known of what it holds, or more than one thing is.
///
/// # Errors
/// As [`Disk::read_at`].
pub(crate) fn reach(disk: &dyn Disk, volume: &Volume) -> Result<Option<u64>> {
    let Some(content) = volume.content.as_ref().filter(|content| content.also.is_empty()) else { return Ok(None) };
    of_disk(disk, |view| {
        let part = view.part(volume.start, volume.len);
        let found = match content.file_system {
            FileSystem::Ext2 | FileSystem::Ext3 | FileSystem::Ext4 => content.size,
            file_system => in_first_sectors(&part, file_system)?,
        };
        Ok(found.filter(|reach| *reach > 0 && *reach <= volume.len))
    })
}

fn in_first_sectors(view: &View<'_>, file_system: FileSystem) -> Result<Option<u64>> {
    let Some(first) = view.bytes(0, 512)? else { return Ok(None) };
    let sectors = || u64::from(le_u16(&first, 11));
    Ok(match file_system {
        FileSystem::Fat12 | FileSystem::Fat16 | FileSystem::Fat32 => {
            let few = u64::from(le_u16(&first, 19));
            let count = if few == 0 { u64::from(le_u32(&first, 32)) } else { few };
            count.checked_mul(sectors())
        }
        FileSystem::Exfat => {
            1u64.checked_shl(u32::from(first[108])).and_then(|size| le_u64(&first, 72).checked_mul(size))
        }
        // A copy of its first sector stands behind those that it counts.
        FileSystem::Ntfs => le_u64(&first, 40).checked_add(1).and_then(|count| count.checked_mul(sectors())),
        FileSystem::Xfs => be_u64(&first, 8).checked_mul(u64::from(be_u32(&first, 4))),
        FileSystem::Btrfs => view.bytes(BTRFS_SIZE, 8)?.map(|bytes| le_u64(&bytes, 0)),
        _ => None,
    })
}
