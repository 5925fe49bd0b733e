//! The superblock: where everything else is, and which features must be known to find it.

use super::checksum;
use crate::bytes::{le_u16, le_u32, le_u64};
use crate::guest::trouble::Trouble;

pub(super) const PLACE: u64 = 1024;
pub(super) const LEN: u64 = 1024;
const MAGIC: u16 = 0xEF53;
/// Where its own checksum stands, of all that comes before.
const SUM: usize = 0x3FC;

/// Features without which nothing may be read: bits of the field at 96.
pub(super) mod needed {
    pub(crate) const COMPRESSION: u32 = 0x1;
    pub(crate) const FILE_TYPE: u32 = 0x2;
    pub(crate) const RECOVER: u32 = 0x4;
    pub(crate) const META_GROUPS: u32 = 0x10;
    pub(crate) const EXTENTS: u32 = 0x40;
    pub(crate) const WIDE: u32 = 0x80;
    pub(crate) const MULTI_MOUNT: u32 = 0x100;
    pub(crate) const FLEX_GROUPS: u32 = 0x200;
    pub(crate) const ATTRIBUTE_INODES: u32 = 0x400;
    pub(crate) const CHECKSUM_SEED: u32 = 0x2000;
    pub(crate) const LARGE_FOLDERS: u32 = 0x4000;
    pub(crate) const INLINE_DATA: u32 = 0x8000;
    pub(crate) const ENCRYPTION: u32 = 0x1_0000;
    pub(crate) const CASE_FOLDING: u32 = 0x2_0000;
    /// Compression never came to be; the others say where things are, or what single files are.
    pub(crate) const KNOWN: u32 = FILE_TYPE
        | RECOVER
        | META_GROUPS
        | EXTENTS
        | WIDE
        | MULTI_MOUNT
        | FLEX_GROUPS
        | ATTRIBUTE_INODES
        | CHECKSUM_SEED
        | LARGE_FOLDERS
        | INLINE_DATA
        | ENCRYPTION
        | CASE_FOLDING;
}
const COMPATIBLE_JOURNAL: u32 = 0x4;
const COMPATIBLE_ORPHAN_FILE: u32 = 0x1000;
const COMPATIBLE_SPARSE_SUPER_2: u32 = 0x200;
const READ_ONLY_SPARSE_SUPER: u32 = 0x1;
const READ_ONLY_GROUP_CHECKSUMS: u32 = 0x10;
const READ_ONLY_QUOTA: u32 = 0x100;
const READ_ONLY_CLUSTERS: u32 = 0x200;
const READ_ONLY_CHECKSUMS: u32 = 0x400;
const READ_ONLY_PROJECT: u32 = 0x2000;
/// Those that change nothing for whoever only reads: large files, trees of names, many folders, large inodes, read-only
/// by itself, orphans that wait, sealed files; and those above.
const READ_ONLY_KNOWN: u32 = READ_ONLY_SPARSE_SUPER
    | READ_ONLY_GROUP_CHECKSUMS
    | READ_ONLY_QUOTA
    | READ_ONLY_CLUSTERS
    | READ_ONLY_CHECKSUMS
    | READ_ONLY_PROJECT
    | 0x2
    | 0x4
    | 0x8
    | 0x20
    | 0x40
    | 0x1000
    | 0x8000
    | 0x1_0000;

/// How a group's descriptor is protected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum GroupSums {
    None,
    Short,
    Full,
}

/// Inodes with numbers of their own.
const JOURNAL_INODE: u32 = 8;
const FIXED_INODES: [(u32, &str); 3] = [(1, "bad blocks"), (7, ROOM), (JOURNAL_INODE, "journal")];
/// Blocks behind the descriptors of groups, and behind their copies, for groups that may come.
pub(in crate::guest) const ROOM: &str = "room for group descriptors";

/// What the superblock says, checked: nothing in it is zero where something is divided by it.
#[derive(Clone, Debug)]
pub(in crate::guest) struct Superblock {
    pub(super) block: u64,
    pub(super) blocks: u64,
    pub(super) first_block: u64,
    pub(super) blocks_per_group: u64,
    pub(super) inodes: u64,
    pub(super) inodes_per_group: u64,
    pub(super) inode_len: u64,
    pub(super) descriptor_len: u64,
    pub(super) first_meta_group: u64,
    pub(super) needed: u32,
    pub(super) has_checksums: bool,
    pub(super) seed: u32,
    /// The inode of the journal, where changes may wait in it.
    pub(super) journal: Option<u32>,
    /// Changes wait in a journal on another device.
    pub(super) journal_is_elsewhere: bool,
    /// How descriptors of groups are protected.
    pub(super) group_sums: GroupSums,
    /// Blocks for each bit of a group's bitmap.
    pub(super) cluster: u64,
    /// Blocks behind the descriptors that are kept for more of them.
    pub(super) reserved_descriptors: u64,
    pub(super) free_blocks: u64,
    /// Inodes of the file system's own, and what they are for.
    pub(super) own_inodes: Vec<(u32, &'static str)>,
    /// The block that says who has the volume mounted.
    pub(super) mount_block: Option<u64>,
    /// Whether it matches its own checksum, if it has one.
    pub(super) is_right: bool,
    /// Features that are not known, and do not matter to whoever only reads files.
    pub(super) unknown: u32,
    pub(super) uuid: [u8; 16],
    /// Whether only some groups have a copy of the superblock, and which in the newest form of that.
    sparse: bool,
    sparse_2: Option<[u64; 2]>,
}

impl Superblock {
    /// From its 1,024 bytes.
    pub(super) fn parse(bytes: &[u8]) -> Result<Self, Trouble> {
        let word = |at| u64::from(le_u32(bytes, at));
        if le_u16(bytes, 56) != MAGIC {
            return Err(Trouble::Damaged("there is no superblock".to_owned()));
        }
        let needed = le_u32(bytes, 96);
        let unknown = needed & !needed::KNOWN;
        if unknown != 0 {
            let what = if unknown & needed::COMPRESSION != 0 { "compression, " } else { "" };
            return Err(Trouble::Unsupported(format!(
                "the file system needs features that are not known here ({what}bits {unknown:#x})"
            )));
        }
        let (compatible, read_only) = (le_u32(bytes, 92), le_u32(bytes, 100));
        let shift = le_u32(bytes, 24);
        let wide = needed & needed::WIDE != 0;
        let is_old = le_u32(bytes, 76) == 0;
        let inode_len = if is_old { 128 } else { u64::from(le_u16(bytes, 88)) };
        let descriptor_len = if wide { u64::from(le_u16(bytes, 254)) } else { 32 };
        let has_checksums = read_only & READ_ONLY_CHECKSUMS != 0;
        let seed = match needed & needed::CHECKSUM_SEED {
            0 => checksum(u32::MAX, &bytes[104..120]),
            _ => le_u32(bytes, 0x270),
        };
        let group_sums = match (has_checksums, read_only & READ_ONLY_GROUP_CHECKSUMS) {
            (true, _) => GroupSums::Full,
            (false, 0) => GroupSums::None,
            (false, _) => GroupSums::Short,
        };
        let has_clusters = read_only & READ_ONLY_CLUSTERS != 0;
        let cluster_shift = if has_clusters { le_u32(bytes, 28).wrapping_sub(shift) } else { 0 };
        let quota = |at, bit| Some(le_u32(bytes, at)).filter(|inode| read_only & bit != 0 && *inode != 0);
        let orphans = Some(le_u32(bytes, 0x280)).filter(|_| compatible & COMPATIBLE_ORPHAN_FILE != 0);
        let quotas = [(0x240, READ_ONLY_QUOTA), (0x244, READ_ONLY_QUOTA), (0x26C, READ_ONLY_PROJECT)];
        let quotas = quotas.into_iter().filter_map(|(at, bit)| quota(at, bit)).map(|inode| (inode, "quota"));
        let own_inodes = FIXED_INODES.into_iter().chain(quotas).chain(orphans.map(|inode| (inode, "orphan list")));
        let pending = compatible & COMPATIBLE_JOURNAL != 0 && needed & needed::RECOVER != 0;
        let journal = Some(le_u32(bytes, 0xE0)).filter(|inode| pending && *inode != 0);
        let found = Self {
            block: if shift <= 6 { 1024 << shift } else { 0 },
            blocks: word(4) | if wide { word(0x150) << 32 } else { 0 },
            first_block: word(20),
            blocks_per_group: word(32),
            inodes: word(0),
            inodes_per_group: word(40),
            inode_len,
            descriptor_len,
            first_meta_group: if needed & needed::META_GROUPS != 0 { word(0x104) } else { u64::MAX },
            needed,
            has_checksums,
            seed,
            group_sums,
            cluster: if cluster_shift <= 20 { 1 << cluster_shift } else { 0 },
            reserved_descriptors: u64::from(le_u16(bytes, 0xCE)),
            free_blocks: word(12) | if wide { word(0x158) << 32 } else { 0 },
            own_inodes: own_inodes.collect(),
            mount_block: (needed & needed::MULTI_MOUNT != 0).then(|| le_u64(bytes, 0x168)),
            is_right: !has_checksums || checksum(u32::MAX, &bytes[..SUM]) == le_u32(bytes, SUM),
            unknown: read_only & !READ_ONLY_KNOWN,
            uuid: crate::bytes::array(bytes, 104),
            journal,
            journal_is_elsewhere: pending && journal.is_none(),
            sparse: read_only & READ_ONLY_SPARSE_SUPER != 0,
            sparse_2: (compatible & COMPATIBLE_SPARSE_SUPER_2 != 0).then(|| [word(0x24C), word(0x250)]),
        };
        let sound = found.block != 0
            && found.cluster != 0
            && found.blocks_per_group.is_multiple_of(found.cluster.max(1))
            && found.blocks > found.first_block
            // Every place in it is one of bytes, too.
            && found.blocks < (1 << 60) / found.block
            && found.first_block <= 1
            // Fewer are never made, and would be more groups than can be gone over.
            && (256..=found.block * 8 * 16 * found.cluster.max(1)).contains(&found.blocks_per_group)
            && (1..=found.block * 8).contains(&found.inodes_per_group)
            && inode_len.is_power_of_two()
            && (128..=found.block).contains(&inode_len)
            && descriptor_len.is_power_of_two()
            && (32..=found.block.min(1024)).contains(&descriptor_len);
        if sound { Ok(found) } else { Err(Trouble::Damaged("the superblock contradicts itself".to_owned())) }
    }

    pub(super) fn groups(&self) -> u64 {
        (self.blocks - self.first_block).div_ceil(self.blocks_per_group)
    }

    /// The blocks of a group.
    pub(super) fn group_blocks(&self, group: u64) -> std::ops::Range<u64> {
        let start = self.first_block + group * self.blocks_per_group;
        start..(start + self.blocks_per_group).min(self.blocks)
    }

    /// Copies of the superblock and of descriptors that a group begins with.
    pub(super) fn own_of_group(&self, group: u64) -> Vec<(std::ops::Range<u64>, &'static str)> {
        let per_block = self.block / self.descriptor_len;
        let (start, mut found) = (self.first_block + group * self.blocks_per_group, Vec::new());
        let has_superblock = self.has_superblock(group);
        let is_behind_both = group == 0 && self.first_block == 0 && self.block == PLACE;
        let first = start + u64::from(is_behind_both);
        if has_superblock {
            found.push((first..first + 1, "superblock"));
        }
        let (meta_group, place) = (group / per_block, group % per_block);
        if meta_group < self.first_meta_group {
            let all = self.groups().div_ceil(per_block).min(self.first_meta_group);
            if has_superblock {
                let end = first + 1 + all;
                found.push((first + 1..end, "group descriptors"));
                found.push((end..end + self.reserved_descriptors, ROOM));
            }
        } else if [0, 1, per_block - 1].contains(&place) {
            // In the first, the second and the last group of its own.
            let at = first + u64::from(has_superblock);
            found.push((at..at + 1, "group descriptors"));
        }
        found.retain(|(place, _)| !place.is_empty());
        found
    }

    /// Whether the descriptor of a group has the upper halves of its numbers.
    pub(super) fn has_wide_descriptors(&self) -> bool {
        self.needed & needed::WIDE != 0 && self.descriptor_len >= 64
    }

    /// The block that holds the descriptor of a group, and where in it.
    pub(super) fn descriptor_place(&self, group: u64) -> (u64, u64) {
        let per_block = self.block / self.descriptor_len;
        let (number, within) = (group / per_block, group % per_block * self.descriptor_len);
        if number < self.first_meta_group {
            // Behind the superblock, which need not be in the first block of the first group.
            return (PLACE / self.block + 1 + number, within);
        }
        let first = number * per_block;
        let start = self.first_block + first * self.blocks_per_group;
        let is_behind_both = number == 0 && self.first_block == 0 && self.block == PLACE;
        (start + u64::from(self.has_superblock(first)) + u64::from(is_behind_both), within)
    }

    fn has_superblock(&self, group: u64) -> bool {
        let power_of = |base: u64| {
            let mut power = base;
            while power < group {
                power = power.saturating_mul(base);
            }
            power == group
        };
        match (group, &self.sparse_2) {
            (0, _) => true,
            (_, Some(groups)) => groups.contains(&group),
            (1, _) => true,
            _ => !self.sparse || [3, 5, 7].into_iter().any(power_of),
        }
    }
}
