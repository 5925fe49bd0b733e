//! Where two disks differ.

use std::ops::Range;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::chain::{Chain, Disk, OpenOptions, Origin, Walk, WalkPart};
use crate::error::Result;
use crate::image::Image;
use crate::progress::Progress;

/// Content is compared in units of this.
const SECTOR: usize = 512;
const CHUNK: u64 = 1 << 20;

/// Two disks to be compared: any two images, or two layers of one chain.
#[derive(Clone, Debug)]
pub struct Diff {
    one: PathBuf,
    other: PathBuf,
    contents: bool,
}

/// Where they differ. Sizes and places are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// The ranges that differ, or may differ, in order; what lies past the end of the smaller disk counts as zero there.
    pub differ: Vec<DiffRange>,
    /// Their sum.
    pub bytes: u64,
    /// The size of the larger disk.
    pub virtual_size: u64,
    /// Whether both have the same size.
    pub same_size: bool,
    /// Whether contents were compared; otherwise the ranges are those that tables cannot tell to be the same.
    pub compared: bool,
}

/// One range.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct DiffRange {
    /// The first byte.
    pub offset: u64,
    /// How many.
    pub length: u64,
}

impl Diff {
    /// The disks that these two images are the current ones of.
    ///
    /// ```
    /// use zestful_sapling::{ops::{Diff, Make}, progress::Progress};
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let (one, other) = (folder.path().join("a.vhdx"), folder.path().join("b.vhd"));
    /// for path in [&one, &other] {
    ///     Make::new(path, 1 << 30).plan().unwrap().run(&Progress::new()).unwrap();
    /// }
    /// assert_eq!(Diff::new(one, other).run(&Progress::new()).unwrap().bytes, 0);
    /// ```
    pub fn new(one: impl Into<PathBuf>, other: impl Into<PathBuf>) -> Self {
        Self { one: one.into(), other: other.into(), contents: false }
    }

    /// Reads whatever may differ and compares it, in units of 512 bytes.
    pub fn with_contents(mut self, contents: bool) -> Self {
        self.contents = contents;
        self
    }

    /// Compares. Ranges that both disks have from one place of one file, or as zeros, are the same without being read;
    /// images that grew from one base therefore differ only where one of them was written to.
    ///
    /// # Errors
    /// As [`Chain::open`]; `Damaged`, `Io`, `Cancelled`.
    pub fn run(&self, progress: &Progress) -> Result<Difference> {
        let one = Side::open(&self.one)?;
        let other = Side::open(&self.other)?;
        let size = one.chain.virtual_size().max(other.chain.virtual_size());
        let same_size = one.chain.virtual_size() == other.chain.virtual_size();
        // What both read from the same layers is the same.
        let shared =
            one.files.iter().rev().zip(other.files.iter().rev()).take_while(|(one, other)| one == other).count();
        let mut found = Ranges::default();
        progress.begin(format!("comparing {} and {}", self.one.display(), self.other.display()), size);
        let (mut first, mut second) = (one.walk(shared), other.walk(shared));
        let mut offset = 0;
        while offset < size {
            progress.check()?;
            let (one_from, one_end) = first.at(offset, size)?;
            let (other_from, other_end) = second.at(offset, size)?;
            let end = one_end.min(other_end);
            if one_from != other_from {
                match self.contents {
                    true => compare(&one, &other, offset..end, &mut found, progress)?,
                    false => found.push(offset..end),
                }
            }
            progress.advance(end - offset);
            offset = end;
        }
        let differ: Vec<DiffRange> = found.0;
        let bytes = differ.iter().map(|range| range.length).sum();
        Ok(Difference { differ, bytes, virtual_size: size, same_size, compared: self.contents })
    }
}

/// Reads a range of both and notes the sectors that are not the same.
fn compare(one: &Side, other: &Side, range: Range<u64>, found: &mut Ranges, progress: &Progress) -> Result<()> {
    let (mut first, mut second) = (Vec::new(), Vec::new());
    let mut at = range.start;
    while at < range.end {
        progress.check()?;
        let step = CHUNK.min(range.end - at) as usize;
        for (side, buffer) in [(one, &mut first), (other, &mut second)] {
            buffer.resize(step, 0);
            side.read_at(buffer, at)?;
        }
        if first != second {
            for (number, (a, b)) in first.chunks(SECTOR).zip(second.chunks(SECTOR)).enumerate() {
                if a != b {
                    let start = at + (number * SECTOR) as u64;
                    found.push(start..start + a.len() as u64);
                }
            }
        }
        at += step as u64;
    }
    Ok(())
}

/// Ranges in order; those that meet are one.
#[derive(Default)]
struct Ranges(Vec<DiffRange>);

impl Ranges {
    fn push(&mut self, range: Range<u64>) {
        let length = range.end - range.start;
        match self.0.last_mut().filter(|last| last.offset + last.length == range.start) {
            Some(last) => last.length += length,
            None => self.0.push(DiffRange { offset: range.start, length }),
        }
    }
}

/// One of the disks, zero past its end.
struct Side {
    chain: Chain,
    /// Each layer's file.
    files: Vec<(u64, u64)>,
}

impl Side {
    fn open(path: &Path) -> Result<Self> {
        let chain = Chain::open(path, &OpenOptions::new())?;
        let identity = |layer: &dyn Image| {
            let found = std::fs::metadata(layer.path()).map_err(|e| crate::Error::io("look up", layer.path(), e))?;
            Ok((found.dev(), found.ino()))
        };
        let files = chain.layers().iter().map(|layer| identity(&**layer)).collect::<Result<_>>()?;
        Ok(Self { chain, files })
    }

    /// A walk over what stands above the layers that both have.
    fn walk(&self, shared: usize) -> SideWalk<'_> {
        SideWalk { walk: Walk::new(&self.chain, self.files.len() - shared), files: &self.files, part: None }
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let room = self.chain.virtual_size().saturating_sub(offset).min(buffer.len() as u64) as usize;
        let (inside, past) = buffer.split_at_mut(room);
        past.fill(0);
        if inside.is_empty() { Ok(()) } else { self.chain.read_at(inside, offset) }
    }
}

/// Where a range comes from, in words that both sides share.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum From {
    /// A file of the host; the number is the byte of the file less that of the disk.
    File((u64, u64), i128),
    Zero,
    Shared,
}

struct SideWalk<'a> {
    walk: Walk<'a>,
    files: &'a [(u64, u64)],
    part: Option<WalkPart>,
}

impl SideWalk<'_> {
    /// Where the byte at `offset` comes from, and up to where that holds; offsets rise from call to call.
    fn at(&mut self, offset: u64, size: u64) -> Result<(From, u64)> {
        while self.part.is_none_or(|part| part.offset + part.len <= offset) {
            match self.walk.next()? {
                Some(part) => self.part = Some(part),
                // Past the end of the smaller disk.
                None => return Ok((From::Zero, size)),
            }
        }
        let Some(part) = self.part else { return Ok((From::Zero, size)) };
        let from = match part.origin {
            Origin::Data(layer, at) => From::File(self.files[layer], i128::from(at) - i128::from(part.offset)),
            Origin::Zero => From::Zero,
            Origin::Below => From::Shared,
        };
        Ok((from, part.offset + part.len))
    }
}
