//! What bitmaps mark, and what of the volume groups take for themselves.

use std::ops::Range;
use std::rc::Rc;

use super::group::Group;
use super::volume::ExtVolume;
use super::{Inode, checksum};
use crate::bytes::wide;
use crate::guest::row::Row;
use crate::guest::trouble::Trouble;
use crate::ranges::Ranges;

/// Takes a part of the volume, in blocks, and what it is for.
pub(in crate::guest) type TakeOwn<'a> = dyn FnMut(Range<u64>, &'static str) + 'a;

impl ExtVolume {
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
            if found.has_no_block_bitmap() {
                let own = self.all_own()?;
                let mut free = Ranges::from_iter(std::iter::once(at..until));
                own.within(at..until).for_each(|range| free.remove(range.offset..range.end()));
                free.list().iter().for_each(|range| take(range.offset..range.end()));
                at = until;
                continue;
            }
            let bitmap = self.bitmap(group, &found)?;
            // Clusters are counted from the beginning of the group, and the last one may be cut.
            let mut row = Row::default();
            let (first, last) = ((at - blocks.start) / cluster, (until - blocks.start).div_ceil(cluster));
            for number in first..last {
                let is_used = bitmap[(number / 8) as usize] & 1 << (number % 8) != 0;
                let start = (blocks.start + number * cluster).max(at);
                let stop = (blocks.start + (number + 1) * cluster).min(until);
                row.see(start..stop, !is_used, take);
            }
            row.end(take);
            at = until;
        }
        Ok(())
    }

    /// What all groups take for themselves.
    fn all_own(&mut self) -> Result<Rc<Ranges>, Trouble> {
        if let Some(own) = self.kept_own() {
            return Ok(own);
        }
        let mut own = Ranges::default();
        for group in 0..self.groups() {
            self.own_blocks(group, &mut |place, _| own.add(place))?;
        }
        let own = Rc::new(own);
        self.keep_own(&own);
        Ok(own)
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
        if found.has_no_inodes() {
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
