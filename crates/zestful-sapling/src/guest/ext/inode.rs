//! Inodes: what a file is, how long, since when, and where its map begins.

use jiff::Timestamp;

use super::checksum;
use super::superblock::{Superblock, needed};
use crate::bytes::{le_u16, le_u32};
use crate::guest::trouble::Trouble;

/// Of the form that every inode has.
const OLD_LEN: usize = 128;
const BLOCKS: std::ops::Range<usize> = 40..100;
const FLAG_COMPRESSED: u32 = 0x4;
const FLAG_ENCRYPTED: u32 = 0x800;
/// A folder whose names are ordered by a tree.
const FLAG_INDEX: u32 = 0x1000;
const FLAG_EXTENTS: u32 = 0x8_0000;
const FLAG_INLINE: u32 = 0x1000_0000;
/// In an inode, behind its fields: the mark of its attributes.
const ATTRIBUTES: u32 = 0xEA02_0000;
/// The attribute that holds what does not fit into the place of the map.
const INLINE_ATTRIBUTE: (u8, &[u8]) = (7, b"data");

/// What a file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::guest) enum InodeKind {
    File,
    Folder,
    Link,
    /// A device, a pipe, a socket.
    Other,
}

/// An inode, checked.
#[derive(Clone, Debug)]
pub(in crate::guest) struct Inode {
    pub(in crate::guest) kind: InodeKind,
    /// The lower nine bits of its mode.
    pub(in crate::guest) permissions: u16,
    pub(in crate::guest) size: u64,
    /// How many names it has; none when it was deleted.
    pub(super) links: u16,
    pub(in crate::guest) modified: Option<Timestamp>,
    /// What it takes, in bytes.
    pub(in crate::guest) allocated: u64,
    /// The file's own part of the checksums of what belongs to it.
    pub(super) seed: u32,
    pub(super) has_extents: bool,
    pub(super) map: [u8; 60],
    /// The block with further attributes; zero when there is none.
    pub(super) attributes: u64,
    /// The file itself, where it lies in the inode.
    pub(super) inline: Option<Vec<u8>>,
    pub(super) has_index: bool,
    pub(super) is_encrypted: bool,
    pub(super) is_compressed: bool,
}

impl Inode {
    /// From its bytes, of which there are as many as the superblock says.
    pub(super) fn parse(superblock: &Superblock, number: u32, bytes: &[u8]) -> Result<Self, Trouble> {
        let damaged = |what: &str| Err(Trouble::Damaged(format!("inode {number} {what}")));
        let extra = if bytes.len() > OLD_LEN { usize::from(le_u16(bytes, 128)) } else { 0 };
        if extra % 4 != 0 || OLD_LEN + extra > bytes.len() {
            return damaged("contradicts itself");
        }
        let generation = le_u32(bytes, 100);
        let seed = checksum(checksum(superblock.seed, &number.to_le_bytes()), &generation.to_le_bytes());
        if superblock.has_checksums && !has_right_checksum(seed, bytes, extra) {
            return damaged("does not match its checksum");
        }
        let (mode, flags) = (le_u16(bytes, 0), le_u32(bytes, 32));
        let kind = match mode >> 12 {
            0x8 => InodeKind::File,
            0x4 => InodeKind::Folder,
            0xA => InodeKind::Link,
            0x1 | 0x2 | 0x6 | 0xC => InodeKind::Other,
            _ => return damaged("is of no known kind"),
        };
        let size = u64::from(le_u32(bytes, 4)) | u64::from(le_u32(bytes, 108)) << 32;
        let map: [u8; 60] = crate::bytes::array(bytes, BLOCKS.start);
        let short_link = kind == InodeKind::Link && size < 60 && flags & (FLAG_EXTENTS | FLAG_INLINE) == 0;
        // A link of less than 60 bytes whose place was allocated is one of another time.
        let inline = if short_link && le_u32(bytes, 28) == 0 {
            Some(map.to_vec())
        } else if flags & FLAG_INLINE != 0 && superblock.needed & needed::INLINE_DATA != 0 {
            Some([&map[..], inline_attribute(bytes, OLD_LEN + extra)].concat())
        } else {
            None
        };
        // Beyond this no block has a number.
        if size > superblock.block << 32 {
            return damaged("is of a size that no file has");
        }
        Ok(Self {
            kind,
            permissions: mode & 0o777,
            size,
            links: le_u16(bytes, 26),
            modified: time(bytes, extra),
            allocated: (u64::from(le_u32(bytes, 28)) | u64::from(le_u16(bytes, 116)) << 32).saturating_mul(512),
            seed,
            has_extents: flags & FLAG_EXTENTS != 0,
            map,
            attributes: u64::from(le_u32(bytes, 104))
                | if superblock.needed & needed::WIDE != 0 { u64::from(le_u16(bytes, 118)) << 32 } else { 0 },
            inline,
            has_index: flags & FLAG_INDEX != 0,
            is_encrypted: flags & FLAG_ENCRYPTED != 0,
            is_compressed: flags & FLAG_COMPRESSED != 0,
        })
    }
}

impl Inode {
    /// What lies in the inode itself, if the file does.
    pub(in crate::guest) fn inline(&self) -> Option<&[u8]> {
        self.inline.as_deref()
    }

    /// Where its map begins, and what lies in the inode itself.
    pub(in crate::guest) fn mapping(&self) -> Vec<u8> {
        [&self.map[..], self.inline().unwrap_or_default()].concat()
    }

    /// Of what is kept in another form nothing is given out.
    pub(in crate::guest) fn refuse_unreadable(&self) -> Result<(), Trouble> {
        match (self.is_encrypted, self.is_compressed) {
            (true, _) => Err(Trouble::Unsupported("it is encrypted".to_owned())),
            (_, true) => Err(Trouble::Unsupported("it is compressed".to_owned())),
            _ => Ok(()),
        }
    }
}

fn has_right_checksum(seed: u32, bytes: &[u8], extra: usize) -> bool {
    let has_upper = extra >= 4;
    let mut copy = bytes.to_vec();
    copy[124..126].fill(0);
    if has_upper {
        copy[130..132].fill(0);
    }
    let found = checksum(seed, &copy);
    let upper = if has_upper { u32::from(le_u16(bytes, 130)) << 16 } else { found & 0xFFFF_0000 };
    found == upper | u32::from(le_u16(bytes, 124))
}

fn time(bytes: &[u8], extra: usize) -> Option<Timestamp> {
    let seconds = i64::from(le_u32(bytes, 16).cast_signed());
    // Two bits more for the seconds, and thirty for the rest.
    let more = if extra >= 12 { le_u32(bytes, 136) } else { 0 };
    let seconds = seconds + (i64::from(more & 3) << 32);
    Timestamp::new(seconds, (more >> 2).cast_signed()).ok()
}

/// What of an inline file lies among the attributes of its inode; nothing when there is none, or where it cannot be.
fn inline_attribute(bytes: &[u8], at: usize) -> &[u8] {
    let Some(attributes) = bytes.get(at..).filter(|rest| rest.len() >= 4 && le_u32(rest, 0) == ATTRIBUTES) else {
        return &[];
    };
    let entries = &attributes[4..];
    let mut at = 0;
    while let Some(entry) = entries.get(at..at + 16).filter(|entry| le_u32(entry, 0) != 0) {
        let (name_len, index, len) = (usize::from(entry[0]), entry[1], le_u32(entry, 8) as usize);
        let name = entries.get(at + 16..at + 16 + name_len);
        if index == INLINE_ATTRIBUTE.0 && name == Some(INLINE_ATTRIBUTE.1) {
            let start = usize::from(le_u16(entry, 2));
            return start.checked_add(len).and_then(|end| entries.get(start..end)).unwrap_or_default();
        }
        at += (16 + name_len).next_multiple_of(4);
    }
    &[]
}
