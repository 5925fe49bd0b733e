//! The block allocation table (specification: "BAT"), read in pages as it is needed.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::ALIGNMENT;
use super::metadata::Parameters;
use super::pages::Pages;
use crate::bytes::{index, le_u64, put, split, wide};
use crate::error::Result;
use crate::finding::{Finding, TableEntry, VhdxFinding};
use crate::image::{Extent, Source};
use crate::storage::ReadAt;

/// Bits in a sector bitmap block of 1 MiB.
const SECTORS_PER_CHUNK: u64 = 1 << 23;
/// Bytes of an entry.
pub(super) const ENTRY_LEN: u64 = 8;

/// What an entry says of its block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct State(pub(super) u8);

impl State {
    pub(super) const NOT_PRESENT: Self = Self(0);
    pub(super) const UNDEFINED: Self = Self(1);
    pub(super) const ZERO: Self = Self(2);
    pub(super) const UNMAPPED: Self = Self(3);
    pub(super) const FULLY_PRESENT: Self = Self(6);
    pub(super) const PARTIALLY_PRESENT: Self = Self(7);

    /// Whether the block has a place in the file.
    pub(super) fn has_place(self) -> bool {
        self == Self::FULLY_PRESENT || self == Self::PARTIALLY_PRESENT
    }

    /// Whether a block without content may keep the place that it had.
    pub(super) fn may_keep_place(self) -> bool {
        self == Self::UNDEFINED || self == Self::UNMAPPED
    }
}

/// One entry: a state and a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Entry(pub(super) u64);

impl Entry {
    pub(super) fn new(state: State, offset: u64) -> Self {
        debug_assert!(offset.is_multiple_of(ALIGNMENT));
        Self(offset | u64::from(state.0))
    }

    pub(super) fn state(self) -> State {
        State(self.0.to_le_bytes()[0] & 7)
    }

    pub(super) fn offset(self) -> u64 {
        self.0 & !(ALIGNMENT - 1)
    }

    pub(super) fn reserved_bits(self) -> u64 {
        self.0 & (ALIGNMENT - 1) & !7
    }
}

/// How the table is laid out for a disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Geometry {
    pub(super) virtual_size: u64,
    pub(super) block_size: u64,
    pub(super) sector: u64,
    /// Payload entries between two bitmap entries; a power of two.
    pub(super) chunk_ratio: u64,
    pub(super) blocks: u64,
    pub(super) chunks: u64,
    /// Entries that the table must hold.
    pub(super) entries: u64,
    pub(super) has_parent: bool,
}

impl Geometry {
    pub(super) fn new(parameters: &Parameters) -> Self {
        let sector = u64::from(parameters.logical_sector);
        let (block_size, virtual_size) = (parameters.block_size, parameters.virtual_size);
        let (chunk_ratio, _) = split(SECTORS_PER_CHUNK.saturating_mul(sector), block_size);
        let blocks = virtual_size.div_ceil(block_size);
        let chunks = blocks.div_ceil(chunk_ratio);
        let has_parent = parameters.parent.is_some();
        let alone = Self { virtual_size, block_size, sector, chunk_ratio, blocks, chunks, entries: 0, has_parent };
        match has_parent {
            // Every chunk is whole, with its bitmap.
            true => Self { entries: alone.payload_index(chunks.saturating_mul(chunk_ratio)), ..alone },
            false => alone.without_parent(),
        }
    }

    /// The same disk, standing alone.
    pub(super) fn without_parent(self) -> Self {
        let last = self.payload_index(self.blocks.saturating_sub(1));
        Self { has_parent: false, entries: last.saturating_add(1), ..self }
    }

    pub(super) fn payload_index(&self, block: u64) -> u64 {
        block.saturating_add(self.chunk_of(block))
    }

    pub(super) fn bitmap_index(&self, chunk: u64) -> u64 {
        chunk.saturating_mul(self.group()).saturating_add(self.chunk_ratio)
    }

    /// The first block whose entry stands at `index` or after it.
    pub(super) fn block_from(&self, index: u64) -> u64 {
        let (chunk, within) = split(index, self.group());
        chunk.saturating_mul(self.chunk_ratio).saturating_add(within.min(self.chunk_ratio))
    }

    /// What an entry speaks of.
    pub(super) fn role(&self, index: u64) -> TableEntry {
        match split(index, self.group()) {
            (chunk, within) if within == self.chunk_ratio => TableEntry::Bitmap(chunk),
            _ => TableEntry::Payload(self.block_from(index)),
        }
    }

    /// Bytes of a block that lie inside the disk.
    pub(super) fn visible_len(&self, block: u64) -> u64 {
        self.block_size.min(self.virtual_size.saturating_sub(block.saturating_mul(self.block_size)))
    }

    /// The chunk that a block belongs to.
    pub(super) fn chunk_of(&self, block: u64) -> u64 {
        split(block, self.chunk_ratio).0
    }

    /// Sectors of a block.
    pub(super) fn sectors(&self) -> u64 {
        split(self.block_size, self.sector).0
    }

    /// Entries of a chunk: its blocks and its bitmap.
    fn group(&self) -> u64 {
        self.chunk_ratio.saturating_add(1)
    }
}

/// Where blocks may lie.
#[derive(Clone, Debug)]
pub(super) struct Bounds {
    pub(super) file_len: u64,
    /// Header section, log and regions: start, end, name with its article.
    pub(super) taken: Vec<(u64, u64, String)>,
}

impl Table {
    /// Whether a block may lie here.
    fn judge_place(&self, entry: TableEntry, offset: u64, length: u64) -> std::result::Result<(), VhdxFinding> {
        let file = self.file_len();
        let Some(end) = offset.checked_add(length).filter(|end| *end <= file) else {
            return Err(VhdxFinding::BlockOutside { entry, offset, length, file });
        };
        match self.taken.iter().find(|(from, to, _)| offset < *to && *from < end) {
            Some((_, _, over)) => Err(VhdxFinding::BlockOverlap { entry, offset, over: over.clone() }),
            None => Ok(()),
        }
    }
}

/// The table of an open image.
pub(super) struct Table {
    pub(super) pages: Pages,
    pub(super) geometry: Geometry,
    /// The length of the file, which grows under those who read.
    file_len: AtomicU64,
    /// As in [`Bounds`].
    taken: Vec<(u64, u64, String)>,
    /// Where the table begins in the file.
    offset: u64,
}

impl Table {
    pub(super) fn new(view: Arc<dyn ReadAt>, geometry: Geometry, bounds: Bounds, offset: u64) -> Self {
        let file_len = AtomicU64::new(bounds.file_len);
        Self { pages: Pages::new(view), geometry, file_len, taken: bounds.taken, offset }
    }

    pub(super) fn file_len(&self) -> u64 {
        self.file_len.load(Ordering::Acquire)
    }

    pub(super) fn set_file_len(&self, len: u64) {
        self.file_len.store(len, Ordering::Release);
    }

    pub(super) fn place(&self, index: u64) -> u64 {
        self.offset.saturating_add(index.saturating_mul(ENTRY_LEN))
    }

    fn raw(&self, index: u64) -> Result<Entry> {
        let at = self.place(index);
        self.pages.with(at, |page, within| Entry(le_u64(page, within)))
    }

    fn set(&self, index: u64, entry: Entry) -> Result<()> {
        let at = self.place(index);
        self.pages.change(at, |page, within| put(page, within, &entry.0.to_le_bytes()))
    }

    /// The entry of a block, judged.
    pub(super) fn payload(&self, block: u64) -> Result<Entry> {
        let index = self.geometry.payload_index(block);
        let entry = self.raw(index)?;
        self.judge(index, entry)?;
        Ok(entry)
    }

    /// Where the sector bitmap of a chunk stands, if it has one.
    pub(super) fn bitmap(&self, chunk: u64) -> Result<Option<u64>> {
        let index = self.geometry.bitmap_index(chunk);
        let entry = self.raw(index)?;
        self.judge(index, entry)?;
        Ok((entry.state() == State::FULLY_PRESENT).then(|| entry.offset()))
    }

    pub(super) fn set_payload(&self, block: u64, entry: Entry) -> Result<()> {
        self.set(self.geometry.payload_index(block), entry)
    }

    pub(super) fn set_bitmap(&self, chunk: u64, offset: u64) -> Result<()> {
        self.set(self.geometry.bitmap_index(chunk), Entry::new(State::FULLY_PRESENT, offset))
    }

    pub(super) fn clear_bitmap(&self, chunk: u64) -> Result<()> {
        self.set(self.geometry.bitmap_index(chunk), Entry::new(State::NOT_PRESENT, 0))
    }

    /// The rules that an entry must obey by itself for its block to be read.
    pub(super) fn judge(&self, index: u64, entry: Entry) -> std::result::Result<(), Finding> {
        let (role, state) = (self.geometry.role(index), entry.state());
        let judged = match role {
            TableEntry::Payload(block) => match state {
                State::NOT_PRESENT | State::UNDEFINED | State::ZERO | State::UNMAPPED => Ok(()),
                State::PARTIALLY_PRESENT if !self.geometry.has_parent => Err(VhdxFinding::BlockPartial { block }),
                State::FULLY_PRESENT | State::PARTIALLY_PRESENT => {
                    self.judge_place(role, entry.offset(), self.geometry.block_size)
                }
                State(state) => Err(VhdxFinding::BlockState { entry: role, state }),
            },
            TableEntry::Bitmap(_) => match state {
                State::NOT_PRESENT => Ok(()),
                State::FULLY_PRESENT if self.geometry.has_parent => self.judge_place(role, entry.offset(), ALIGNMENT),
                // Nothing ever looks at it in an image without a parent.
                _ if !self.geometry.has_parent => Ok(()),
                State(state) => Err(VhdxFinding::BlockState { entry: role, state }),
            },
        };
        judged.map_err(|kind| Finding::new(kind, self.place(index)))
    }

    /// What a reader takes for a block in this state, where that does not depend on a place in the file.
    fn source_of(&self, state: State) -> Option<Source> {
        match state {
            State::NOT_PRESENT if self.geometry.has_parent => Some(Source::Parent),
            // Undefined and unmapped content may be anything; zeros are the kindest and never leak.
            State::NOT_PRESENT | State::UNDEFINED | State::ZERO | State::UNMAPPED => Some(Source::Zero),
            _ => None,
        }
    }

    pub(super) fn extent_at(&self, offset: u64, len: u64) -> Result<Extent> {
        let size = self.geometry.block_size;
        let (block, within) = split(offset, size);
        let entry = self.payload(block)?;
        let rest = len.min(size.saturating_sub(within));
        if let Some(source) = self.source_of(entry.state()) {
            let last = offset.saturating_add(len).div_ceil(size);
            let end = self.same_source_until(block.saturating_add(1), last, source)?;
            return Ok(Extent { len: len.min(end.saturating_mul(size).saturating_sub(offset)), source });
        }
        if entry.state() == State::FULLY_PRESENT {
            return Ok(Extent { len: rest, source: Source::Data(entry.offset().saturating_add(within)) });
        }
        let sector = self.geometry.sector;
        let (first, _) = split(within, sector);
        let (present, run) = self.bit_run(block, first, rest.div_ceil(sector).saturating_add(1))?;
        let len = rest.min(first.saturating_add(run).saturating_mul(sector).saturating_sub(within));
        let source = if present { Source::Data(entry.offset().saturating_add(within)) } else { Source::Parent };
        Ok(Extent { len, source })
    }

    /// The first block from `block` on whose bytes do not come from `source` (at most `end`).
    pub(super) fn same_source_until(&self, mut block: u64, end: u64, source: Source) -> Result<u64> {
        while block < end {
            let at = self.place(self.geometry.payload_index(block));
            let empty = self.pages.hole_at(at)?;
            if empty >= ENTRY_LEN {
                if self.source_of(State::NOT_PRESENT) != Some(source) {
                    return Ok(block);
                }
                let empty = at.saturating_add(empty).saturating_sub(self.offset) / ENTRY_LEN;
                block = self.geometry.block_from(empty).max(block.saturating_add(1));
                continue;
            }
            let (from, stopped) = (block, end);
            block = self.pages.with(at, |page, _| {
                let first = (at / super::PAGE).saturating_mul(super::PAGE);
                (from..stopped)
                    .find(|block| {
                        let within = self.place(self.geometry.payload_index(*block)).saturating_sub(first);
                        within >= wide(page.len())
                            || self.source_of(Entry(le_u64(page, index(within))).state()) != Some(source)
                    })
                    .unwrap_or(stopped)
            })?;
            let next = self.place(self.geometry.payload_index(block));
            if block == from || next / super::PAGE == at / super::PAGE {
                return Ok(block.min(end));
            }
        }
        Ok(end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use uuid::Uuid;

    fn geometry(virtual_size: u64, block_size: u64, logical_sector: u32, parent: bool) -> Geometry {
        let parent =
            parent.then(|| crate::image::ParentReference { accepted: vec![], paths: vec![], time_stamp: None });
        Geometry::new(&Parameters {
            block_size,
            leave_blocks_allocated: false,
            virtual_size,
            disk_id: Uuid::nil(),
            logical_sector,
            physical_sector: 4096,
            parent,
        })
    }

    /// Numbers worked out by hand from the specification's formulas.
    #[test]
    fn geometry_matches_the_specification() {
        let largest = geometry(64 << 40, 1 << 20, 512, false);
        assert_eq!((largest.chunk_ratio, largest.entries), (4096, 67_125_247));
        assert_eq!(geometry(64 << 40, 1 << 20, 512, true).entries, 67_125_248);
        for (block_mib, sector, ratio) in
            [(2, 512, 2048), (32, 512, 128), (256, 512, 16), (1, 4096, 32768), (256, 4096, 128)]
        {
            assert_eq!(geometry(1 << 40, block_mib << 20, sector, false).chunk_ratio, ratio);
        }
    }

    #[test]
    fn indices_and_roles_are_inverse() {
        let geometry = geometry(300 << 30, 256 << 20, 512, true);
        for block in 0..geometry.blocks {
            let index = geometry.payload_index(block);
            assert_eq!(geometry.role(index), TableEntry::Payload(block));
            assert_eq!(geometry.block_from(index), block);
        }
        for chunk in 0..geometry.chunks {
            let index = geometry.bitmap_index(chunk);
            assert_eq!(geometry.role(index), TableEntry::Bitmap(chunk));
            assert_eq!(geometry.block_from(index), (chunk + 1) * geometry.chunk_ratio);
        }
    }
}
