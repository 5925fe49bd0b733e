//! Partition tables in the first sector, with lists of logical partitions.
//!
//! They are read here: the crate that reads them gives a table up as a whole at the first entry that is wrong, where
//! the others are wanted, and rests on one that nobody keeps any more.

use super::partition::{Partition, PartitionKind, PartitionProblem, Partitions, in_bytes};
use super::table::PartitionTable;
use super::view::View;
use crate::bytes::le_u32;
use crate::error::Result;

/// The type of the one entry that keeps programs without an idea of GPT away from a disk that has one.
pub(super) const PROTECTIVE: u8 = 0xEE;
const EXTENDED: [u8; 3] = [0x05, 0x0F, 0x85];
/// Where the entries begin, and how long each is.
const ENTRIES: usize = 446;
const ENTRY_LEN: usize = 16;
const SIGNATURE: [u8; 2] = [0x55, 0xAA];
/// Hosts stop at less.
const MOST_LOGICAL: usize = 128;

/// An entry, its places in sectors.
pub(super) struct Entry {
    pub(super) kind: u8,
    start: u64,
    count: u64,
}

impl Entry {
    fn is_used(&self) -> bool {
        self.kind != 0 && self.count > 0
    }

    fn is_extended(&self) -> bool {
        self.is_used() && EXTENDED.contains(&self.kind)
    }
}

/// The four entries of a sector; none when it carries no signature.
pub(super) fn entries(sector: &[u8]) -> Vec<Entry> {
    if sector.get(510..512) != Some(&SIGNATURE) {
        return Vec::new();
    }
    let entries = sector[ENTRIES..510].chunks_exact(ENTRY_LEN);
    let entry = |bytes: &[u8]| Entry {
        kind: bytes[4],
        start: u64::from(le_u32(bytes, 8)),
        count: u64::from(le_u32(bytes, 12)),
    };
    entries.map(entry).collect()
}

/// The partitions of a table in the first sector.
pub(super) fn read(view: &View<'_>, table: &[Entry]) -> Result<Partitions> {
    let mut found = Partitions { table: Some(PartitionTable::Mbr), ..Partitions::default() };
    found.places.push(0..view.sector);
    let mut next = 5;
    for (number, entry) in (1..).zip(table).filter(|(_, entry)| entry.is_used()) {
        match entry.is_extended() {
            false => found.usable.push(partition(view, number, entry.start, entry)),
            true => read_logical(view, entry, &mut next, &mut found)?,
        }
    }
    Ok(found)
}

fn partition(view: &View<'_>, number: u32, start: u64, entry: &Entry) -> Partition {
    let (start, len) = in_bytes(view, start, entry.count);
    Partition { number, start, len, kind: PartitionKind::Mbr(entry.kind), name: String::new() }
}

/// The logical partitions of an extended one: a list of sectors, of which each describes one partition, counted from
/// that sector on, and names the next sector, counted from the beginning of the extended partition.
fn read_logical(view: &View<'_>, extended: &Entry, next: &mut u32, found: &mut Partitions) -> Result<()> {
    let end = extended.start.saturating_add(extended.count);
    let (mut at, mut seen) = (extended.start, Vec::new());
    loop {
        if seen.contains(&at) {
            found.problems.push(PartitionProblem::Loop(at));
            return Ok(());
        }
        if seen.len() == MOST_LOGICAL {
            found.problems.push(PartitionProblem::TooMany(MOST_LOGICAL));
            return Ok(());
        }
        let sector = if at < end { view.sector_at(at)? } else { None };
        let table = sector.map_or_else(Vec::new, |sector| entries(&sector));
        if table.is_empty() {
            // An extended partition with nothing in it need not have a list.
            if !seen.is_empty() || at.saturating_mul(view.sector) >= view.size {
                found.problems.push(PartitionProblem::Astray(at));
            }
            return Ok(());
        }
        seen.push(at);
        let place = at.saturating_mul(view.sector);
        found.places.push(place..place.saturating_add(view.sector));
        for entry in table.iter().filter(|entry| entry.is_used() && !entry.is_extended()) {
            let (number, start) = (*next, at.saturating_add(entry.start));
            *next = next.saturating_add(1);
            match entry.start {
                0 => found.problems.push(PartitionProblem::OnTable(number)),
                _ if start.saturating_add(entry.count) > end => {
                    found.problems.push(PartitionProblem::OutsideExtended(number));
                }
                _ => found.usable.push(partition(view, number, start, entry)),
            }
        }
        let Some(link) = table.iter().find(|entry| entry.is_extended()) else { return Ok(()) };
        at = extended.start.saturating_add(link.start);
    }
}
