//! What is known of a partition, and of what is wrong with one.

use std::fmt;

use uuid::Uuid;

use super::table::PartitionTable;
use super::view::View;

/// The partitions of a disk.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Partitions {
    /// The table, if there is one.
    pub table: Option<PartitionTable>,
    /// Those that can be used, by their number.
    pub usable: Vec<Partition>,
    /// What is wrong with the table, or with others.
    pub problems: Vec<PartitionProblem>,
    /// Where the table itself lies, with its copies and lists, in bytes.
    pub places: Vec<std::ops::Range<u64>>,
}

/// One partition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Partition {
    /// Its number, as hosts count.
    pub number: u32,
    /// Its first byte on the disk.
    pub start: u64,
    /// Its length in bytes, never zero.
    pub len: u64,
    /// What it is for.
    pub kind: PartitionKind,
    /// Its name, which only a GPT has; whoever wrote the table chose it.
    pub name: String,
}

impl Partition {
    pub(super) fn end(&self) -> u64 {
        self.start.saturating_add(self.len)
    }
}

/// What a partition is for, as its entry says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum PartitionKind {
    /// The type of a GPT entry.
    Gpt(Uuid),
    /// The type of an MBR entry.
    Mbr(u8),
}

impl fmt::Display for PartitionKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let known = match self {
            Self::Gpt(kind) => GPT_KINDS.iter().chain(&POOLS).find(|(other, _)| other == kind).map(|(_, name)| *name),
            Self::Mbr(kind) => MBR_KINDS.iter().find(|(other, _)| other == kind).map(|(_, name)| *name),
        };
        match (known, self) {
            (Some(name), _) => f.pad(name),
            (None, Self::Gpt(kind)) => f.pad(&format!("type {kind}")),
            (None, Self::Mbr(kind)) => f.pad(&format!("type {kind:02X}")),
        }
    }
}

impl PartitionKind {
    /// Whether its type says that it belongs to a pool, or to a dynamic disk, which have no signature at its beginning.
    pub(super) fn is_pool(self) -> bool {
        match self {
            Self::Gpt(kind) => POOLS.iter().any(|(other, _)| *other == kind),
            Self::Mbr(kind) => kind == 0x42,
        }
    }
}

const POOLS: [(Uuid, &str); 3] = [
    (Uuid::from_u128(0xE75CAF8F_F680_4CEE_AFA3_B001E56EFC2D), "Windows storage pool"),
    (Uuid::from_u128(0xAF9B60A0_1431_4F62_BC68_3311714A69AD), "Windows dynamic disk"),
    (Uuid::from_u128(0x5808C8AA_7E8F_42E0_85D2_E1E90434CFB3), "Windows dynamic disk records"),
];

const GPT_KINDS: [(Uuid, &str); 13] = [
    (Uuid::from_u128(0x0FC63DAF_8483_4772_8E79_3D69D8477DE4), "Linux"),
    (Uuid::from_u128(0xC12A7328_F81F_11D2_BA4B_00A0C93EC93B), "EFI system"),
    (Uuid::from_u128(0xEBD0A0A2_B9E5_4433_87C0_68B6B72699C7), "Windows data"),
    (Uuid::from_u128(0xE3C9E316_0B5C_4DB8_817D_F92DF00215AE), "Windows reserved"),
    (Uuid::from_u128(0xDE94BBA4_06D1_4D40_A16A_BFD50179D6AC), "Windows recovery"),
    (Uuid::from_u128(0x0657FD6D_A4AB_43C4_84E5_0933C84B4F4F), "Linux swap"),
    (Uuid::from_u128(0xE6D6D379_F507_44C2_A23C_238F2A3DF928), "Linux LVM"),
    (Uuid::from_u128(0xA19D880F_05FC_4D3B_A006_743F0F84911E), "Linux RAID"),
    (Uuid::from_u128(0xCA7D7CCB_63ED_4C53_861C_1742536059CC), "Linux encrypted"),
    (Uuid::from_u128(0x4F68BCE3_E8CD_4DB1_96E7_FBCAF984B709), "Linux root"),
    (Uuid::from_u128(0x933AC7E1_2EB4_4F13_B844_0E14E2AEF915), "Linux home"),
    (Uuid::from_u128(0xBC13C2FF_59E6_4262_A352_B275FD6F7172), "Linux boot"),
    (Uuid::from_u128(0x21686148_6449_6E6F_744E_656564454649), "BIOS boot"),
];

const MBR_KINDS: [(u8, &str); 14] = [
    (0x01, "FAT12"),
    (0x04, "FAT16"),
    (0x06, "FAT16"),
    (0x07, "NTFS or exFAT"),
    (0x0B, "FAT32"),
    (0x0C, "FAT32"),
    (0x0E, "FAT16"),
    (0x27, "Windows recovery"),
    (0x42, "Windows dynamic disk"),
    (0x82, "Linux swap"),
    (0x83, "Linux"),
    (0x8E, "Linux LVM"),
    (0xEF, "EFI system"),
    (0xFD, "Linux RAID"),
];

/// What is wrong with a partition table. Partitions are named by their number, sectors by theirs.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PartitionProblem {
    /// It would reach past the end.
    #[error("partition {0} reaches past the end of the disk")]
    PastEnd(u32),
    /// A write to one would change the other.
    #[error("partitions {0} and {1} overlap")]
    Overlap(u32, u32),
    /// A write to it would change the table.
    #[error("partition {0} lies where the table is")]
    OnTable(u32),
    /// Its last sector comes before its first.
    #[error("partition {0} ends before it begins")]
    Backwards(u32),
    /// A logical partition is no part of the extended one that lists it.
    #[error("partition {0} leaves the extended partition that it belongs to")]
    OutsideExtended(u32),
    /// The list of logical partitions has no end.
    #[error("the list of logical partitions comes back to sector {0}; what follows there is left out")]
    Loop(u64),
    /// The list of logical partitions leads elsewhere.
    #[error("the list of logical partitions leads to sector {0}, where none can be; what follows is left out")]
    Astray(u64),
    /// There are more logical partitions than any host uses.
    #[error("there are more than {0} logical partitions; those behind are left out")]
    TooMany(usize),
    /// The second copy of the table is used.
    #[error("the first copy of the GPT is damaged, so the second one at the end of the disk is used")]
    FirstCopy,
    /// The second copy of the table cannot be used.
    #[error("the second copy of the GPT cannot be used: {0}")]
    SecondCopy(String),
    /// Both copies can be used, and list other partitions.
    #[error("the two copies of the GPT list other partitions; the first one is used")]
    CopiesDiffer,
    /// The second copy of the table is not where the disk ends: the disk has grown since.
    #[error("the second copy of the GPT lies {0} bytes before the end of the disk, which has grown since")]
    BeforeEnd(u64),
    /// Nothing in the first sector keeps programs away that know no GPT.
    #[error("the protective entry in the first sector is missing: programs without GPT take the disk for an empty one")]
    NoProtective,
    /// Volumes were being put onto the disk, which was cut short.
    #[error("the disk was being prepared, which was cut short: there is nothing on it yet; prepare it again")]
    Begun,
    /// Neither copy can be used.
    #[error("neither copy of the GPT can be used: {first}; {second}")]
    BothCopies {
        /// What is wrong with the one at the beginning.
        first: String,
        /// What is wrong with the one at the end.
        second: String,
    },
    /// It was written for a disk of other sectors.
    #[error(
        "the GPT counts in sectors of {found} bytes and the disk has sectors of {expected}: it was written to \
         something else than this disk, such as a copy or a file that shows it with other sectors"
    )]
    OtherSectors {
        /// Bytes of the sectors that the table counts in.
        found: u32,
        /// Bytes of the disk's sectors.
        expected: u32,
    },
}

/// A range in sectors, in bytes; what no disk can have becomes a place behind every end.
pub(super) fn in_bytes(view: &View<'_>, sector: u64, count: u64) -> (u64, u64) {
    match (sector.checked_mul(view.sector), count.checked_mul(view.sector)) {
        (Some(start), Some(len)) => (start, len),
        _ => (u64::MAX.saturating_sub(view.sector), view.sector),
    }
}
