//! What the journal says of a resize beside its header.

use serde::{Deserialize, Serialize};

use crate::bytes::index;
use crate::guest::Piece;
use crate::image::{Format, Space};
use crate::sidecar::{Payload, StoredRedo, Work};

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

/// Bytes for a place on the disk; zeros at their end are not written down.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct StoredPiece {
    at: u64,
    len: u64,
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_BYTES>")]
    bytes: Vec<u8>,
}

/// A partition that gets another size. In bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct StoredPartition {
    pub(super) number: u32,
    pub(super) before: u64,
    pub(super) after: u64,
}

impl StoredStep {
    pub(super) fn new(pieces: &[Piece]) -> Self {
        let stored = |(at, bytes): &Piece| {
            let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
            StoredPiece { at: *at, len: bytes.len() as u64, bytes: bytes[..end].to_vec() }
        };
        Self { pieces: pieces.iter().map(stored).collect() }
    }

    /// The bytes, with all their zeros.
    pub(super) fn pieces(&self) -> impl Iterator<Item = Piece> + '_ {
        self.pieces.iter().map(|piece| {
            let mut bytes = piece.bytes.clone();
            bytes.resize(index(piece.len.min(MOST_BYTES as u64)).max(bytes.len()), 0);
            (piece.at, bytes)
        })
    }
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
