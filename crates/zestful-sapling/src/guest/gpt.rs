//! GUID partition tables (UEFI specification, chapter 5), read by the `gpt` crate out of bytes that were looked at
//! before: it reads as many entries, of whatever length, as a header says.

use std::io::Cursor;

use gpt::disk::LogicalBlockSize;
use gpt::header::{Header, read_header_from_arbitrary_device};
use gpt::partition::file_read_partitions;

use super::partition::{Partition, PartitionKind, PartitionProblem, Partitions, in_bytes};
use super::table::PartitionTable;
use super::view::View;
use crate::bytes::{fit_u32, wide};
use crate::error::Result;

const SIGNATURE: &[u8] = b"EFI PART";
const ENTRY_LEN: u64 = 128;
/// Eight times as many as tables have.
const MOST_ENTRIES: u32 = 1024;

/// The table of this disk; none when there is no sign of one.
pub(super) fn read(view: &View<'_>) -> Result<Partitions> {
    let Ok(blocks) = LogicalBlockSize::try_from(view.sector) else { return Ok(Partitions::default()) };
    let last = (view.size / view.sector).saturating_sub(1);
    let first = match copy_at(view, blocks, 1)? {
        Copy::Whole(mut found, other) => {
            let second = copy_at(view, blocks, other)?;
            let problems = judge_second(view, &found, &second, last.saturating_sub(other));
            match second {
                Copy::Whole(second, _) => found.places.extend(second.places),
                // Where it should be: its entries come before it, and are as many.
                _ => {
                    let (start, sector) = in_bytes(view, other, 1);
                    let entries = found.places.last().map_or(0, |place| place.end.saturating_sub(place.start));
                    found.places.push(start.saturating_sub(entries)..start.saturating_add(sector));
                }
            }
            found.places.push(0..view.sector);
            found.problems.extend(problems);
            return Ok(found);
        }
        other => other,
    };
    let second = match copy_at(view, blocks, last)? {
        Copy::Whole(mut found, _) => {
            found.problems.insert(0, PartitionProblem::FirstCopy);
            found.places.push(0..view.sector);
            return Ok(found);
        }
        other => other,
    };
    let mut found = Partitions::default();
    let other = if view.sector == 512 { 4096 } else { 512 };
    let is_other = view.bytes(other, wide(SIGNATURE.len()))?.is_some_and(|bytes| bytes == SIGNATURE);
    match (first, second) {
        (Copy::Missing, Copy::Missing) if is_other => {
            let (found_in, expected) = (fit_u32(other), fit_u32(view.sector));
            found.problems.push(PartitionProblem::OtherSectors { found: found_in, expected });
        }
        (Copy::Missing, Copy::Missing) => return Ok(found),
        (first, second) => {
            found.problems.push(PartitionProblem::BothCopies { first: first.told(), second: second.told() });
        }
    }
    found.table = Some(PartitionTable::Gpt);
    Ok(found)
}

/// One of the two copies.
enum Copy {
    Missing,
    Damaged(String),
    /// What it lists, and the sector of the other copy.
    Whole(Partitions, u64),
}

/// What is to be said of the second copy, beside a first one that is used; so many sectors follow it on the disk.
fn judge_second(view: &View<'_>, first: &Partitions, second: &Copy, behind: u64) -> Vec<PartitionProblem> {
    let mut problems = Vec::new();
    match second {
        Copy::Whole(second, _) if (&second.usable, &second.problems) == (&first.usable, &first.problems) => {}
        Copy::Whole(..) => problems.push(PartitionProblem::CopiesDiffer),
        Copy::Damaged(why) => problems.push(PartitionProblem::SecondCopy(why.clone())),
        Copy::Missing => problems.push(PartitionProblem::SecondCopy("it is not there".to_owned())),
    }
    if matches!(second, Copy::Whole(..)) && behind > 0 {
        problems.push(PartitionProblem::BeforeEnd(behind.saturating_mul(view.sector)));
    }
    problems
}

impl Copy {
    fn told(self) -> String {
        match self {
            Self::Damaged(why) => why,
            _ => "it is not there".to_owned(),
        }
    }
}

fn copy_at(view: &View<'_>, blocks: LogicalBlockSize, at: u64) -> Result<Copy> {
    let Some(sector) = view.sector_at(at)?.filter(|bytes| bytes.starts_with(SIGNATURE)) else {
        return Ok(Copy::Missing);
    };
    // The crate looks for it in the second sector.
    let mut alone = vec![0; sector.len()];
    alone.extend_from_slice(&sector);
    let header = match read_header_from_arbitrary_device(&mut Cursor::new(alone), blocks) {
        Ok(header) => header,
        Err(error) => return Ok(Copy::Damaged(error.to_string())),
    };
    if let Some(why) = cannot_be(&header, at) {
        return Ok(Copy::Damaged(why));
    }
    let (start, _) = in_bytes(view, header.part_start, 0);
    let len = u64::from(header.num_parts).saturating_mul(ENTRY_LEN);
    let Some(entries) = view.bytes(start, len)? else {
        return Ok(Copy::Damaged("its entries would lie outside of the disk".to_owned()));
    };
    let alone = Header { part_start: 0, ..header.clone() };
    let entries = match file_read_partitions(&mut Cursor::new(entries), &alone, blocks) {
        Ok(entries) => entries,
        Err(error) => return Ok(Copy::Damaged(error.to_string())),
    };
    let mut found = Partitions { table: Some(PartitionTable::Gpt), ..Partitions::default() };
    let (own, sector) = in_bytes(view, at, 1);
    found.places = vec![own..own.saturating_add(sector), start..start.saturating_add(len)];
    for (number, entry) in entries.into_iter().filter(|(_, entry)| entry.is_used()) {
        let problem = match entry {
            _ if entry.last_lba < entry.first_lba => PartitionProblem::Backwards(number),
            _ if entry.first_lba < header.first_usable => PartitionProblem::OnTable(number),
            _ if entry.last_lba > header.last_usable => PartitionProblem::PastEnd(number),
            _ => {
                let count = entry.last_lba.saturating_sub(entry.first_lba).saturating_add(1);
                let (start, len) = in_bytes(view, entry.first_lba, count);
                let kind = PartitionKind::Gpt(entry.part_type_guid.guid);
                found.usable.push(Partition { number, start, len, kind, name: entry.name });
                continue;
            }
        };
        found.problems.push(problem);
    }
    Ok(Copy::Whole(found, header.backup_lba))
}

/// Why a header with the right checksum is not one that can be used here.
fn cannot_be(header: &Header, at: u64) -> Option<String> {
    if header.current_lba != at {
        return Some(format!("it says that it is the one of sector {}", header.current_lba));
    }
    if u64::from(header.part_size) != ENTRY_LEN || header.num_parts == 0 || header.num_parts > MOST_ENTRIES {
        let (count, len) = (header.num_parts, header.part_size);
        return Some(format!(
            "it has {count} entries of {len} bytes, where at most {MOST_ENTRIES} of {ENTRY_LEN} are read"
        ));
    }
    None
}
