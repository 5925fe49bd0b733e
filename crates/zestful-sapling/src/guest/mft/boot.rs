//! The first sector of an NTFS volume, by its published layout.

use crate::bytes::{le_u16, le_u64};

/// What it says, in bytes and sectors; nothing in it is zero where something is divided by it.
#[derive(Clone, Copy, Debug)]
pub(in crate::guest) struct Boot {
    pub(in crate::guest) sector: u64,
    /// Sectors of a cluster.
    pub(in crate::guest) per_cluster: u64,
    pub(in crate::guest) sectors: u64,
    pub(in crate::guest) serial: u64,
    /// The cluster that the table of files begins with.
    pub(super) table: u64,
    pub(super) record_len: u64,
}

impl Boot {
    pub(in crate::guest) fn of(head: &[u8]) -> Option<Self> {
        let boot = head.get(..512).filter(|boot| boot[3..11] == *b"NTFS    ")?;
        let sector = u64::from(le_u16(boot, 11));
        // Above 128 it is the power of two, negative.
        let per_cluster = match boot[13] {
            count @ ..=128 => u64::from(count),
            shift => 1 << (256 - u32::from(shift)).min(20),
        };
        let record_len = match boot[64].cast_signed() {
            count @ 0.. => u64::from(count.unsigned_abs()) * sector * per_cluster,
            shift => 1 << u32::from(shift.unsigned_abs()).min(20),
        };
        let sectors = le_u64(boot, 40);
        let is_sound = sector.is_power_of_two() && per_cluster.is_power_of_two() && sectors > 0;
        let (table, serial) = (le_u64(boot, 48), le_u64(boot, 72));
        is_sound.then_some(Self { sector, per_cluster, sectors, serial, table, record_len })
    }

    pub(in crate::guest) fn clusters(&self) -> u64 {
        self.sectors / self.per_cluster
    }
}
