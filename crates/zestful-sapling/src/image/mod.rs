//! One image file, of whatever format: what it says of itself, where its ranges come from, reads and writes.

#![cfg_attr(not(test), deny(clippy::as_conversions, clippy::arithmetic_side_effects))]

mod bounds;
mod commits;
mod mend;
mod mended;
mod moving;
mod open;
mod parts;
pub mod pieces;
mod placement;
mod probe;
mod raw;
mod renewable;
pub mod vhd;
pub mod vhdx;
mod visitors;
mod writable;

use std::ops::Range;
use std::path::Path;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::bytes::{index, is_zero, wide};
use crate::error::Result;
use crate::finding::Finding;
use crate::storage::ReadAt;

pub(crate) use bounds::{check_growth, check_range, check_shrinking};
pub(crate) use mend::{doubt_of_unreadable, mend};
pub(crate) use mended::{Mended, counted};
pub(crate) use open::{
    Place, data_identity_at, is_single_file, open_place, open_place_at_once, open_place_mut, open_unlocked, recognise,
};
pub use open::{open_image, open_image_mut};
pub use placement::{Arrangement, Placement};
pub use probe::{check_ending, format_of_name, probe};
pub(crate) use raw::check_resizable;
pub use raw::{RawImage, RawImageMut};
pub use visitors::Visit;
pub(crate) use writable::no_parent;
pub use writable::{ImageMut, Syncer};

/// The on-disk layout of an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Format {
    /// The disk's bytes and nothing else.
    Raw,
    /// VHD, specification version 1.0.
    Vhd,
    /// VHDX, specification version 1.
    Vhdx,
}

impl std::fmt::Display for Format {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Format::Raw => "raw",
            Format::Vhd => "vhd",
            Format::Vhdx => "vhdx",
        })
    }
}

/// How an image takes its space.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// All space is laid out at once.
    Fixed,
    /// It grows as data is written.
    Dynamic,
    /// It holds only what differs from its parent.
    Differencing,
}

impl std::fmt::Display for Kind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Kind::Fixed => "fixed",
            Kind::Dynamic => "dynamic",
            Kind::Differencing => "differencing",
        })
    }
}

/// How a fixed disk takes its space from the host.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Space {
    /// Every byte is written, so that nothing old can be read through whatever the host does.
    Written,
    /// The host sets the space aside at once; it reads as zero.
    Reserved,
    /// Nothing is set aside; the host may run full later.
    Sparse,
}

impl std::fmt::Display for Space {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Space::Written => "every byte written",
            Space::Reserved => "its space reserved",
            Space::Sparse => "its space not claimed from the host",
        })
    }
}

/// What an image says of itself. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ImageInfo {
    /// The on-disk layout.
    pub format: Format,
    /// How it takes its space.
    pub kind: Kind,
    /// The size that a guest sees.
    pub virtual_size: u64,
    /// The unit of allocation; `None` where a format has none.
    pub block_size: Option<u64>,
    /// The smallest unit a guest addresses.
    pub logical_sector: u32,
    /// The unit the disk claims to write in.
    pub physical_sector: u32,
    /// Identifies the disk to a guest; the same along a chain.
    pub identity: Option<Uuid>,
    /// Identifies the content; children record it, and it changes with the first write of each session.
    pub data_identity: Option<Uuid>,
    /// When the image was made, in the format's own count; children of a VHD image record it.
    pub time_stamp: Option<u32>,
    /// The parent, for a differencing image.
    pub parent: Option<ParentReference>,
    /// Whether changes wait in the log, to be replayed by the next writer.
    pub log_pending: bool,
    /// Whether a suspended machine goes on from this very content; only a VHD says so.
    pub saved_state: bool,
}

impl ImageInfo {
    /// The most bytes that a file which takes `allocated` on the host can still grow by, whatever the kind of the
    /// image: of a fixed disk, too, the host may have given only what was written. Tables and bitmaps are left out.
    pub fn most_growth(&self, allocated: u64) -> u64 {
        self.virtual_size.saturating_sub(allocated)
    }
}

/// How a child knows its parent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ParentReference {
    /// The data identities that the parent may have.
    pub accepted: Vec<Uuid>,
    /// The recorded paths in the order in which they are tried.
    pub paths: Vec<RecordedPath>,
    /// The parent's time stamp, where the format records it; it may change when a file is copied.
    pub time_stamp: Option<u32>,
}

impl ParentReference {
    /// Whether a text speaks of this parent: one of its identities, or a path that ends in its name. That is what the
    /// paths under the keys `ours` end in, or, without those, any of its paths.
    pub(crate) fn is_named_in(&self, text: &str, ours: &[&str]) -> bool {
        let name = |path: &str| path.rsplit(['\\', '/']).next().unwrap_or_default().to_lowercase();
        let is_ours = |path: &&RecordedPath| ours.contains(&path.key);
        let any = !self.paths.iter().any(|path| is_ours(&path));
        let mut names = self.paths.iter().filter(|path| any || is_ours(path)).map(|path| name(&path.text));
        names.any(|own| !own.is_empty() && own == name(text))
            || Uuid::parse_str(text).is_ok_and(|id| self.accepted.contains(&id))
    }
}

/// What a child is to record of its parent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ParentRecord {
    /// The parent's data identity.
    pub identity: Uuid,
    /// Another that it may have as well, while it is about to change; left out where the format has no room for it.
    pub also: Option<Uuid>,
    /// The parent's time stamp, where its format has one.
    pub time_stamp: Option<u32>,
    /// Its file name.
    pub name: String,
    /// Its path from the child's folder, with backslashes.
    pub relative: String,
    /// Its path on this host, with backslashes, where that is to be recorded, too.
    pub absolute: Option<String>,
}

/// How many blocks of an image are in which state.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct BlockCounts {
    /// All blocks.
    pub total: u64,
    /// Wholly in this file.
    pub full: u64,
    /// In this file, but some of their sectors may come from the parent.
    pub partial: u64,
    /// Explicitly zero.
    pub zero: u64,
    /// Given back by the guest, or never defined.
    pub unmapped: u64,
}

/// A parent's path as a child records it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RecordedPath {
    /// The name of the record in the format's specification.
    pub key: &'static str,
    /// The path as recorded.
    pub text: String,
}

/// Where the bytes of a range come from, as far as one image knows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Source {
    /// They stand in the image's file, from this byte on.
    Data(u64),
    /// They read as zero, whatever any parent holds.
    Zero,
    /// The parent has them.
    Parent,
}

/// A range of a disk that comes from one source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Extent {
    /// Its length in bytes, never zero.
    pub len: u64,
    /// Where it comes from.
    pub source: Source,
}

/// An open image, alone, without its parents. There is no way to write through it.
pub trait Image: Send + Sync {
    /// The bytes of the image's own file.
    fn storage(&self) -> &dyn ReadAt;

    /// The file.
    fn path(&self) -> &Path {
        self.storage().path()
    }

    /// What the image says of itself.
    fn info(&self) -> &ImageInfo;

    /// Where the bytes from `offset` on come from; the answer covers at least one byte and at most `len`.
    ///
    /// The range must lie inside the virtual size.
    ///
    /// # Errors
    /// `Damaged` when the entry of the table that covers the range is not sound; `Io`.
    fn extent_at(&self, offset: u64, len: u64) -> Result<Extent>;

    /// Reads from the image's own file, at a place that [`Image::extent_at`] named.
    ///
    /// # Errors
    /// `Io`.
    fn read_data(&self, buffer: &mut [u8], at: u64) -> Result<()> {
        self.storage().read_at(buffer, at)
    }

    /// The first part of the `len` bytes at `at` in the image's own file that is no hole of the host's, and so may
    /// hold anything but zeros; empty, at the end of the range, when there is none.
    ///
    /// # Errors
    /// `Io`.
    fn host_data(&self, at: u64, len: u64) -> Result<Range<u64>> {
        data_in(self.storage(), at, len)
    }

    /// How the blocks of the image stand in its file; `None` when it has none that could stand elsewhere, or its table
    /// would have to be read and takes more than `most` bytes. How long the file would be when its gaps are filled is
    /// found out where `pack` asks for it, which takes memory for each block; otherwise it is told as it is.
    ///
    /// # Errors
    /// `Io`.
    fn placement(&self, most: u64, pack: bool) -> Result<Option<Placement>> {
        _ = (most, pack);
        Ok(None)
    }

    /// Rules of the format that the image breaks without its content being in doubt.
    fn warnings(&self) -> &[Finding] {
        &[]
    }
}

/// The first part of a range of the storage that is no hole, as [`Image::host_data`] tells it.
pub(crate) fn data_in(storage: &dyn ReadAt, at: u64, len: u64) -> Result<Range<u64>> {
    let end = at.saturating_add(len);
    Ok(match storage.next_data(at)? {
        Some(data) if data.start < end => data.start.max(at)..data.end.min(end),
        _ => end..end,
    })
}

/// Calls `act` with each part of a range of a disk that an image's own file holds: where it begins on the disk, where
/// in the file, and its length.
pub(crate) fn for_each_held(
    image: &dyn Image,
    range: Range<u64>,
    act: &mut dyn FnMut(u64, u64, u64) -> Result<()>,
) -> Result<()> {
    let mut at = range.start;
    while at < range.end {
        let extent = image.extent_at(at, range.end.saturating_sub(at))?;
        if let Source::Data(place) = extent.source {
            act(at, place, extent.len)?;
        }
        at = at.saturating_add(extent.len);
    }
    Ok(())
}

/// Whether a range of the storage holds nothing but zeros; holes are not read.
pub(crate) fn reads_zero(storage: &dyn ReadAt, from: u64, len: u64) -> Result<bool> {
    let mut buffer = vec![0; index(len.min(64 << 10))];
    let (mut at, end) = (from, from.saturating_add(len));
    while at < end {
        let data = data_in(storage, at, end.saturating_sub(at))?;
        let step = data.end.saturating_sub(data.start).min(wide(buffer.len()));
        let part = &mut buffer[..index(step)];
        storage.read_at(part, data.start)?;
        if !is_zero(part) {
            return Ok(false);
        }
        at = data.start.saturating_add(step);
    }
    Ok(true)
}
