//! A pin: the promise that an image never changes, and what proves that it did not.

use std::path::Path;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::finding::CompanionFinding;

/// The promise that an image never changes, and its digests. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Pin {
    /// The data identity at that time.
    pub(crate) identity: Option<Uuid>,
    /// The size that a guest sees.
    pub(crate) virtual_size: u64,
    /// The bytes that each digest covers; the last piece may be shorter.
    pub(crate) piece_size: u64,
    /// The digests of all pieces that are not zero, in runs of pieces that follow each other.
    pub(crate) runs: Vec<PinnedRun>,
    /// The digest of the digests of all pieces in order, those of zero pieces included.
    pub(crate) whole: Digest,
    /// When the file was last changed before that.
    #[serde(default)]
    pub(crate) modified: Option<Timestamp>,
    /// When the image was pinned.
    pub(crate) pinned: Timestamp,
    /// The version that did it.
    pub(crate) program: String,
    /// Whether pinning took the write permission away, so that unpinning gives it back.
    pub(crate) marked: bool,
}

/// Digests of pieces that follow each other.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct PinnedRun {
    /// The number of the first piece.
    pub(crate) first: u64,
    /// Their digests.
    pub(crate) digests: Vec<Digest>,
}

/// A BLAKE3 digest; in text its hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) struct Digest(pub(crate) [u8; 32]);

impl std::fmt::Display for Digest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(blake3::Hash::from(self.0).to_hex().as_str())
    }
}

impl std::fmt::Debug for Digest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        std::fmt::Display::fmt(self, f)
    }
}

impl Serialize for Digest {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.serialize_str(blake3::Hash::from(self.0).to_hex().as_str())
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        let hash = blake3::Hash::from_hex(text.as_bytes()).map_err(serde::de::Error::custom)?;
        Ok(Self(hash.into()))
    }
}

impl Pin {
    /// What a look asks of it.
    pub(crate) fn mark(&self) -> PinMark {
        PinMark { identity: self.identity, modified: self.modified }
    }
}

/// What a look at an image asks of its pin: not the digests, which are many megabytes for a large disk.
#[derive(Clone, Copy, Debug, Deserialize)]
pub(crate) struct PinMark {
    identity: Option<Uuid>,
    #[serde(default)]
    modified: Option<Timestamp>,
}

impl PinMark {
    /// Whether the image at `path`, which has this data identity now, may be another one than was pinned, as far as
    /// that shows without reading it. Until it is verified nobody knows what its children read.
    pub(crate) fn doubt(&self, path: &Path, data_identity: Option<Uuid>) -> Option<CompanionFinding> {
        if data_identity != self.identity {
            return Some(CompanionFinding::PinIdentity);
        }
        // Not compared with when it was pinned: a host's files keep a coarser time than its clock.
        let changed = modified(path).filter(|changed| Some(*changed) != self.modified)?;
        Some(CompanionFinding::PinTouched { changed })
    }
}

/// When a file was last changed.
pub(crate) fn modified(file: &Path) -> Option<Timestamp> {
    Timestamp::try_from(std::fs::metadata(file).and_then(|found| found.modified()).ok()?).ok()
}
