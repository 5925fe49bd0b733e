//! Whether a disk carries a partition table, and of which kind.

use crate::bytes::le_u32;
use crate::chain::Disk;
use crate::error::Result;

/// A partition table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum PartitionTable {
    /// In the first sector; places are counted in sectors.
    Mbr,
    /// With a header in the second sector; places are counted in sectors.
    Gpt,
}

impl std::fmt::Display for PartitionTable {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Self::Mbr => "MBR",
            Self::Gpt => "GPT",
        })
    }
}

/// Whether a disk carries a partition table. Every entry of one counts in logical sectors, so that the table cannot be
/// read on a disk with sectors of another size.
///
/// # Errors
/// As [`Disk::read_at`].
pub fn partition_table(disk: &dyn Disk) -> Result<Option<PartitionTable>> {
    let sector = u64::from(disk.info().logical_sector);
    let mut bytes = vec![0; (2 * sector).min(disk.virtual_size()) as usize];
    disk.read_at(&mut bytes, 0)?;
    Ok(find(&bytes, sector as usize))
}

/// The table in the first two sectors.
pub(super) fn find(bytes: &[u8], sector: usize) -> Option<PartitionTable> {
    const ENTRIES: std::ops::Range<usize> = 446..510;
    if bytes.get(sector..sector + 8) == Some(b"EFI PART") {
        return Some(PartitionTable::Gpt);
    }
    if bytes.get(510..512) != Some(&[0x55, 0xAA]) {
        return None;
    }
    // The boot sector of a file system ends in the same mark, but has code where the entries would be.
    let mut entries = bytes[ENTRIES].chunks_exact(16);
    let sound = |entry: &[u8]| [0x00, 0x80].contains(&entry[0]);
    let used = |entry: &[u8]| entry[4] != 0 && le_u32(entry, 8) != 0 && le_u32(entry, 12) != 0;
    let table = entries.clone().all(sound) && entries.any(used);
    table.then_some(PartitionTable::Mbr)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_told_from_boot_sectors() {
        let mut mbr = vec![0; 1024];
        mbr[510..512].copy_from_slice(&[0x55, 0xAA]);
        assert_eq!(find(&mbr, 512), None, "an empty table holds nothing to lose");
        mbr[446..462].copy_from_slice(&[0x80, 0, 2, 0, 0x83, 0, 0, 0, 0, 8, 0, 0, 0, 0, 1, 0]);
        assert_eq!(find(&mbr, 512), Some(PartitionTable::Mbr));
        mbr[462] = 0xE8;
        assert_eq!(find(&mbr, 512), None, "code, not entries");
        for sector in [512, 4096] {
            let mut gpt = vec![0; 2 * sector];
            gpt[sector..sector + 8].copy_from_slice(b"EFI PART");
            assert_eq!(find(&gpt, sector), Some(PartitionTable::Gpt));
        }
        assert_eq!(find(&[0; 512], 512), None);
    }
}
