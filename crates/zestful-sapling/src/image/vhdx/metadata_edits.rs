//! Changes of the metadata region, as bytes and their places in the file.

use uuid::Uuid;

use super::locator;
use super::metadata::{
    DISK_ID, ENTRY_LEN, FILE_PARAMETERS, FIRST_ENTRY, HAS_PARENT, IS_REQUIRED, IS_USER, IS_VIRTUAL_DISK, Item, KNOWN,
    LEAVE_BLOCKS_ALLOCATED, MAX_ITEM_LEN, PARENT_LOCATOR, PHYSICAL_SECTOR, TABLE_LEN, parse_table,
};
use super::region::Region;
use crate::bytes::{fit_u16, fit_u32, index, nth, wide};
use crate::error::Result;
use crate::finding::{Finding, VhdxFinding};
use crate::image::ParentReference;
use crate::storage::ReadAt;

/// Longer paths make no sense.
const MOST_LOCATOR: u64 = 256 << 10;
/// Where the table holds the number of its entries.
const COUNT: u64 = 10;

/// Bytes, by their place in the file.
type Edits = Vec<(u64, Vec<u8>)>;

fn table_of(view: &dyn ReadAt, region: Region) -> Result<(Vec<u8>, Vec<Item>)> {
    let mut bytes = vec![0; TABLE_LEN];
    view.read_at(&mut bytes, region.offset)?;
    let items = parse_table(&bytes).unwrap_or_default();
    Ok((bytes, items))
}

fn system(items: &[Item], id: Uuid) -> Option<usize> {
    items.iter().position(|item| item.id == id && item.flags & IS_USER == 0)
}

fn entry_at(number: usize) -> u64 {
    wide(nth(FIRST_ENTRY, ENTRY_LEN, number))
}

/// Where `len` bytes have room beside these items; best is `first`.
fn room_beside(items: &[&Item], region: Region, first: u64, len: u64) -> Option<u64> {
    let mut places = vec![first, wide(TABLE_LEN)];
    places.extend(items.iter().map(|item| item.end().next_multiple_of(8)));
    places.into_iter().find(|start| {
        let end = start.saturating_add(len);
        *start >= wide(TABLE_LEN)
            && end <= region.len
            && items.iter().all(|item| item.len == 0 || item.end() <= *start || u64::from(item.offset) >= end)
    })
}

/// The changes that replace the parent locator.
pub(super) fn replace_locator(view: &dyn ReadAt, region: Region, parent: &ParentReference) -> Result<Edits> {
    let (_, items) = table_of(view, region)?;
    let number = system(&items, PARENT_LOCATOR);
    let number = number.ok_or_else(|| Finding::new(VhdxFinding::LocatorMissing, region.offset))?;
    let mut old = vec![0; index(u64::from(items[number].len.min(MAX_ITEM_LEN)))];
    view.read_at(&mut old, region.at(u64::from(items[number].offset)))?;
    let locator = locator::replace(&old, parent);
    let len = wide(locator.len());
    let full = || Finding::new(VhdxFinding::LocatorRoom { length: len }, region.offset);
    // One commit of the log has room for a hundred pages.
    if len > MOST_LOCATOR {
        return Err(full().into());
    }
    let others: Vec<&Item> = items.iter().enumerate().filter(|(n, _)| *n != number).map(|(_, item)| item).collect();
    let place = room_beside(&others, region, u64::from(items[number].offset), len).ok_or_else(full)?;
    let whereabouts = [fit_u32(place).to_le_bytes(), fit_u32(len).to_le_bytes()].concat();
    Ok(vec![(region.at(place), locator), (region.at(entry_at(number).saturating_add(16)), whereabouts)])
}

/// The changes after which the image says that it has no parent.
pub(super) fn remove_locator(view: &dyn ReadAt, region: Region) -> Result<Edits> {
    let (bytes, items) = table_of(view, region)?;
    let mut edits = Vec::new();
    if let Some(number) = system(&items, PARENT_LOCATOR) {
        edits = take_out(&bytes, region, items.len(), number);
    }
    if let Some(number) = system(&items, FILE_PARAMETERS) {
        edits.push(flags_of_disk(view, region, &items[number], |flags| flags & !HAS_PARENT)?);
    }
    Ok(edits)
}

/// The table without one of its entries, whose place the last one takes.
fn take_out(bytes: &[u8], region: Region, count: usize, number: usize) -> Edits {
    let last = count.saturating_sub(1);
    let moved = bytes[index(entry_at(last))..][..ENTRY_LEN].to_vec();
    vec![
        (region.at(entry_at(number)), moved),
        (region.at(entry_at(last)), vec![0; ENTRY_LEN]),
        (region.at(COUNT), fit_u16(wide(last)).to_le_bytes().to_vec()),
    ]
}

fn flags_of_disk(
    view: &dyn ReadAt,
    region: Region,
    parameters: &Item,
    change: impl FnOnce(u32) -> u32,
) -> Result<(u64, Vec<u8>)> {
    let at = region.at(u64::from(parameters.offset).saturating_add(4));
    let mut flags = [0; 4];
    view.read_at(&mut flags, at)?;
    Ok((at, change(u32::from_le_bytes(flags)).to_le_bytes().to_vec()))
}

/// The changes after which the flags of the disk have no bits that mean nothing.
pub(super) fn clear_unknown_flags(view: &dyn ReadAt, region: Region) -> Result<Edits> {
    let (_, items) = table_of(view, region)?;
    let Some(number) = system(&items, FILE_PARAMETERS) else { return Ok(Vec::new()) };
    let known = LEAVE_BLOCKS_ALLOCATED | HAS_PARENT;
    Ok(vec![flags_of_disk(view, region, &items[number], |flags| flags & known)?])
}

/// The changes after which an image with a parent locator says that it has a parent; none when it has no locator.
pub(super) fn say_has_parent(view: &dyn ReadAt, region: Region) -> Result<Edits> {
    let (_, items) = table_of(view, region)?;
    match (system(&items, FILE_PARAMETERS), system(&items, PARENT_LOCATOR)) {
        (Some(number), Some(_)) => Ok(vec![flags_of_disk(view, region, &items[number], |flags| flags | HAS_PARENT)?]),
        _ => Ok(Vec::new()),
    }
}

/// The changes after which every known item carries its flags.
pub(super) fn put_flags_right(view: &dyn ReadAt, region: Region) -> Result<Edits> {
    let (_, items) = table_of(view, region)?;
    let known = |item: &Item| KNOWN.iter().find(|known| known.0 == item.id && item.flags & IS_USER == 0);
    let wrong = items.iter().enumerate().filter_map(|(number, item)| {
        let meant = item.flags & (IS_USER | IS_VIRTUAL_DISK | IS_REQUIRED);
        let right = known(item).map_or(meant, |known| known.3);
        (item.flags != right).then(|| (region.at(entry_at(number).saturating_add(24)), right.to_le_bytes().to_vec()))
    });
    Ok(wrong.collect())
}

/// The changes that take out the first item that nobody needs and that lies outside of the region.
pub(super) fn drop_stray(view: &dyn ReadAt, region: Region) -> Result<Edits> {
    let (bytes, items) = table_of(view, region)?;
    let is_known = |item: &Item| item.flags & IS_USER == 0 && KNOWN.iter().any(|known| known.0 == item.id);
    let is_stray = |item: &Item| {
        item.len > 0
            && !is_known(item)
            && (item.len > MAX_ITEM_LEN || u64::from(item.offset) < wide(TABLE_LEN) || item.end() > region.len)
    };
    let number = items.iter().position(is_stray);
    Ok(number.map_or_else(Vec::new, |number| take_out(&bytes, region, items.len(), number)))
}

/// The changes that add an item which every image has, with what readers assume in its place; nothing where there is
/// no room for it.
pub(super) fn add_assumed(view: &dyn ReadAt, region: Region, physical_sector: u32) -> Result<Edits> {
    let (_, items) = table_of(view, region)?;
    let values =
        [(PHYSICAL_SECTOR, physical_sector.to_le_bytes().to_vec()), (DISK_ID, Uuid::new_v4().to_bytes_le().to_vec())];
    let Some((id, value)) = values.into_iter().find(|(id, _)| system(&items, *id).is_none()) else {
        return Ok(Vec::new());
    };
    let all: Vec<&Item> = items.iter().collect();
    let place = room_beside(&all, region, wide(TABLE_LEN), wide(value.len()));
    let entry = entry_at(items.len());
    let has_entry = entry.saturating_add(wide(ENTRY_LEN)) <= wide(TABLE_LEN);
    let Some(place) = place.filter(|_| has_entry) else { return Ok(Vec::new()) };
    let flags = KNOWN.iter().find(|known| known.0 == id).map_or(0, |known| known.3);
    let mut bytes = id.to_bytes_le().to_vec();
    for field in [fit_u32(place), fit_u32(wide(value.len())), flags, 0] {
        bytes.extend(field.to_le_bytes());
    }
    let count = fit_u16(wide(items.len().saturating_add(1))).to_le_bytes().to_vec();
    Ok(vec![(region.at(place), value), (region.at(entry), bytes), (region.at(COUNT), count)])
}

/// The changes after which the reserved bytes of the table are zero.
pub(super) fn clear_reserved(view: &dyn ReadAt, region: Region) -> Result<Edits> {
    let (_, items) = table_of(view, region)?;
    let mut edits = vec![(region.at(8), vec![0; 2]), (region.at(12), vec![0; 20])];
    edits.extend((0..items.len()).map(|number| (region.at(entry_at(number).saturating_add(28)), vec![0; 4])));
    Ok(edits)
}
