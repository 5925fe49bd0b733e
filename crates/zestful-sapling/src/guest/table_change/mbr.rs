//! An MBR follows its disk: the entry of a partition gets another length, and, of a logical one, what leads to it.

use super::wish::{Asked, NewLength, TableChange, Wish, new_length, told};
use crate::bytes::{le_u32, put};
use crate::error::{Error, Result};
use crate::guest::mbr::entries;
use crate::guest::new_table::Piece;
use crate::guest::partition::Partition;
use crate::guest::view::View;

const ENTRIES: usize = 446;
const ENTRY: usize = 16;
const KIND: usize = 4;
const START: usize = 8;
const LEN: usize = 12;
/// In the place of the last cylinder, head and sector: that the place is told in sectors alone.
const LAST_BY_SECTOR: [u8; 3] = [0xFE, 0xFF, 0xFF];
const LAST: usize = 5;
/// The first logical partition.
const FIRST_LOGICAL: u32 = 5;
/// As many as are read.
const MOST_LOGICAL: usize = 128;

/// An entry in a sector of the disk.
#[derive(Clone, Copy)]
struct Place {
    sector: u64,
    at: usize,
}

/// What an entry says, in sectors.
struct Found {
    place: Place,
    kind: u8,
    start: u64,
    count: u64,
}

/// The used entries of a sector.
fn used(view: &View<'_>, sector: u64) -> Result<Vec<Found>> {
    let Some(bytes) = view.sector_at(sector)? else { return Ok(Vec::new()) };
    if entries(&bytes).is_empty() {
        return Ok(Vec::new());
    }
    let found = (0..4).map(|n| ENTRIES + n * ENTRY).map(|at| Found {
        place: Place { sector, at },
        kind: bytes[at + KIND],
        start: u64::from(le_u32(&bytes, at + START)),
        count: u64::from(le_u32(&bytes, at + LEN)),
    });
    Ok(found.filter(|entry| entry.kind != 0 && entry.count > 0).collect())
}

impl Found {
    fn is_extended(&self) -> bool {
        [0x05, 0x0F, 0x85].contains(&self.kind)
    }
}

/// The entries that tell where this partition ends, the one that contains the others first: with how far each reaches
/// now, and from where it is counted, in sectors of the disk.
fn entries_of(view: &View<'_>, number: u32) -> Result<Vec<(Place, u64)>> {
    let first = used(view, 0)?;
    if number < FIRST_LOGICAL {
        let at = ENTRIES + (number as usize - 1) * ENTRY;
        return Ok(first.iter().filter(|entry| entry.place.at == at).map(|entry| (entry.place, entry.start)).collect());
    }
    let mut next = FIRST_LOGICAL;
    for extended in first.iter().filter(|entry| entry.is_extended()) {
        let mut way = vec![(extended.place, extended.start)];
        let mut at = extended.start;
        for _ in 0..MOST_LOGICAL {
            let list = used(view, at)?;
            for own in list.iter().filter(|entry| !entry.is_extended()) {
                if next == number {
                    way.push((own.place, at + own.start));
                    return Ok(way);
                }
                next += 1;
            }
            let Some(link) = list.iter().find(|entry| entry.is_extended()) else { break };
            at = extended.start + link.start;
            // Each link reaches from the next sector of the list to the end of the partition that it tells of.
            way.truncate(1);
            way.push((link.place, at));
        }
    }
    Ok(Vec::new())
}

/// Where the extended partition ends that reaches furthest.
pub(super) fn end_of_extended(view: &View<'_>) -> Result<u64> {
    let all = used(view, 0)?;
    let ends = all.iter().filter(|entry| entry.is_extended()).map(|entry| entry.start.saturating_add(entry.count));
    Ok(ends.max().unwrap_or(0).saturating_mul(view.sector))
}

pub(super) fn change(asked: &Asked<'_>) -> Result<TableChange> {
    let Asked { view, found, size, wish, .. } = *asked;
    let sector = view.sector;
    // The list of logical partitions, and an extended one that is not the last, stand between as well.
    let most = (u64::from(u32::MAX) + 1).saturating_mul(sector);
    let limit = end_for(asked)?.min(most);
    let new = new_length(asked, limit)?;
    let Some(NewLength { number, start, before, len }) = new.filter(|new| new.len != new.before) else {
        return Ok(TableChange::default());
    };
    let places = entries_of(view, number)?;
    if places.is_empty() {
        return Err(asked.refused(format_args!("the entry of partition {number} is not found")));
    }
    let end = (start + len) / sector;
    let is_logical = |number: u32| number >= FIRST_LOGICAL;
    let is_followed = |other: &Partition| is_logical(other.number) && other.start > start;
    // What contains others behind this one stays as long as it is.
    let keeps = len < before && is_logical(number) && found.usable.iter().any(is_followed);
    let mut steps: Vec<Vec<Piece>> = Vec::new();
    for (place, from) in places.into_iter().skip(usize::from(keeps)) {
        let Some(mut bytes) = view.sector_at(place.sector)? else { continue };
        // What contains more than this partition keeps its length.
        let now = from + u64::from(le_u32(&bytes, place.at + LEN));
        let Ok(count) = u32::try_from(end.saturating_sub(from)) else {
            return Err(Error::usage(
                format!("an MBR counts {} sectors of {sector} bytes, and partition {number} would be longer", u32::MAX),
                "give the disk a GPT",
            ));
        };
        if (len > before) == (end > now) && end != now {
            put(&mut bytes, place.at + LEN, &count.to_le_bytes());
            put(&mut bytes, place.at + LAST, &LAST_BY_SECTOR);
            steps.push(vec![(place.sector * sector, bytes)]);
        }
    }
    // A partition never reaches out of what contains it.
    if len < before {
        steps.reverse();
    }
    let mut words = vec![told(&NewLength { number, start, before, len })];
    if limit == most && size > most && matches!(wish, Wish::Extend(_)) {
        words.push(format!("an MBR counts no further than {}", crate::size::format_size(most)));
    }
    Ok(TableChange { steps, told: words, partition: new })
}

/// Where the partition may end at most: at the end of the disk, at an extended partition that follows, at a list of
/// logical ones, or, of a logical one, where the extended one may end.
fn end_for(asked: &Asked<'_>) -> Result<u64> {
    let Asked { view, found, size, wish, .. } = *asked;
    let number = match wish {
        Wish::Stay => return Ok(size),
        Wish::Shrink(number, _) | Wish::Extend(Some(number)) => number,
        Wish::Extend(None) => found.usable.iter().max_by_key(|one| one.start).map_or(0, |one| one.number),
    };
    let Some(one) = found.usable.iter().find(|one| one.number == number) else { return Ok(size) };
    let mut walls: Vec<u64> = used(view, 0)?.iter().map(|entry| entry.start * view.sector).collect();
    walls.extend(found.places.iter().map(|place| place.start));
    Ok(walls.into_iter().filter(|wall| *wall >= one.end()).min().unwrap_or(size).min(size))
}
