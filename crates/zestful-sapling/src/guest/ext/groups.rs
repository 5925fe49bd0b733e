//! Groups: their descriptors and bitmaps, and what of the volume they take themselves.

use std::ops::Range;

use super::superblock::{GroupSums, Superblock};
use super::volume::ExtVolume;
use super::{Inode, checksum, short_checksum};
use crate::bytes::{le_u16, le_u32, wide};
use crate::guest::trouble::Trouble;
use crate::ranges::Ranges;

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
    free: u64,
    /// Inodes at the end of its table that were never used.
    unused_inodes: u64,
    flags: u16,
    block_sum: u32,
    inode_sum: u32,
    /// Whether it matches its checksum, if it has one.
    is_right: bool,
}

impl Group {
    fn parse(superblock: &Superblock, group: u64, bytes: &[u8]) -> Self {
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

/// Takes a part of the volume, in blocks, and what it is for.
pub(in crate::guest) type TakeOwn<'a> = dyn FnMut(Range<u64>, &'static str) + 'a;

impl ExtVolume {
    pub(super) fn group(&mut self, group: u64) -> Result<Group, Trouble> {
        if let Some(known) = self.known_group(group) {
            return Ok(known);
        }
        if group >= self.superblock().groups() {
            return Err(Trouble::Damaged(format!("something would lie in group {group}, which cannot be")));
        }
        let (block, within) = self.superblock().descriptor_place(group);
        let bytes = self.block(block)?;
        let descriptor = &bytes[within as usize..][..self.superblock().descriptor_len as usize];
        let found = Group::parse(self.superblock(), group, descriptor);
        if found.table == 0 || found.table >= self.superblock().blocks {
            return Err(Trouble::Damaged(format!("the inodes of group {group} would lie in block {}", found.table)));
        }
        self.know_group(group, found);
        Ok(found)
    }

    /// A group whose descriptor matches its checksum.
    fn sound_group(&mut self, group: u64) -> Result<Group, Trouble> {
        let found = self.group(group)?;
        match found.is_right {
            true => Ok(found),
            false => Err(Trouble::Damaged(format!("the descriptor of group {group} does not match its checksum"))),
        }
    }

    /// The first byte behind the file system.
    pub(in crate::guest) fn len(&self) -> u64 {
        self.superblock().blocks * self.superblock().block
    }

    pub(in crate::guest) fn groups(&self) -> u64 {
        self.superblock().groups()
    }

    /// What a group takes for itself, wherever that lies.
    pub(in crate::guest) fn own_blocks(&mut self, group: u64, take: &mut TakeOwn<'_>) -> Result<(), Trouble> {
        let superblock = self.superblock();
        let table_len = (superblock.inodes_per_group * superblock.inode_len).div_ceil(superblock.block);
        if group == 0 {
            // What comes before the first group is kept for what starts the machine.
            (superblock.first_block > 0).then(|| take(0..superblock.first_block, "boot area"));
            superblock.mount_block.into_iter().for_each(|block| take(block..block + 1, "note of the mount"));
        }
        superblock.own_of_group(group).into_iter().for_each(|(place, what)| take(place, what));
        let found = self.group(group)?;
        take(found.block_bitmap..found.block_bitmap + 1, "block bitmap");
        take(found.inode_bitmap..found.inode_bitmap + 1, "inode bitmap");
        take(found.table..found.table + table_len, "inode table");
        Ok(())
    }

    /// Calls `take` with what is marked as free of a range of blocks, upwards.
    pub(in crate::guest) fn free_blocks(
        &mut self,
        within: Range<u64>,
        take: &mut dyn FnMut(Range<u64>),
    ) -> Result<(), Trouble> {
        let superblock = self.superblock();
        let (first_block, per_group, cluster) =
            (superblock.first_block, superblock.blocks_per_group, superblock.cluster);
        let (mut at, end) = (within.start.max(first_block), within.end.min(superblock.blocks));
        while at < end {
            let group = (at - first_block) / per_group;
            let blocks = self.superblock().group_blocks(group);
            let until = blocks.end.min(end);
            let found = self.sound_group(group)?;
            if found.flags & BLOCKS_UNWRITTEN != 0 {
                let own = self.all_own()?;
                let mut free = Ranges::from_iter([at..until]);
                own.within(at..until).for_each(|range| free.remove(range.offset..range.end()));
                free.list().iter().for_each(|range| take(range.offset..range.end()));
                at = until;
                continue;
            }
            let bitmap = self.bitmap(group, &found)?;
            // Clusters are counted from the beginning of the group, and the last one may be cut.
            let mut run: Option<Range<u64>> = None;
            let (first, last) = ((at - blocks.start) / cluster, (until - blocks.start).div_ceil(cluster));
            for number in first..last {
                let is_used = bitmap[(number / 8) as usize] & 1 << (number % 8) != 0;
                let start = (blocks.start + number * cluster).max(at);
                let stop = (blocks.start + (number + 1) * cluster).min(until);
                match (&mut run, is_used) {
                    (Some(run), false) => run.end = stop,
                    (None, false) => run = Some(start..stop),
                    (_, true) => run.take().into_iter().for_each(&mut *take),
                }
            }
            run.into_iter().for_each(&mut *take);
            at = until;
        }
        Ok(())
    }

    fn bitmap(&mut self, group: u64, found: &Group) -> Result<Vec<u8>, Trouble> {
        let mut bitmap = self.block(found.block_bitmap)?;
        let superblock = self.superblock();
        let len = (superblock.blocks_per_group / superblock.cluster).div_ceil(8) as usize;
        if len > bitmap.len() {
            return Err(Trouble::Damaged("groups have more clusters than their bitmaps".to_owned()));
        }
        bitmap.truncate(len);
        if !self.has_right_bitmap(&bitmap, found.block_sum) {
            return Err(Trouble::Damaged(format!("the block bitmap of group {group} does not match its checksum")));
        }
        Ok(bitmap)
    }

    fn has_right_bitmap(&self, bitmap: &[u8], sum: u32) -> bool {
        let superblock = self.superblock();
        let found = checksum(superblock.seed, bitmap);
        let found = if superblock.has_wide_descriptors() { found } else { found & 0xFFFF };
        !superblock.has_checksums || found == sum
    }

    /// Refuses a bitmap whose group, or whose volume, counts another number of free clusters.
    pub(in crate::guest) fn refuse_other_counts(&mut self, renew: &mut dyn FnMut()) -> Result<(), Trouble> {
        let cluster = self.superblock().cluster;
        let mut sum = 0;
        for group in 0..self.groups() {
            renew();
            let (mut free, blocks) = (0, self.superblock().group_blocks(group));
            let start = blocks.start;
            self.free_blocks(blocks, &mut |run| {
                free += (run.end - start).div_ceil(cluster) - (run.start - start) / cluster;
            })?;
            let told = self.group(group)?.free;
            if free != told {
                let what = format!("group {group} says that {told} of its clusters are free, and its bitmap {free}");
                return Err(Trouble::Damaged(what));
            }
            sum += free;
        }
        let told = self.superblock().free_blocks / cluster;
        if sum != told {
            let what = format!("the superblock says that {told} clusters are free, and the bitmaps {sum}");
            return Err(Trouble::Damaged(what));
        }
        Ok(())
    }

    /// The inodes of a group that are in use.
    pub(in crate::guest) fn used_inodes(&mut self, group: u64) -> Result<Vec<u32>, Trouble> {
        let found = self.sound_group(group)?;
        if found.flags & INODES_UNWRITTEN != 0 {
            return Ok(Vec::new());
        }
        let per_group = self.superblock().inodes_per_group;
        let mut bitmap = self.block(found.inode_bitmap)?;
        bitmap.truncate(per_group.div_ceil(8) as usize);
        if wide(bitmap.len()) * 8 < per_group || !self.has_right_bitmap(&bitmap, found.inode_sum) {
            return Err(Trouble::Damaged(format!("the inode bitmap of group {group} does not match its checksum")));
        }
        let first = group * per_group + 1;
        let count = per_group.saturating_sub(found.unused_inodes);
        let is_used = |number: &u64| bitmap[(number / 8) as usize] & 1 << (number % 8) != 0;
        Ok((0..count).filter(is_used).map(|number| (first + number) as u32).collect())
    }

    /// What an inode of the file system's own is for.
    pub(in crate::guest) fn own_inode(&self, number: u32) -> Option<&'static str> {
        self.superblock().own_inodes.iter().find(|(own, _)| *own == number).map(|(_, what)| *what)
    }

    /// Refuses features that may give bits another meaning, and a superblock that is not what was written.
    pub(in crate::guest) fn refuse_unknown(&self) -> Result<(), Trouble> {
        match self.superblock().unknown {
            0 => Ok(()),
            bits => Err(Trouble::Unsupported(format!("the file system has features that are not known ({bits:#x})"))),
        }?;
        match self.superblock().is_right {
            true => Ok(()),
            false => Err(Trouble::Damaged("the superblock does not match its checksum".to_owned())),
        }
    }

    /// The block with a file's further attributes, which files may share.
    pub(in crate::guest) fn attribute_block(&self, inode: &Inode) -> Option<u64> {
        Some(inode.attributes).filter(|block| *block != 0 && *block < self.superblock().blocks)
    }
}
