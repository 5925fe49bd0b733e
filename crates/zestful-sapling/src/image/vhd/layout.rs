//! Everything that opening an image finds out, in the order in which it may be trusted: footer, dynamic header, parent,
//! table. `check` runs the same steps and keeps all findings.

use std::ops::Range;

use super::footer::{DiskType, Footer, FooterPlace, select};
use super::header::{self, DynamicHeader};
use super::shape::BlockShape;
use super::{SECTOR, SECTOR_BYTES, locator};
use crate::bytes::{be_u32, in_units, index, wide};
use crate::error::Result;
use crate::finding::{Finding, FindingList, VhdFinding};
use crate::image::{Format, ImageInfo, Kind, ParentReference};
use crate::storage::ReadAt;

/// The entry of a block that takes no space.
pub(super) const UNUSED: u32 = u32::MAX;
/// The table is held in memory: 4 million entries are enough for the format's largest disk, 2040 GiB, in the smallest
/// usual blocks, 512 KiB.
const MOST_ENTRIES: u64 = 4 << 20;

/// An image whose structures are known and sound.
#[derive(Clone, Debug)]
pub(super) struct Layout {
    pub(super) footer: Footer,
    pub(super) footer_place: FooterPlace,
    /// Absent in fixed images.
    pub(super) blocks: Option<Blocks>,
}

/// How a dynamic or differencing image holds its blocks.
#[derive(Clone, Debug)]
pub(super) struct Blocks {
    pub(super) table_offset: u64,
    pub(super) shape: BlockShape,
    /// A sector number for each block, or [`UNUSED`].
    pub(super) table: Vec<u32>,
    pub(super) parent: Option<ParentReference>,
    pub(super) header: DynamicHeader,
    /// Where footer copy, header, table and locators begin and end, with their names; they may stand behind the blocks.
    structures: Vec<(u64, u64, &'static str)>,
}

impl Blocks {
    /// Where a block's bitmap begins.
    pub(super) fn place(&self, block: u64) -> Option<u64> {
        let entry = self.table.get(index(block)).copied().unwrap_or(UNUSED);
        (entry != UNUSED).then(|| place_of(entry))
    }

    /// Where the entry of a block stands.
    pub(super) fn entry_at(&self, block: u64) -> u64 {
        self.table_offset.saturating_add(block.saturating_mul(4))
    }

    /// The bytes of the disk that a block stands for.
    pub(super) fn range_of(&self, block: u64) -> Range<u64> {
        let start = block.saturating_mul(self.shape.block_size);
        start..start.saturating_add(self.shape.visible_len(block))
    }

    /// The first byte of the disk that a block has lost where the data end at this byte of the file.
    pub(super) fn cut_at(&self, block: u64, end: u64) -> u64 {
        let (range, place) = (self.range_of(block), self.place(block).unwrap_or(end));
        let left = end.saturating_sub(place.saturating_add(self.shape.bitmap_len));
        range.start.saturating_add(left).min(range.end)
    }

    /// What lies between all that the image knows of and has room for a block, in order.
    pub(super) fn gaps(&self) -> Vec<Range<u64>> {
        let mut starts: Vec<u32> = self.table.iter().copied().filter(|entry| *entry != UNUSED).collect();
        starts.sort_unstable();
        let blocks = starts.into_iter().map(place_of);
        let mut structures: Vec<(u64, u64)> = self.structures.iter().map(|(start, end, _)| (*start, *end)).collect();
        structures.sort_unstable();
        let mut structures = structures.into_iter().peekable();
        let (mut gaps, mut at) = (Vec::new(), 0);
        let mut pass = |start: u64, end: u64| {
            if self.shape.stride().saturating_add(at) <= start {
                gaps.push(at..start);
            }
            at = at.max(end.next_multiple_of(SECTOR));
        };
        for block in blocks {
            while let Some((start, end)) = structures.next_if(|(start, _)| *start < block) {
                pass(start, end);
            }
            pass(block, block.saturating_add(self.shape.stride()));
        }
        structures.for_each(|(start, end)| pass(start, end));
        gaps
    }

    /// Bytes that the structures take.
    pub(super) fn structures_end(&self) -> u64 {
        self.structures.iter().map(|(_, end, _)| *end).max().unwrap_or_default()
    }

    /// Where the last of those blocks ends that begin before this byte, and of the structures.
    pub(super) fn reach(&self, file: u64) -> u64 {
        let places = self.table.iter().filter(|entry| **entry != UNUSED).map(|entry| place_of(*entry));
        let ends = places.filter(|place| *place < file).map(|place| place.saturating_add(self.shape.stride()));
        ends.max().unwrap_or_default().max(self.structures_end())
    }

    /// The structure that a block at this place would lie over, if there is one.
    pub(super) fn structure_at(&self, place: u64) -> Option<&'static str> {
        let stop = place.saturating_add(self.shape.stride());
        self.structures.iter().find(|(from, to, _)| place < *to && *from < stop).map(|(.., name)| *name)
    }

    /// Nothing that the image knows of stands from here on, up to the footer.
    pub(super) fn used_end(&self) -> u64 {
        let last = self.table.iter().filter(|entry| **entry != UNUSED).max();
        let blocks = last.map_or(0, |entry| place_of(*entry).saturating_add(self.shape.stride()));
        blocks.max(self.structures_end()).next_multiple_of(SECTOR)
    }
}

impl Layout {
    /// Reads and judges everything.
    pub(super) fn read(storage: &dyn ReadAt, findings: &mut Vec<Finding>) -> Result<Self> {
        let layout = Self::read_unjudged(storage, findings)?;
        if let Some(blocks) = &layout.blocks {
            judge_table(blocks, layout.data_end(storage.len()?), findings)?;
        }
        Ok(layout)
    }

    /// The same; the entries of the table may be anything.
    pub(super) fn read_unjudged(storage: &dyn ReadAt, findings: &mut Vec<Finding>) -> Result<Self> {
        let (footer, footer_place) = select(storage, findings)?;
        let blocks = match footer.kind() {
            DiskType::FIXED => {
                judge_fixed(&footer, footer_place, findings)?;
                None
            }
            kind => Some(read_blocks(storage, &footer, kind == DiskType::DIFFERENCING, findings)?),
        };
        Ok(Self { footer, footer_place, blocks })
    }

    /// Where the data end: at the footer, or with a file of this length.
    pub(super) fn data_end(&self, file: u64) -> u64 {
        match self.footer_place {
            FooterPlace::End(at) => at,
            FooterPlace::Copy => file,
        }
    }

    pub(super) fn info(&self) -> ImageInfo {
        let parent = self.blocks.as_ref().and_then(|blocks| blocks.parent.clone());
        ImageInfo {
            format: Format::Vhd,
            kind: match (&self.blocks, &parent) {
                (None, _) => Kind::Fixed,
                (Some(_), None) => Kind::Dynamic,
                (Some(_), Some(_)) => Kind::Differencing,
            },
            virtual_size: self.footer.current_size(),
            block_size: self.blocks.as_ref().map(|blocks| blocks.shape.block_size),
            logical_sector: SECTOR_BYTES,
            physical_sector: SECTOR_BYTES,
            identity: None,
            data_identity: Some(self.footer.unique_id()),
            time_stamp: Some(self.footer.time_stamp()),
            parent,
            log_pending: false,
            saved_state: self.footer.saved_state(),
        }
    }
}

fn judge_fixed(footer: &Footer, place: FooterPlace, findings: &mut Vec<Finding>) -> Result<()> {
    let (FooterPlace::End(room), size) = (place, footer.current_size()) else { return Ok(()) };
    if room < size {
        return Err(Finding::new(VhdFinding::Cut { size, room }, room).into());
    }
    if room > size {
        findings.push(Finding::new(VhdFinding::Slack { bytes: room.saturating_sub(size) }, room));
    }
    Ok(())
}

fn read_blocks(
    storage: &dyn ReadAt,
    footer: &Footer,
    differencing: bool,
    findings: &mut Vec<Finding>,
) -> Result<Blocks> {
    let len = storage.len()?;
    let at = footer.data_offset();
    let found = |kind| Finding::new(kind, at);
    let inside = at.checked_add(wide(header::LEN)).is_some_and(|end| end <= len);
    if !inside || at < SECTOR || !at.is_multiple_of(SECTOR) {
        return Err(found(VhdFinding::HeaderPlace { offset: at, file: len }).into());
    }
    let mut bytes = [0; header::LEN];
    storage.read_at(&mut bytes, at)?;
    let header = DynamicHeader::parse(&bytes).map_err(|fault| found(VhdFinding::Header { fault }))?;
    let virtual_size = footer.current_size();
    header.judge(at, virtual_size)?;
    let (block_size, table_offset) = (header.block_size(), header.table_offset());
    let needed = virtual_size.div_ceil(block_size);
    if needed > MOST_ENTRIES {
        return Err(found(VhdFinding::TableSize { needed, most: MOST_ENTRIES }).into());
    }
    if table_offset.checked_add(header.entries().saturating_mul(4)).is_none_or(|end| end > len) {
        return Err(found(VhdFinding::TableOutside { offset: table_offset, file: len }).into());
    }
    if !table_offset.is_multiple_of(SECTOR) {
        findings.push(found(VhdFinding::TablePlace { offset: table_offset }));
    }
    let table = read_table(storage, table_offset, needed)?;
    if header.entries() > needed {
        findings.push(found(VhdFinding::TableLong { entries: header.entries(), needed }));
    }
    let parent = match differencing {
        false => None,
        true if header.parent_id().is_nil() => return Err(found(VhdFinding::ParentIdentity).into()),
        true => Some(locator::read(storage, &header, at, findings)?),
    };
    // What a block must not lie over: structures, and the footer at the end.
    let mut taken = vec![
        (0, SECTOR, "footer copy"),
        (at, at.saturating_add(wide(header::LEN)), "dynamic header"),
        (table_offset, table_offset.saturating_add(header.entries().saturating_mul(4)), "block allocation table"),
    ];
    taken.extend(header.locators().filter_map(|entry| {
        let end = entry.offset.checked_add(u64::from(entry.len)).filter(|end| *end <= len)?;
        (entry.len > 0).then_some((entry.offset, end, "parent locator"))
    }));
    let shape = BlockShape::new(block_size, virtual_size);
    Ok(Blocks { table_offset, shape, table, parent, header, structures: taken })
}

fn read_table(storage: &dyn ReadAt, offset: u64, entries: u64) -> Result<Vec<u32>> {
    const STEP: u64 = 64 << 10;
    let mut table = Vec::with_capacity(index(entries));
    let mut raw = vec![0; index(STEP)];
    for step in in_units(0, entries.saturating_mul(4), STEP) {
        let part = &mut raw[..index(step.len)];
        storage.read_at(part, offset.saturating_add(step.done))?;
        table.extend(part.chunks_exact(4).map(|entry| be_u32(entry, 0)));
    }
    Ok(table)
}

/// Where the block of an entry stands.
pub(super) fn place_of(entry: u32) -> u64 {
    u64::from(entry).saturating_mul(SECTOR)
}

/// Whether the entries rise, each block ends before the next, and no structure stands between the first and the last.
/// So it is with most images, and a table of half a million entries is looked through at the speed of memory then.
fn is_tidy(blocks: &Blocks, end: u64) -> bool {
    let mut used = blocks.table.iter().copied().filter(|entry| *entry != UNUSED);
    let Some(first) = used.next() else { return true };
    let (stride, mut last) = (blocks.shape.stride(), first);
    let rises = used.all(|entry| {
        let gap = entry.saturating_sub(last);
        last = entry;
        place_of(gap) >= stride
    });
    let blocks_lie = place_of(first)..place_of(last).saturating_add(stride);
    let is_free = |(from, to, _): &(u64, u64, &str)| *to <= blocks_lie.start || blocks_lie.end <= *from;
    rises && blocks_lie.end <= end && blocks.structures.iter().all(is_free)
}

/// Every used entry lies inside the file, before the footer, and over nothing else.
fn judge_table(blocks: &Blocks, end: u64, findings: &mut Vec<Finding>) -> Result<()> {
    if is_tidy(blocks, end) {
        return Ok(());
    }
    let mut bad = FindingList::default();
    let mut placed: Vec<u32> = Vec::new();
    let found = |block: u32, kind| Finding::new(kind, blocks.entry_at(block.into()));
    for (block, entry) in (0u32..).zip(&blocks.table).filter(|(_, entry)| **entry != UNUSED) {
        let offset = place_of(*entry);
        let stop = offset.saturating_add(blocks.shape.stride());
        let range = blocks.range_of(block.into());
        if let Some(over) = blocks.structure_at(offset) {
            bad.push(found(block, VhdFinding::BlockOverlap { block, offset, over }).losing(range));
        } else if stop > end {
            let outside = found(block, VhdFinding::BlockOutside { block, offset, end });
            bad.push(outside.losing(blocks.cut_at(block.into(), end)..range.end));
        } else {
            placed.push(block);
        }
    }
    let place = |block: u32| blocks.place(block.into()).unwrap_or_default();
    placed.sort_unstable_by_key(|block| (place(*block), *block));
    for (other, block) in placed.iter().copied().zip(placed.iter().copied().skip(1)) {
        if place(block).saturating_sub(place(other)) < blocks.shape.stride() {
            let share = found(block, VhdFinding::BlocksShare { block, other });
            bad.push([block, other].into_iter().fold(share, |found, one| found.doubting(blocks.range_of(one.into()))));
        }
    }
    let mut bad = bad.into_vec();
    match bad.pop() {
        None => Ok(()),
        Some(last) => {
            findings.append(&mut bad);
            Err(last.into())
        }
    }
}
