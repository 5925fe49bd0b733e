//! What the journal says of a resize beside its header.

use serde::{Deserialize, Serialize};

use crate::bytes::index;
use crate::chain::Disk;
use crate::error::Result;
use crate::guest::Piece;
use crate::image::{Format, Space};
use crate::sidecar::{Payload, RedoPiece, StoredRedo, Work};

/// Of more nothing is made: a table has a few hundred KiB.
const MOST_STEPS: usize = 64;
const MOST_PIECES: usize = 16;
const MOST_BYTES: usize = 1 << 20;

/// A disk that gets another size.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct ResizeRecord {
    pub(super) format: Format,
    /// Sizes of the disk.
    pub(super) from: u64,
    pub(super) to: u64,
    /// How a fixed disk gets its new space.
    pub(super) space: Space,
    /// What its partition table becomes, step by step.
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_STEPS>")]
    pub(super) table: Vec<StoredStep>,
    /// The partition that gets another size with it, and what is said of that.
    pub(super) partition: Option<StoredPartition>,
    /// What its file system becomes.
    pub(super) volume: Option<StoredRedo>,
}

/// What is durable before the next step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct StoredStep {
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_PIECES>")]
    pieces: Vec<StoredPiece>,
}

/// Bytes for a place on the disk, and those that stood there; zeros at their ends are not written down.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct StoredPiece {
    at: u64,
    len: u64,
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_BYTES>")]
    new: Vec<u8>,
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_BYTES>")]
    old: Vec<u8>,
}

/// A partition that gets another size. In bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct StoredPartition {
    pub(super) number: u32,
    pub(super) before: u64,
    pub(super) after: u64,
}

impl StoredStep {
    /// The bytes of a step, in the place of what the disk holds there.
    pub(super) fn new(pieces: &[Piece], disk: &dyn Disk) -> Result<Self> {
        let shortened = |bytes: &[u8]| {
            let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
            bytes[..end].to_vec()
        };
        let stored = |(at, bytes): &Piece| {
            let mut old = vec![0; bytes.len()];
            read_or_zeros(disk, &mut old, *at)?;
            let (new, old) = (shortened(bytes), shortened(&old));
            Ok(StoredPiece { at: *at, len: bytes.len() as u64, new, old })
        };
        Ok(Self { pieces: pieces.iter().map(stored).collect::<Result<_>>()? })
    }

    /// The bytes, with all their zeros.
    pub(super) fn pieces(&self) -> impl Iterator<Item = RedoPiece> + '_ {
        self.pieces.iter().map(|piece| {
            let whole = |bytes: &Vec<u8>| {
                let mut bytes = bytes.clone();
                bytes.resize(index(piece.len.min(MOST_BYTES as u64)), 0);
                bytes
            };
            RedoPiece { offset: piece.at, new: whole(&piece.new), old: whole(&piece.old) }
        })
    }
}

/// What a disk holds, zeros behind its end.
pub(super) fn read_or_zeros(disk: &dyn Disk, buffer: &mut [u8], at: u64) -> Result<()> {
    let there = (disk.virtual_size().saturating_sub(at)).min(buffer.len() as u64) as usize;
    let (first, rest) = buffer.split_at_mut(there);
    rest.fill(0);
    if first.is_empty() { Ok(()) } else { disk.read_at(first, at) }
}

/// How far it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum ResizeMark {
    /// All that is written from here on has its room, and from here on content changes.
    Changing,
    /// All is in its place.
    Done,
}

impl Payload for ResizeRecord {
    type Mark = ResizeMark;

    fn work(&self) -> Work {
        Work::Resize
    }
}
