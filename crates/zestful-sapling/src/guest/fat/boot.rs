//! The first sector of a FAT volume (Microsoft's FAT specification of 2000), and what follows from it.

use std::ops::Range;

use crate::bytes::{le_u16, le_u32};
use crate::guest::content::FileSystem;

/// What a boot sector says, in bytes and clusters, checked: nothing in it is zero where something is divided by it.
#[derive(Clone, Debug)]
pub(in crate::guest) struct Layout {
    pub(in crate::guest) file_system: FileSystem,
    pub(in crate::guest) cluster: u64,
    pub(in crate::guest) clusters: u64,
    /// Where the first table begins, how long each is, and how many there are.
    pub(in crate::guest) table: u64,
    pub(in crate::guest) table_len: u64,
    pub(in crate::guest) tables: u64,
    pub(in crate::guest) root: Root,
    /// Where the first cluster, which has the number 2, begins.
    pub(in crate::guest) data: u64,
    /// The note of what is free.
    pub(in crate::guest) info: Option<u64>,
}

/// Where the root folder is.
#[derive(Clone, Debug)]
pub(in crate::guest) enum Root {
    /// Before the clusters, in bytes.
    Fixed(Range<u64>),
    /// In a chain that begins there.
    Chain(u32),
}

impl Layout {
    pub(in crate::guest) fn of(head: &[u8]) -> Option<Self> {
        let boot = head.get(..512)?;
        let (sector, per_cluster) = (u64::from(le_u16(boot, 11)), u64::from(boot[13]));
        let (reserved, tables) = (u64::from(le_u16(boot, 14)), u64::from(boot[16]));
        let jumps = boot[0] == 0xE9 || boot[0] == 0xEB && boot[2] == 0x90;
        let sound = [512, 1024, 2048, 4096].contains(&sector) && per_cluster.is_power_of_two();
        if boot[510..] != [0x55, 0xAA]
            || !jumps
            || !sound
            || reserved == 0
            || !(1..=2).contains(&tables)
            || boot[21] < 0xF0
        {
            return None;
        }
        let either = |short: usize, long: usize| match le_u16(boot, short) {
            0 => u64::from(le_u32(boot, long)),
            some => u64::from(some),
        };
        let (sectors, table_len) = (either(19, 32), either(22, 36));
        let root = (u64::from(le_u16(boot, 17)) * 32).div_ceil(sector);
        let before_root = reserved + tables * table_len;
        let clusters = sectors.checked_sub(before_root + root)? / per_cluster;
        let file_system = match (le_u16(boot, 22), clusters) {
            (0, _) => FileSystem::Fat32,
            (_, ..4085) => FileSystem::Fat12,
            _ => FileSystem::Fat16,
        };
        let is_long = file_system == FileSystem::Fat32;
        Some(Self {
            file_system,
            cluster: per_cluster * sector,
            clusters,
            table: reserved * sector,
            table_len: table_len * sector,
            tables,
            root: match is_long {
                true => Root::Chain(le_u32(boot, 44)),
                false => Root::Fixed(before_root * sector..(before_root + root) * sector),
            },
            data: (before_root + root) * sector,
            info: is_long.then(|| u64::from(le_u16(boot, 48)) * sector),
        })
    }

    /// Bits of an entry of the table.
    pub(in crate::guest) fn bits(&self) -> u64 {
        match self.file_system {
            FileSystem::Fat12 => 12,
            FileSystem::Fat16 => 16,
            _ => 32,
        }
    }

    /// Bytes of a table that say something.
    pub(in crate::guest) fn used_table(&self) -> u64 {
        ((self.clusters + 2) * self.bits()).div_ceil(8)
    }

    /// The clusters that there are.
    pub(in crate::guest) fn numbers(&self) -> Range<u64> {
        2..self.clusters + 2
    }

    /// Where a cluster begins.
    pub(in crate::guest) fn place(&self, number: u64) -> u64 {
        self.data + (number - 2) * self.cluster
    }
}

/// An entry of a piece of a table that begins with a whole one: so many bits each.
pub(in crate::guest) fn entry(piece: &[u8], number: u64, bits: u64) -> u32 {
    match bits {
        12 => {
            let at = (number * 3 / 2) as usize;
            let pair = u32::from(piece[at]) | u32::from(*piece.get(at + 1).unwrap_or(&0)) << 8;
            if number.is_multiple_of(2) { pair & 0xFFF } else { pair >> 4 }
        }
        16 => u32::from(le_u16(piece, number as usize * 2)),
        _ => le_u32(piece, number as usize * 4) & 0x0FFF_FFFF,
    }
}
