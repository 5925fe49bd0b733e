//! A GPT follows its disk (UEFI specification, chapter 5.3): the second copy goes to the new end and is durable before
//! the first one names it; then the old one is cleared, and the protective entry says the new size.

use std::ops::Range;

use super::wish::{Asked, NewLength, TableChange, new_length, told};
use crate::bytes::{fit_u32, le_u32, le_u64, put, wide};
use crate::error::Result;
use crate::guest::mbr::{PROTECTIVE, entries};
use crate::guest::new_table::Piece;
use crate::guest::view::View;
use crate::size::format_size;

const CRC: crc::Crc<u32> = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC);
const ENTRY: usize = 128;
// Places in a header.
const HEADER_SIZE: usize = 12;
const HEADER_SUM: usize = 16;
const OWN_SECTOR: usize = 24;
const OTHER_SECTOR: usize = 32;
const LAST_USABLE: usize = 48;
const FIRST_ENTRY: usize = 72;
const COUNT: usize = 80;
const ENTRIES_SUM: usize = 88;
/// In an entry: its last sector.
const LAST: usize = 40;

/// The table as it stands.
struct Gpt {
    sector: u64,
    protective: Vec<u8>,
    header: Vec<u8>,
    entries: Vec<u8>,
}

impl Gpt {
    /// Of a disk whose table was read, and found whole.
    fn read(view: &View<'_>) -> Result<Option<Self>> {
        let (Some(protective), Some(header)) = (view.sector_at(0)?, view.sector_at(1)?) else { return Ok(None) };
        let start = le_u64(&header, FIRST_ENTRY).saturating_mul(view.sector);
        let entries = view.bytes(start, u64::from(le_u32(&header, COUNT)) * wide(ENTRY))?;
        Ok(entries.map(|entries| Self { sector: view.sector, protective, header, entries }))
    }

    fn entries_sectors(&self) -> u64 {
        wide(self.entries.len()).div_ceil(self.sector)
    }

    /// Where the second copy stands, with its entries, which end where its header begins.
    fn second(&self) -> Range<u64> {
        let at = le_u64(&self.header, OTHER_SECTOR);
        at.saturating_sub(self.entries_sectors()).saturating_mul(self.sector)..(at + 1).saturating_mul(self.sector)
    }

    /// A header that stands at `own`, whose entries begin at `first`.
    fn header(&self, own: u64, other: u64, first: u64, last_usable: u64, entries: &[u8]) -> Vec<u8> {
        let mut header = self.header.clone();
        for (at, value) in [(OWN_SECTOR, own), (OTHER_SECTOR, other), (LAST_USABLE, last_usable), (FIRST_ENTRY, first)]
        {
            put(&mut header, at, &value.to_le_bytes());
        }
        put(&mut header, ENTRIES_SUM, &CRC.checksum(entries).to_le_bytes());
        put(&mut header, HEADER_SUM, &[0; 4]);
        let len = (le_u32(&header, HEADER_SIZE) as usize).min(header.len());
        let sum = CRC.checksum(&header[..len]);
        put(&mut header, HEADER_SUM, &sum.to_le_bytes());
        header
    }
}

/// Bytes that the second copy takes.
pub(super) fn room_behind(view: &View<'_>) -> Result<u64> {
    let gpt = Gpt::read(view)?;
    Ok(gpt.map_or(0, |gpt| (gpt.entries_sectors() + 1) * view.sector))
}

pub(super) fn change(asked: &Asked<'_>) -> Result<TableChange> {
    let Asked { view, found, size, .. } = *asked;
    let Some(gpt) = Gpt::read(view)? else { return Err(asked.refused("it cannot be read")) };
    let used = entries(&gpt.protective).iter().filter(|entry| entry.kind != 0).count();
    if used != 1 {
        return Err(asked.refused("an MBR stands beside the GPT and lists partitions of its own (a hybrid table)"));
    }
    let (sector, count) = (view.sector, gpt.entries_sectors());
    let last = (size / sector).saturating_sub(1);
    let second_entries = last.saturating_sub(count);
    let last_usable = second_entries.saturating_sub(1);
    let end = second_entries.saturating_mul(sector);
    let new = new_length(asked, end)?;
    let ends = |number: u32, old: u64| new.filter(|new| new.number == number).map_or(old, |new| new.start + new.len);
    if found.usable.iter().any(|one| ends(one.number, one.start + one.len) > end) {
        return Err(
            asked.refused(format_args!("its partitions and its second copy do not fit into {}", format_size(size)))
        );
    }
    let old = gpt.second();
    let moves = old.end != (last + 1).saturating_mul(sector);
    if !moves && new.is_none_or(|new| new.len == new.before) {
        return Ok(TableChange::default());
    }
    let mut entries = gpt.entries.clone();
    if let Some(NewLength { number, start, len, .. }) = new {
        let at = (number as usize - 1) * ENTRY + LAST;
        put(&mut entries, at, &((start + len) / sector - 1).to_le_bytes());
    }
    let first_entries = le_u64(&gpt.header, FIRST_ENTRY);
    let behind = gpt.header(last, 1, second_entries, last_usable, &entries);
    let before = gpt.header(1, last, first_entries, last_usable, &entries);
    let mut protective = gpt.protective.clone();
    let at = (0..4).map(|n| 446 + 16 * n).find(|at| protective[at + 4] == PROTECTIVE).unwrap_or(446);
    put(&mut protective, at + 12, &fit_u32(last.min(u64::from(u32::MAX))).to_le_bytes());
    let mut steps: Vec<Vec<Piece>> = vec![
        vec![(second_entries * sector, entries.clone()), (last * sector, behind)],
        vec![(first_entries * sector, entries), (sector, before)],
    ];
    let mut rest: Vec<Piece> = vec![(0, protective)];
    // Where the copy was nobody may take it for one; the new copy may stand over a part of that.
    let copy = second_entries * sector..(last + 1) * sector;
    let left = [old.start..old.end.min(copy.start), old.start.max(copy.end)..old.end];
    if moves {
        let left = left.into_iter().filter(|part| part.start < part.end && part.end <= view.size);
        rest.extend(left.map(|part| (part.start, vec![0; (part.end - part.start) as usize])));
    }
    steps.push(rest);
    let mut words = Vec::new();
    if moves {
        words.push("move the second copy of the GPT to the new end of the disk".to_owned());
    }
    words.extend(new.as_ref().map(told));
    Ok(TableChange { steps, told: words, partition: new })
}
