//! A volume of the ext family: its blocks as they are after the journal was played through, its inodes.

use std::collections::HashMap;

use super::Inode;
use super::superblock::{LEN, PLACE, Superblock};
use crate::bytes::le_u32;
use crate::guest::trouble::Trouble;
use crate::guest::window::Window;

/// An inode table's place is looked up for each file of a listing; those of the groups met last are kept.
const MOST_TABLES: usize = 4096;

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
    tables: HashMap<u64, u64>,
    journal: JournalState,
}

impl ExtVolume {
    /// As it stands, without its journal.
    pub(super) fn without_journal(mut window: Window) -> Result<Self, Trouble> {
        let superblock = Superblock::parse(&window.bytes(PLACE, LEN)?)?;
        let (moved, tables) = (HashMap::new(), HashMap::new());
        Ok(Self { window, superblock, moved, tables, journal: JournalState::Empty })
    }

    /// From here on these blocks are read from where their newest form waits.
    pub(super) fn play(&mut self, moved: HashMap<u64, Moved>, has_more: bool) {
        self.journal = JournalState::Replayed(moved.len(), has_more);
        self.moved = moved;
        self.tables.clear();
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

    pub(in crate::guest) fn inode(&mut self, number: u32) -> Result<Inode, Trouble> {
        let (wanted, per_group) = (u64::from(number), self.superblock.inodes_per_group);
        if wanted == 0 || wanted > self.superblock.inodes {
            return Err(Trouble::Damaged(format!("inode {number} would be none of the volume's")));
        }
        let (group, within) = ((wanted - 1) / per_group, (wanted - 1) % per_group);
        let offset = within * self.superblock.inode_len;
        let block = self.table(group)? + offset / self.superblock.block;
        let start = (offset % self.superblock.block) as usize;
        let bytes = self.block(block)?;
        Inode::parse(&self.superblock, number, &bytes[start..start + self.superblock.inode_len as usize])
    }

    /// The first block of a group's inodes.
    fn table(&mut self, group: u64) -> Result<u64, Trouble> {
        if let Some(table) = self.tables.get(&group) {
            return Ok(*table);
        }
        if group >= self.superblock.groups() {
            return Err(Trouble::Damaged(format!("something would lie in group {group}, which cannot be")));
        }
        let (block, within) = self.superblock.descriptor_place(group);
        let bytes = self.block(block)?;
        let descriptor = &bytes[within as usize..][..self.superblock.descriptor_len as usize];
        let high = if self.superblock.has_wide_descriptors() { u64::from(le_u32(descriptor, 0x28)) << 32 } else { 0 };
        let table = high | u64::from(le_u32(descriptor, 8));
        if table == 0 || table >= self.superblock.blocks {
            return Err(Trouble::Damaged(format!("the inodes of group {group} would lie in block {table}")));
        }
        if self.tables.len() == MOST_TABLES {
            self.tables.clear();
        }
        self.tables.insert(group, table);
        Ok(table)
    }
}
