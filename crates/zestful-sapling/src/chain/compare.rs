//! Two disks side by side: which ranges they have from different places, told from tables alone.

use std::os::unix::fs::MetadataExt;
use std::path::Path;

use super::walk::{Origin, Walk, WalkPart};
use super::{Chain, Disk, OpenOptions};
use crate::bytes::{index, wide};
use crate::error::{Error, Result};
use crate::image::Image;
use crate::storage::HostIdentity;

/// One of the disks: a chain, or nothing but zeros; zero past its end.
pub(crate) struct DiskSide {
    chain: Option<Chain>,
    /// Each layer's file.
    files: Vec<HostIdentity>,
}

impl DiskSide {
    /// The disk at `path`, opened for reading.
    ///
    /// # Errors
    /// As [`Chain::open`].
    pub(crate) fn open(path: &Path) -> Result<Self> {
        Self::of(Chain::open(path, &OpenOptions::new())?)
    }

    pub(crate) fn of(chain: Chain) -> Result<Self> {
        let identity = |layer: &dyn Image| {
            let found = std::fs::metadata(layer.path()).map_err(|e| Error::io("look up", layer.path(), e))?;
            Ok((found.dev(), found.ino()))
        };
        let files = chain.layers().iter().map(|layer| identity(&**layer)).collect::<Result<_>>()?;
        Ok(Self { chain: Some(chain), files })
    }

    /// Zeros, however far one looks.
    pub(crate) fn nothing() -> Self {
        Self { chain: None, files: Vec::new() }
    }

    pub(crate) fn chain(&self) -> Option<&Chain> {
        self.chain.as_ref()
    }

    pub(crate) fn virtual_size(&self) -> u64 {
        self.chain.as_ref().map_or(0, Chain::virtual_size)
    }

    /// Reads any range; past the end there are zeros.
    pub(crate) fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let room = index(self.virtual_size().saturating_sub(offset).min(wide(buffer.len())));
        let (inside, past) = buffer.split_at_mut(room);
        past.fill(0);
        match &self.chain {
            Some(chain) if !inside.is_empty() => chain.read_at(inside, offset),
            _ => Ok(()),
        }
    }
}

/// A range in which each side has its bytes from one place.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ComparedRange {
    pub(crate) offset: u64,
    pub(crate) len: u64,
    /// Whether the places are different ones, so that the bytes may be.
    pub(crate) differs: bool,
    /// Where the first side has them.
    pub(crate) one: Origin,
}

/// A walk over both disks at once. Layers that both of them share are not asked: what comes from there is the same.
pub(crate) struct Comparison<'a> {
    sides: [SideWalk<'a>; 2],
    offset: u64,
    end: u64,
}

impl<'a> Comparison<'a> {
    pub(crate) fn new(one: &'a DiskSide, other: &'a DiskSide, range: std::ops::Range<u64>) -> Self {
        let shared = one.files.iter().rev().zip(other.files.iter().rev());
        let shared = shared.take_while(|(one, other)| one == other).count();
        let walk = |side: &'a DiskSide| SideWalk {
            walk: side
                .chain
                .as_ref()
                .map(|chain| Walk::new(chain, side.files.len().saturating_sub(shared)).from(range.start)),
            files: &side.files,
            part: None,
        };
        Self { sides: [walk(one), walk(other)], offset: range.start, end: range.end }
    }

    /// Goes on with this range, which lies behind all that came before.
    pub(crate) fn skip_to(&mut self, range: std::ops::Range<u64>) {
        (self.offset, self.end) = (range.start, range.end);
    }

    /// The next range, or `None` at the end.
    pub(crate) fn next(&mut self) -> Result<Option<ComparedRange>> {
        self.next_within(u64::MAX)
    }

    /// The same, of at most so many bytes.
    pub(crate) fn next_within(&mut self, most: u64) -> Result<Option<ComparedRange>> {
        let offset = self.offset;
        if offset >= self.end {
            return Ok(None);
        }
        let [first, second] = &mut self.sides;
        let (one, one_end) = first.at(offset, self.end)?;
        let (other, other_end) = second.at(offset, self.end)?;
        self.offset = one_end.min(other_end).min(self.end).min(offset.saturating_add(most));
        let differs = match (one, other) {
            (Origin::Data(one_layer, one_at), Origin::Data(other_layer, other_at)) => {
                (first.files[one_layer], one_at) != (second.files[other_layer], other_at)
            }
            _ => one != other,
        };
        Ok(Some(ComparedRange { offset, len: self.offset.saturating_sub(offset), differs, one }))
    }
}

struct SideWalk<'a> {
    walk: Option<Walk<'a>>,
    files: &'a [HostIdentity],
    part: Option<WalkPart>,
}

impl SideWalk<'_> {
    /// Where the byte at `offset` comes from, and up to where that holds; offsets rise from call to call.
    fn at(&mut self, offset: u64, end: u64) -> Result<(Origin, u64)> {
        loop {
            if let Some(part) = self.part.filter(|part| part.end() > offset) {
                let before = offset.saturating_sub(part.offset);
                let origin = match part.origin {
                    Origin::Data(layer, at) => Origin::Data(layer, at.saturating_add(before)),
                    other => other,
                };
                return Ok((origin, part.end()));
            }
            let next = match &mut self.walk {
                Some(walk) => {
                    walk.skip_to(offset);
                    walk.next()?
                }
                None => None,
            };
            match next {
                Some(part) => self.part = Some(part),
                // Past the end of the disk.
                None => return Ok((Origin::Zero, end)),
            }
        }
    }
}
