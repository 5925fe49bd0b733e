//! A volume of the ext family: its blocks as they are after the journal was played through, its inodes.

use std::collections::HashMap;
use std::rc::Rc;

use super::Inode;
use super::group::Group;
use super::superblock::{LEN, PLACE, Superblock};
use crate::guest::trouble::Trouble;
use crate::guest::window::Window;
use crate::ranges::Ranges;

/// A group is looked up for each file of a listing; those that were met last are kept.
const MOST_GROUPS: usize = 4096;

/// What became of the journal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::guest) enum JournalState {
    /// Nothing waits in it.
    Empty,
    /// So many blocks that wait in it are read from there; and whether changes may wait behind them in the quicker
    /// form, which is not played through.
    Replayed(usize, bool),
    /// It cannot be played through; what waits in it is not seen.
    Left(String),
}

/// What every block of a journal's own begins with.
pub(super) const JOURNAL_MAGIC: u32 = 0xC03B_3998;

/// Where the newest form of a block waits.
#[derive(Clone, Copy, Debug)]
pub(super) struct Moved {
    pub(super) place: u64,
    /// Its first four bytes are those that the journal's own blocks begin with, and were taken out.
    pub(super) is_escaped: bool,
}

/// A volume, opened.
pub(in crate::guest) struct ExtVolume {
    window: Window,
    superblock: Superblock,
    /// Blocks whose newest form waits in the journal, and where.
    moved: HashMap<u64, Moved>,
    groups: HashMap<u64, Group>,
    /// What all groups take for themselves, once it was asked for.
    own: Option<Rc<Ranges>>,
    journal: JournalState,
}

impl ExtVolume {
    /// As it stands, without its journal.
    pub(super) fn without_journal(mut window: Window) -> Result<Self, Trouble> {
        let superblock = Superblock::parse(&window.bytes(PLACE, LEN)?)?;
        let (moved, groups) = (HashMap::new(), HashMap::new());
        Ok(Self { window, superblock, moved, groups, own: None, journal: JournalState::Empty })
    }

    /// From here on these blocks are read from where their newest form waits.
    pub(super) fn play(&mut self, moved: HashMap<u64, Moved>, has_more: bool) {
        self.journal = JournalState::Replayed(moved.len(), has_more);
        self.moved = moved;
        self.groups.clear();
        self.own = None;
    }

    /// What waits in the journal is not seen.
    pub(super) fn leave_journal(&mut self, why: String) {
        self.journal = JournalState::Left(why);
    }

    pub(in crate::guest) fn journal(&self) -> &JournalState {
        &self.journal
    }

    pub(in crate::guest) fn block_len(&self) -> u64 {
        self.superblock.block
    }

    pub(super) fn superblock(&self) -> &Superblock {
        &self.superblock
    }

    /// One block.
    pub(super) fn block(&mut self, number: u64) -> Result<Vec<u8>, Trouble> {
        if number == 0 || number >= self.superblock.blocks {
            return Err(Trouble::Damaged(format!("something would lie in block {number}, which cannot be")));
        }
        let moved = self.moved.get(&number).copied();
        let place = moved.map_or(number, |moved| moved.place);
        let mut bytes = self.window.bytes(place * self.superblock.block, self.superblock.block)?;
        if moved.is_some_and(|moved| moved.is_escaped) {
            bytes[..4].copy_from_slice(&JOURNAL_MAGIC.to_be_bytes());
        }
        Ok(bytes)
    }

    /// Fills a buffer with what a file holds, from a block of the volume on. Files' content is in the journal only
    /// where the volume is used that way; block by block then.
    pub(in crate::guest) fn read_data(&mut self, buffer: &mut [u8], block: u64, within: u64) -> Result<(), Trouble> {
        let unit = self.superblock.block;
        let end = (block * unit + within + buffer.len() as u64).div_ceil(unit);
        if self.moved.is_empty() || !(block..end).any(|number| self.moved.contains_key(&number)) {
            return self.window.read_at(buffer, block * unit + within);
        }
        let (mut done, mut block, mut within) = (0, block, within as usize);
        while done < buffer.len() {
            let bytes = self.block(block)?;
            let len = (bytes.len() - within).min(buffer.len() - done);
            buffer[done..done + len].copy_from_slice(&bytes[within..within + len]);
            (done, block, within) = (done + len, block + 1, 0);
        }
        Ok(())
    }

    /// The block that an inode stands in, and where there.
    fn place_of_inode(&mut self, number: u32) -> Result<(u64, u64), Trouble> {
        let (wanted, per_group) = (u64::from(number), self.superblock.inodes_per_group);
        if wanted == 0 || wanted > self.superblock.inodes {
            return Err(Trouble::Damaged(format!("inode {number} would be none of the volume's")));
        }
        let (group, within) = ((wanted - 1) / per_group, (wanted - 1) % per_group);
        let offset = within * self.superblock.inode_len;
        let block = self.group(group)?.table + offset / self.superblock.block;
        Ok((block, offset % self.superblock.block))
    }

    /// An inode that is in use.
    pub(in crate::guest) fn inode(&mut self, number: u32) -> Result<Inode, Trouble> {
        match self.any_inode(number)? {
            inode if inode.links == 0 => Err(Trouble::Damaged(format!("inode {number} is not in use"))),
            inode => Ok(inode),
        }
    }

    /// The same whether a folder names it or not.
    pub(in crate::guest) fn any_inode(&mut self, number: u32) -> Result<Inode, Trouble> {
        let (block, start) = self.place_of_inode(number)?;
        let bytes = self.block(block)?;
        Inode::parse(&self.superblock, number, &bytes[start as usize..][..self.superblock.inode_len as usize])
    }

    pub(super) fn group(&mut self, group: u64) -> Result<Group, Trouble> {
        if let Some(known) = self.groups.get(&group) {
            return Ok(*known);
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
        if self.groups.len() == MOST_GROUPS {
            self.groups.clear();
        }
        self.groups.insert(group, found);
        Ok(found)
    }

    /// What all groups take for themselves, if that was asked for before.
    pub(super) fn kept_own(&self) -> Option<Rc<Ranges>> {
        self.own.clone()
    }

    pub(super) fn keep_own(&mut self, own: &Rc<Ranges>) {
        self.own = Some(own.clone());
    }

    /// Blocks whose newest form waits in the journal.
    pub(in crate::guest) fn waiting(&self) -> impl Iterator<Item = u64> {
        self.moved.keys().copied()
    }

    /// Where an inode stands on the volume, in bytes; none where its newest form waits in the journal.
    pub(in crate::guest) fn inode_place(&mut self, number: u32) -> Result<Option<std::ops::Range<u64>>, Trouble> {
        let (block, start) = self.place_of_inode(number)?;
        let at = block * self.superblock.block + start;
        Ok((!self.moved.contains_key(&block)).then(|| at..at + self.superblock.inode_len))
    }
}
