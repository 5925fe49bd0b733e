//! The journal (jbd2): blocks that were committed and wait to be put in place. Nothing is put in place here; the newest
//! form of a block is read from where it waits.

use std::collections::HashMap;

use super::checksum;
use super::volume::{ExtVolume, JOURNAL_MAGIC, Moved};
use crate::bytes::{be_u32, wide};
use crate::guest::trouble::Trouble;
use crate::guest::window::Window;

const DESCRIPTOR: u32 = 1;
const COMMIT: u32 = 2;
const SUPERBLOCKS: std::ops::RangeInclusive<u32> = 3..=4;
const REVOKE: u32 = 5;

const NEEDS_REVOKE: u32 = 0x1;
const NEEDS_WIDE: u32 = 0x2;
const NEEDS_ASYNC_COMMIT: u32 = 0x4;
const NEEDS_CHECKSUM_2: u32 = 0x8;
const NEEDS_CHECKSUM_3: u32 = 0x10;
const NEEDS_FAST_COMMIT: u32 = 0x20;
const KNOWN: u32 =
    NEEDS_REVOKE | NEEDS_WIDE | NEEDS_ASYNC_COMMIT | NEEDS_CHECKSUM_2 | NEEDS_CHECKSUM_3 | NEEDS_FAST_COMMIT;

const TAG_ESCAPED: u32 = 0x1;
const TAG_SAME_UUID: u32 = 0x2;
const TAG_LAST: u32 = 0x8;
const HEADER: usize = 12;
const UUID: usize = 16;

/// A block that follows a descriptor: where it belongs, and its checksum.
struct Tag {
    number: u64,
    is_escaped: bool,
    sum: u32,
}

struct Journal {
    /// The blocks of the journal, on the volume.
    blocks: Vec<u64>,
    first: u64,
    end: u64,
    needs: u32,
    seed: u32,
}

/// Opens a volume, with what waits in its journal.
pub(in crate::guest) fn open(window: Window) -> Result<ExtVolume, Trouble> {
    let mut volume = ExtVolume::without_journal(window)?;
    if volume.superblock().journal_is_elsewhere {
        volume.leave_journal("it is on another device".to_owned());
    }
    let Some(number) = volume.superblock().journal else { return Ok(volume) };
    match read(&mut volume, number) {
        Ok((moved, has_more)) => volume.play(moved, has_more),
        Err(Trouble::Failed(error)) => return Err(error.into()),
        Err(Trouble::Damaged(why) | Trouble::Unsupported(why)) => volume.leave_journal(why),
    }
    Ok(volume)
}

/// Goes through the journal in an inode. A commit that was cut short ends it, as it does for the kernel.
fn read(volume: &mut ExtVolume, number: u32) -> Result<(HashMap<u64, Moved>, bool), Trouble> {
    let inode = volume.inode(number)?;
    let unit = volume.block_len();
    let count = inode.size / unit;
    // The largest that is ever made.
    if count > 1 << 24 {
        return Err(Trouble::Damaged("the journal is of a size that none has".to_owned()));
    }
    let mut blocks = Vec::new();
    volume.runs(&inode, &mut |_, run| {
        if run.file_block != wide(blocks.len()) {
            return Err(Trouble::Damaged("the journal has gaps".to_owned()));
        }
        blocks.extend(run.block..run.block + run.count.min(count.saturating_sub(run.file_block)));
        Ok(())
    })?;
    let head = volume.block(*blocks.first().ok_or_else(|| Trouble::Damaged("the journal is empty".to_owned()))?)?;
    let word = |at| be_u32(&head, at);
    let needs = if word(4) == *SUPERBLOCKS.end() { word(40) } else { 0 };
    if word(0) != JOURNAL_MAGIC || !SUPERBLOCKS.contains(&word(4)) || u64::from(word(12)) != unit {
        return Err(Trouble::Damaged("the journal has no superblock".to_owned()));
    }
    if needs & !KNOWN != 0 {
        return Err(Trouble::Unsupported(format!("the journal needs features that are not known here ({needs:#x})")));
    }
    let (first, start, mut sequence) = (u64::from(word(20)), u64::from(word(28)), word(24));
    let fast = if needs & NEEDS_FAST_COMMIT != 0 { u64::from(word(84)) } else { 0 };
    let end = u64::from(word(16)).min(wide(blocks.len())).saturating_sub(fast);
    let journal = Journal { blocks, first, end, needs, seed: checksum(u32::MAX, &head[48..64]) };
    let has_more = fast > 0;
    if start == 0 {
        return Ok((HashMap::new(), has_more));
    }
    if first == 0 || !(first..end).contains(&start) {
        return Err(Trouble::Damaged("the journal begins outside of itself".to_owned()));
    }
    let (mut kept, mut at, mut left) = (Kept::default(), start, end);
    while let Some((transaction, next, used)) = journal.transaction(volume, at, sequence, left)? {
        kept.add(sequence, transaction);
        // Going round once more than there are blocks would be going round for ever.
        left = left.saturating_sub(used);
        (at, sequence) = (next, sequence.wrapping_add(1));
    }
    Ok((kept.moved(), has_more))
}

/// What one transaction holds.
#[derive(Default)]
struct Transaction {
    written: Vec<(u64, Moved)>,
    revoked: Vec<u64>,
}

impl Journal {
    /// The transaction that begins at a block of the journal; none where the last one has ended. With where the next
    /// one would begin, and how many blocks this one took.
    fn transaction(
        &self,
        volume: &mut ExtVolume,
        at: u64,
        sequence: u32,
        left: u64,
    ) -> Result<Option<(Transaction, u64, u64)>, Trouble> {
        let (mut at, mut used, mut found) = (at, 0, Transaction::default());
        while used < left {
            let block = volume.block(self.place(at))?;
            if be_u32(&block, 0) != JOURNAL_MAGIC || be_u32(&block, 8) != sequence {
                return Ok(None);
            }
            (at, used) = (self.after(at), used + 1);
            match be_u32(&block, 4) {
                COMMIT => {
                    return Ok(self.is_whole_commit(&block).then_some((found, at, used)));
                }
                DESCRIPTOR if self.has_right_tail(&block) => {
                    for Tag { number, is_escaped, sum } in self.tags(&block) {
                        self.verify(volume, at, sequence, sum)?;
                        found.written.push((number, Moved { place: self.place(at), is_escaped }));
                        (at, used) = (self.after(at), used + 1);
                    }
                }
                REVOKE if self.has_right_tail(&block) => found.revoked.extend(self.revoked(&block)),
                _ => return Ok(None),
            }
        }
        Ok(None)
    }

    fn place(&self, at: u64) -> u64 {
        self.blocks.get(at as usize).copied().unwrap_or(0)
    }

    fn after(&self, at: u64) -> u64 {
        if at + 1 >= self.end { self.first } else { at + 1 }
    }

    fn has_checksums(&self) -> bool {
        self.needs & (NEEDS_CHECKSUM_2 | NEEDS_CHECKSUM_3) != 0
    }

    /// A block that was committed and is not what it was ends the journal for good, as it does for the kernel.
    fn verify(&self, volume: &mut ExtVolume, at: u64, sequence: u32, sum: u32) -> Result<(), Trouble> {
        if !self.has_checksums() {
            return Ok(());
        }
        let found = checksum(checksum(self.seed, &sequence.to_be_bytes()), &volume.block(self.place(at))?);
        let found = if self.needs & NEEDS_CHECKSUM_3 != 0 { found } else { found & 0xFFFF };
        if found == sum {
            return Ok(());
        }
        Err(Trouble::Damaged(format!("block {at} of the journal does not match its checksum")))
    }

    /// The blocks that follow a descriptor.
    fn tags(&self, block: &[u8]) -> Vec<Tag> {
        let is_third = self.needs & NEEDS_CHECKSUM_3 != 0;
        let is_wide = self.needs & NEEDS_WIDE != 0;
        let len = match (is_third, self.needs & NEEDS_CHECKSUM_2 != 0, is_wide) {
            (true, ..) => 16,
            (false, second, wide) => 8 + if wide { 4 } else { 0 } + if second { 2 } else { 0 },
        };
        let end = block.len() - if self.has_checksums() { 4 } else { 0 };
        let (mut at, mut found) = (HEADER, Vec::new());
        while at + len <= end {
            let word = be_u32(block, at + 4);
            let (flags, sum) = if is_third { (word, be_u32(block, at + 12)) } else { (word & 0xFFFF, word >> 16) };
            let high = if is_wide { u64::from(be_u32(block, at + 8)) << 32 } else { 0 };
            found.push(Tag { number: high | u64::from(be_u32(block, at)), is_escaped: flags & TAG_ESCAPED != 0, sum });
            if flags & TAG_LAST != 0 {
                break;
            }
            at += len + if flags & TAG_SAME_UUID == 0 { UUID } else { 0 };
        }
        found
    }

    fn revoked(&self, block: &[u8]) -> Vec<u64> {
        let end = (be_u32(block, HEADER) as usize).min(block.len());
        let entries = block.get(HEADER + 4..end).unwrap_or_default();
        match self.needs & NEEDS_WIDE {
            0 => entries.chunks_exact(4).map(|entry| u64::from(be_u32(entry, 0))).collect(),
            _ => entries.chunks_exact(8).map(|entry| crate::bytes::be_u64(entry, 0)).collect(),
        }
    }

    fn has_right_tail(&self, block: &[u8]) -> bool {
        let end = block.len() - 4;
        !self.has_checksums() || be_u32(block, end) == self.checksum_without(block, end)
    }

    fn is_whole_commit(&self, block: &[u8]) -> bool {
        !self.has_checksums() || be_u32(block, 16) == self.checksum_without(block, 16)
    }

    /// The checksum of a block, four bytes of which count as zero.
    fn checksum_without(&self, block: &[u8], at: usize) -> u32 {
        let before = checksum(self.seed, &block[..at]);
        checksum(checksum(before, &[0; 4]), &block[at + 4..])
    }
}

/// All transactions together.
#[derive(Default)]
struct Kept {
    /// The newest form of each block, and in which transaction it came.
    written: HashMap<u64, (u32, Moved)>,
    /// The last transaction that has taken a block back.
    revoked: HashMap<u64, u32>,
}

impl Kept {
    fn add(&mut self, sequence: u32, transaction: Transaction) {
        self.written.extend(transaction.written.into_iter().map(|(number, moved)| (number, (sequence, moved))));
        self.revoked.extend(transaction.revoked.into_iter().map(|number| (number, sequence)));
    }

    fn moved(self) -> HashMap<u64, Moved> {
        // Sequences go round.
        let is_after = |one: u32, other: u32| one.wrapping_sub(other).cast_signed() > 0;
        let counts =
            |number: &u64, sequence: u32| self.revoked.get(number).is_none_or(|revoked| is_after(sequence, *revoked));
        let kept = self.written.iter().filter(|(number, (sequence, _))| counts(number, *sequence));
        kept.map(|(number, (_, moved))| (*number, *moved)).collect()
    }
}
