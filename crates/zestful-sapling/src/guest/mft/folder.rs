//! Folders: a tree of names. All of its blocks that are in use are gone over, whatever order the tree gives them.

use super::record::{BITS, FileName, INDEX_BLOCKS, INDEX_ROOT, Record, Reference, mend_strides};
use super::table::Mft;
use crate::bytes::{index, le_u16, le_u32, le_u64};
use crate::guest::trouble::Trouble;

/// The name of the attributes that a folder's names stand in: `$I30`.
const NAMES: &[u8] = b"$\0I\x003\x000\0";
/// Where the list of entries begins: in the attribute, and in a block.
const IN_ROOT: usize = 16;
const IN_BLOCK: usize = 24;
const LAST: u16 = 0x2;
/// More blocks than any folder has.
const MOST_BLOCKS: u64 = 1 << 23;

/// A name in a folder, and the file that it leads to.
pub(in crate::guest) struct NamedRecord {
    pub(in crate::guest) name: Vec<u8>,
    pub(in crate::guest) file: Reference,
    pub(in crate::guest) is_folder: bool,
}

/// Takes the names of a block; `false` when no more are wanted.
pub(in crate::guest) type VisitNames<'a> = dyn FnMut(&mut Mft, Vec<NamedRecord>) -> Result<bool, Trouble> + 'a;

fn damaged<T>(what: impl Into<String>) -> Result<T, Trouble> {
    Err(Trouble::Damaged(what.into()))
}

impl Mft {
    /// The names in a folder, a block at a time; those that stand beside a longer one are left out. A damaged block
    /// does not keep those behind it from being read; the first damage is told at the end.
    pub(in crate::guest) fn names(
        &mut self,
        number: u64,
        record: &Record,
        visit: &mut VisitNames<'_>,
    ) -> Result<(), Trouble> {
        let Some(root) = self.value(number, record, INDEX_ROOT, NAMES)? else { return damaged("it is no folder") };
        let mut bytes = vec![0; index(root.len.min(64 << 10))];
        self.read_value(&root, &mut bytes, 0)?;
        if bytes.len() < IN_ROOT + 16 {
            return damaged("a list of names is cut off");
        }
        let block_len = u64::from(le_u32(&bytes, 8));
        let (found, mut first_wrong) = entries(&bytes[IN_ROOT..]);
        if !visit(self, found)? {
            return Ok(());
        }
        if let Some(blocks) = self.value(number, record, INDEX_BLOCKS, NAMES)? {
            if !block_len.is_power_of_two() || !(512..=64 << 10).contains(&block_len) {
                return damaged("the blocks of a list of names are of a length that cannot be");
            }
            let Some(in_use) = self.value(number, record, BITS, NAMES)? else {
                return damaged("nothing tells which blocks of a list of names are in use");
            };
            let count = (blocks.len / block_len).min(in_use.len.saturating_mul(8)).min(MOST_BLOCKS);
            let mut bits = vec![0; index(count.div_ceil(8))];
            self.read_value(&in_use, &mut bits, 0)?;
            for block in (0..count).filter(|block| bits[index(block / 8)] & 1 << (block % 8) != 0) {
                let mut bytes = vec![0; index(block_len)];
                self.read_value(&blocks, &mut bytes, block * block_len)?;
                if !bytes.starts_with(b"INDX") || !mend_strides(&mut bytes) {
                    first_wrong =
                        first_wrong.or(Some(format!("block {block} of a list of names is none, or only in part")));
                    continue;
                }
                let (found, wrong) = entries(&bytes[IN_BLOCK..]);
                first_wrong = first_wrong.or(wrong);
                if !visit(self, found)? {
                    return Ok(());
                }
            }
        }
        first_wrong.map_or(Ok(()), damaged)
    }
}

/// The names in a list, up to the first that cannot be, which is told.
fn entries(list: &[u8]) -> (Vec<NamedRecord>, Option<String>) {
    let (start, end) = (le_u32(list, 0) as usize, (le_u32(list, 4) as usize).min(list.len()));
    let (mut at, mut found) = (start, Vec::new());
    loop {
        let Some(entry) = list.get(at..end).filter(|entry| entry.len() >= 16) else {
            return (found, Some("a list of names has no end".to_owned()));
        };
        let (len, key_len) = (usize::from(le_u16(entry, 8)), usize::from(le_u16(entry, 10)));
        if le_u16(entry, 12) & LAST != 0 {
            return (found, None);
        }
        if len < 16 + key_len || !len.is_multiple_of(8) || len > entry.len() {
            return (found, Some("a name in a folder is of a length that cannot be".to_owned()));
        }
        match FileName::parse(&entry[16..16 + key_len]) {
            None => return (found, Some("a name in a folder is cut off".to_owned())),
            Some(name) if name.is_short => {}
            Some(name) => {
                let file = Reference::of(le_u64(entry, 0));
                found.push(NamedRecord { name: name.name, file, is_folder: name.is_folder });
            }
        }
        at += len;
    }
}
