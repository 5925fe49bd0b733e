//! Folders: lists of names, block by block. What orders them for quick lookups is passed over.

use super::superblock::needed;
use super::volume::ExtVolume;
use super::{Inode, InodeKind, checksum};
use crate::bytes::{le_u16, le_u32};
use crate::guest::trouble::Trouble;

const HEADER: usize = 8;
/// An entry without a file at the end of a block, which holds its checksum.
const TAIL: usize = 12;
const TAIL_MARK: u8 = 0xDE;

/// What a name says of its file.
pub(in crate::guest) type FileType = Option<InodeKind>;

/// Takes the names of a block; `false` when no more are wanted.
pub(in crate::guest) type VisitNames<'a> = dyn FnMut(&mut ExtVolume, Vec<NamedInode>) -> Result<bool, Trouble> + 'a;

/// A name in a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::guest) struct NamedInode {
    pub(in crate::guest) name: Vec<u8>,
    pub(in crate::guest) inode: u32,
    /// What the name says that it is; the inode knows better.
    pub(in crate::guest) kind: FileType,
}

impl ExtVolume {
    /// The names in a folder, a block at a time; those of the folder itself and of the one above it are left out. A
    /// damaged block does not keep those behind it from being read; the first damage is told at the end.
    pub(in crate::guest) fn names(&mut self, folder: &Inode, visit: &mut VisitNames<'_>) -> Result<(), Trouble> {
        if folder.kind != InodeKind::Folder {
            return Err(Trouble::Damaged("it is no folder".to_owned()));
        }
        if folder.is_encrypted {
            return Err(Trouble::Unsupported("the names in it are encrypted".to_owned()));
        }
        let has_types = self.superblock().needed & needed::FILE_TYPE != 0;
        if let Some(inline) = &folder.inline {
            let len = inline.len().min(folder.size as usize);
            // In the place of its own name and that of the folder above stands the number of that.
            let parts = [inline.get(4..60.min(len)), inline.get(60..len)];
            for part in parts.into_iter().flatten() {
                let (found, wrong) = entries(part, has_types);
                if !visit(self, found)? {
                    return Ok(());
                }
                wrong.map_or(Ok(()), Err)?;
            }
            return Ok(());
        }
        let unit = self.block_len();
        let (last, mut first_wrong, mut is_over) = (folder.size.div_ceil(unit), None, false);
        let walked = self.runs(folder, &mut |volume, run| {
            let blocks = run.block..run.block + run.count.min(last.saturating_sub(run.file_block));
            for (number, file_block) in blocks.zip(run.file_block..) {
                if is_over {
                    return Ok(());
                }
                let block = volume.block(number)?;
                let (found, mut wrong) = entries(&block, has_types);
                let is_of_index = folder.has_index && (file_block == 0 || is_index_node(&block));
                if volume.superblock().has_checksums && !is_of_index && !has_right_tail(folder.seed, &block) {
                    let what = format!("block {number} of a folder does not match its checksum");
                    wrong = wrong.or(Some(Trouble::Damaged(what)));
                }
                first_wrong = first_wrong.take().or(wrong);
                is_over = !visit(volume, found)?;
            }
            Ok(())
        });
        if is_over {
            return Ok(());
        }
        walked?;
        first_wrong.map_or(Ok(()), Err)
    }
}

/// Blocks of the tree that orders the names have a tail of another form, behind which one of this form may have been
/// left over. The first block is always one of them; others show one entry without a file.
fn is_index_node(block: &[u8]) -> bool {
    let len = usize::from(le_u16(block, 4));
    le_u32(block, 0) == 0 && (len == block.len() || block.len() >= 1 << 16 && matches!(len, 0 | 0xFFFF))
}

fn has_right_tail(seed: u32, block: &[u8]) -> bool {
    let (body, tail) = block.split_at(block.len() - TAIL);
    let is_tail = le_u32(tail, 0) == 0 && le_u16(tail, 4) == TAIL as u16 && tail[7] == TAIL_MARK;
    !is_tail || le_u32(tail, 8) == checksum(seed, body)
}

/// The names in a block: all whose place is told, up to the first length that cannot be; and what was wrong first.
fn entries(block: &[u8], has_types: bool) -> (Vec<NamedInode>, Option<Trouble>) {
    let (mut at, mut found, mut first_wrong) = (0, Vec::new(), None);
    let wrong = |what: &str| Some(Trouble::Damaged(format!("a name in a folder {what}")));
    while at < block.len() {
        let Some(header) = block.get(at..at + HEADER) else { return (found, first_wrong.or(wrong("is cut off"))) };
        // Lengths that do not fit into sixteen bits have their upper bits below.
        let len = match usize::from(le_u16(header, 4)) {
            0 | 0xFFFF if block.len() >= 1 << 16 => block.len(),
            len => len & 0xFFFC | (len & 3) << 16,
        };
        let (name_len, kind) = match has_types {
            true => (usize::from(header[6]), kind_of(header[7])),
            false => (usize::from(le_u16(header, 6)), None),
        };
        if len < HEADER || at + len > block.len() {
            return (found, first_wrong.or(wrong("is of a length that cannot be")));
        }
        let (inode, name) = (le_u32(header, 0), block[at..at + len].get(HEADER..HEADER + name_len).unwrap_or_default());
        match name {
            _ if inode == 0 => {}
            b"." | b".." => {}
            name if name.is_empty() || name.contains(&0) => first_wrong = first_wrong.or(wrong("is none")),
            name => found.push(NamedInode { name: name.to_vec(), inode, kind }),
        }
        at += len;
    }
    (found, first_wrong)
}

fn kind_of(file_type: u8) -> FileType {
    match file_type {
        1 => Some(InodeKind::File),
        2 => Some(InodeKind::Folder),
        7 => Some(InodeKind::Link),
        3..=6 => Some(InodeKind::Other),
        _ => None,
    }
}
