//! The metadata region: its table and the items that describe the disk (specification: "metadata region").

use std::collections::HashSet;

use uuid::{Uuid, uuid};

use super::header::guid;
use super::region::Region;
use super::{MAX_BLOCK_SIZE, MAX_VIRTUAL_SIZE, MIN_BLOCK_SIZE, locator};
use crate::bytes::{fit_u32, index, is_zero, le_u16, le_u32, le_u64, nth, put, wide};
use crate::error::Result;
use crate::finding::{Fault, Finding, VhdxFinding};
use crate::image::ParentReference;
use crate::storage::ReadAt;

pub(super) const TABLE_LEN: usize = 64 << 10;
const MAX_ENTRIES: usize = 2047;
const MAX_USER_ENTRIES: usize = 1024;
pub(super) const MAX_ITEM_LEN: u32 = 1 << 20;
pub(super) const ENTRY_LEN: usize = 32;
pub(super) const FIRST_ENTRY: usize = 32;

pub(super) const FILE_PARAMETERS: Uuid = uuid!("CAA16737-FA36-4D43-B3B6-33F0AA44E76B");
pub(super) const VIRTUAL_SIZE: Uuid = uuid!("2FA54224-CD1B-4876-B211-5DBED83BF4B8");
pub(super) const DISK_ID: Uuid = uuid!("BECA12AB-B2E6-4523-93EF-C309E000C746");
pub(super) const LOGICAL_SECTOR: Uuid = uuid!("8141BF1D-A96F-4709-BA47-F233A8FAAB5F");
pub(super) const PHYSICAL_SECTOR: Uuid = uuid!("CDA348C7-445D-4471-9CC9-E9885251C556");
pub(super) const PARENT_LOCATOR: Uuid = uuid!("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C");

pub(super) const IS_USER: u32 = 1;
pub(super) const IS_VIRTUAL_DISK: u32 = 2;
pub(super) const IS_REQUIRED: u32 = 4;

/// The system items: id, name, length where fixed, flags.
pub(super) const KNOWN: [(Uuid, &str, Option<u32>, u32); 6] = [
    (FILE_PARAMETERS, "file parameters", Some(8), IS_REQUIRED),
    (VIRTUAL_SIZE, "virtual disk size", Some(8), IS_REQUIRED | IS_VIRTUAL_DISK),
    (DISK_ID, "virtual disk id", Some(16), IS_REQUIRED | IS_VIRTUAL_DISK),
    (LOGICAL_SECTOR, "logical sector size", Some(4), IS_REQUIRED | IS_VIRTUAL_DISK),
    (PHYSICAL_SECTOR, "physical sector size", Some(4), IS_REQUIRED | IS_VIRTUAL_DISK),
    (PARENT_LOCATOR, "parent locator", None, IS_REQUIRED),
];

pub(super) const LEAVE_BLOCKS_ALLOCATED: u32 = 1;
pub(super) const HAS_PARENT: u32 = 2;

/// What the items say of the disk; every value is legal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Parameters {
    pub(super) block_size: u64,
    pub(super) leave_blocks_allocated: bool,
    pub(super) virtual_size: u64,
    pub(super) disk_id: Uuid,
    pub(super) logical_sector: u32,
    pub(super) physical_sector: u32,
    pub(super) parent: Option<ParentReference>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Item {
    pub(super) id: Uuid,
    pub(super) offset: u32,
    pub(super) len: u32,
    pub(super) flags: u32,
}

impl Item {
    pub(super) fn name(&self) -> String {
        let known = KNOWN.iter().find(|known| known.0 == self.id && self.flags & IS_USER == 0);
        known.map_or_else(|| format!("metadata item {}", self.id), |known| format!("metadata item `{}`", known.1))
    }

    pub(super) fn end(&self) -> u64 {
        u64::from(self.offset).saturating_add(u64::from(self.len))
    }
}

pub(super) fn parse_table(bytes: &[u8]) -> std::result::Result<Vec<Item>, Fault> {
    if bytes.len() != TABLE_LEN || bytes[..8] != *b"metadata" {
        return Err(Fault::Signature("metadata"));
    }
    let count = usize::from(le_u16(bytes, 10));
    if count > MAX_ENTRIES {
        return Err(Fault::Entries { claimed: u64::from(le_u16(bytes, 10)), most: wide(MAX_ENTRIES) });
    }
    let entries = bytes[FIRST_ENTRY..].chunks_exact(ENTRY_LEN).take(count);
    Ok(entries
        .map(|entry| Item {
            id: guid(entry, 0),
            offset: le_u32(entry, 16),
            len: le_u32(entry, 20),
            flags: le_u32(entry, 24),
        })
        .collect())
}

/// Where the bytes of a system item stand in the file, if there is such an item.
pub(super) fn place_of(view: &dyn ReadAt, region: Region, id: Uuid) -> Result<Option<u64>> {
    let mut bytes = vec![0; TABLE_LEN];
    view.read_at(&mut bytes, region.offset)?;
    let items = parse_table(&bytes).unwrap_or_default();
    let found = items.iter().find(|item| item.id == id && item.flags & IS_USER == 0);
    Ok(found.map(|item| region.at(u64::from(item.offset))))
}

/// Reads and judges the items.
pub(super) fn read(view: &dyn ReadAt, region: Region, findings: &mut Vec<Finding>) -> Result<Parameters> {
    let at_table = |kind| Finding::new(kind, region.offset);
    let mut bytes = vec![0; TABLE_LEN];
    view.read_at(&mut bytes, region.offset)?;
    let items = parse_table(&bytes).map_err(|fault| at_table(VhdxFinding::MetadataTable { fault }))?;
    judge_items(&items, region, findings).map_err(at_table)?;
    let entries = bytes[FIRST_ENTRY..].chunks_exact(ENTRY_LEN).take(items.len());
    let is_clean = is_zero(&bytes[8..10]) && is_zero(&bytes[12..FIRST_ENTRY]);
    if !is_clean || !entries.map(|entry| &entry[28..]).all(is_zero) {
        findings.push(at_table(VhdxFinding::Reserved { structure: "metadata table" }));
    }

    let value = |id: Uuid| -> Result<Option<(Vec<u8>, u64)>> {
        let Some(item) = items.iter().find(|item| item.id == id && item.flags & IS_USER == 0) else {
            return Ok(None);
        };
        let mut bytes = vec![0; index(u64::from(item.len))];
        let at = region.at(u64::from(item.offset));
        view.read_at(&mut bytes, at)?;
        Ok(Some((bytes, at)))
    };
    let needed = |id: Uuid, item: &'static str| -> Result<(Vec<u8>, u64)> {
        Ok(value(id)?.ok_or_else(|| at_table(VhdxFinding::MetadataMissing { item }))?)
    };

    let (parameters, at) = needed(FILE_PARAMETERS, "file parameters")?;
    let block_size = u64::from(le_u32(&parameters, 0));
    let flags = le_u32(&parameters, 4);
    if !block_size.is_power_of_two() || !(MIN_BLOCK_SIZE..=MAX_BLOCK_SIZE).contains(&block_size) {
        return Err(Finding::new(VhdxFinding::BlockSize { bytes: block_size }, at).into());
    }
    if flags & !(LEAVE_BLOCKS_ALLOCATED | HAS_PARENT) != 0 {
        findings.push(Finding::new(VhdxFinding::ParameterFlags { flags }, at));
    }
    let sector = |bytes: &[u8], at: u64, item: &'static str| match le_u32(bytes, 0) {
        size @ (512 | 4096) => Ok(size),
        bytes => Err(Finding::new(VhdxFinding::SectorSize { item, bytes }, at)),
    };
    let (bytes, at) = needed(LOGICAL_SECTOR, "logical sector size")?;
    let logical_sector = sector(&bytes, at, "logical sector size")?;
    let (bytes, at) = needed(VIRTUAL_SIZE, "virtual disk size")?;
    let virtual_size = le_u64(&bytes, 0);
    if virtual_size == 0 || virtual_size > MAX_VIRTUAL_SIZE || !virtual_size.is_multiple_of(u64::from(logical_sector)) {
        let (bytes, sector) = (virtual_size, logical_sector);
        return Err(Finding::new(VhdxFinding::VirtualSize { bytes, sector, most: MAX_VIRTUAL_SIZE }, at).into());
    }
    let physical_sector = match value(PHYSICAL_SECTOR)? {
        Some((bytes, at)) => sector(&bytes, at, "physical sector size")?,
        None => {
            findings.push(at_table(VhdxFinding::MetadataAssumed { item: "physical sector size", used: "4096" }));
            4096
        }
    };
    let disk_id = match value(DISK_ID)? {
        Some((bytes, _)) => guid(&bytes, 0),
        None => {
            findings.push(at_table(VhdxFinding::MetadataAssumed { item: "virtual disk id", used: "an all-zero id" }));
            Uuid::nil()
        }
    };
    let parent = match (flags & HAS_PARENT != 0, value(PARENT_LOCATOR)?) {
        (false, None) => None,
        (false, Some((_, at))) => {
            findings.push(Finding::new(VhdxFinding::LocatorUnused, at));
            None
        }
        (true, None) => return Err(at_table(VhdxFinding::LocatorMissing).into()),
        (true, Some((bytes, at))) => {
            let parent = locator::parse(&bytes).map_err(|why| Finding::new(VhdxFinding::Locator { why }, at))?;
            if parent.paths.is_empty() {
                findings.push(Finding::new(VhdxFinding::LocatorPaths, at));
            }
            Some(parent)
        }
    };
    let leave_blocks_allocated = flags & LEAVE_BLOCKS_ALLOCATED != 0;
    Ok(Parameters {
        block_size,
        leave_blocks_allocated,
        virtual_size,
        disk_id,
        logical_sector,
        physical_sector,
        parent,
    })
}

fn judge_items(items: &[Item], region: Region, findings: &mut Vec<Finding>) -> std::result::Result<(), VhdxFinding> {
    let mut seen = HashSet::new();
    let mut places: Vec<(u64, u64, String)> = Vec::new();
    for Item { id, offset, len: length, flags } in items.iter().copied() {
        let item = Item { id, offset, len: length, flags };
        let (item, end, user) = (item.name(), item.end(), flags & IS_USER != 0);
        if !seen.insert((id, user)) {
            return Err(VhdxFinding::MetadataTwice { item });
        }
        let known = KNOWN.iter().find(|known| known.0 == id && !user);
        if known.is_none() && flags & IS_REQUIRED != 0 {
            return Err(VhdxFinding::MetadataUnknown { item });
        }
        if let Some(right) = known.and_then(|known| known.2).filter(|right| *right != length) {
            return Err(VhdxFinding::MetadataLength { item, length, right });
        }
        // Of an item that is not known only those bits can be wrong that nothing has.
        let right = known.map_or(flags & (IS_USER | IS_VIRTUAL_DISK | IS_REQUIRED), |known| known.3);
        if right != flags {
            let kind = VhdxFinding::MetadataFlags { item: item.clone(), flags, right };
            findings.push(Finding::new(kind, region.offset));
        }
        if length == 0 {
            continue;
        }
        if length > MAX_ITEM_LEN || u64::from(offset) < wide(TABLE_LEN) || end > region.len {
            if known.is_some() {
                return Err(VhdxFinding::MetadataOutside { item, offset, length });
            }
            findings.push(Finding::new(VhdxFinding::MetadataStray { item, offset, length }, region.offset));
            continue;
        }
        places.push((u64::from(offset), end, item));
    }
    let count = items.iter().filter(|item| item.flags & IS_USER != 0).count();
    if count > MAX_USER_ENTRIES {
        return Err(VhdxFinding::MetadataUsers { count, most: MAX_USER_ENTRIES });
    }
    places.sort();
    for ((_, end, first), (from, _, second)) in places.iter().zip(places.iter().skip(1)) {
        if end > from {
            return Err(VhdxFinding::MetadataOverlap { first: first.clone(), second: second.clone() });
        }
    }
    Ok(())
}

/// A whole region's beginning: the table and the items after it.
pub(super) fn encode(parameters: &Parameters) -> Vec<u8> {
    let flags = if parameters.leave_blocks_allocated { LEAVE_BLOCKS_ALLOCATED } else { 0 }
        | if parameters.parent.is_some() { HAS_PARENT } else { 0 };
    let block_size = fit_u32(parameters.block_size);
    let values = [
        (FILE_PARAMETERS, [block_size.to_le_bytes(), flags.to_le_bytes()].concat()),
        (VIRTUAL_SIZE, parameters.virtual_size.to_le_bytes().to_vec()),
        (DISK_ID, parameters.disk_id.to_bytes_le().to_vec()),
        (LOGICAL_SECTOR, parameters.logical_sector.to_le_bytes().to_vec()),
        (PHYSICAL_SECTOR, parameters.physical_sector.to_le_bytes().to_vec()),
        (PARENT_LOCATOR, parameters.parent.as_ref().map(locator::encode).unwrap_or_default()),
    ];
    let mut bytes = vec![0; TABLE_LEN];
    put(&mut bytes, 0, b"metadata");
    let there = values.into_iter().filter(|(_, value)| !value.is_empty());
    let mut count = 0;
    for (number, (id, value)) in (0u16..).zip(there) {
        let flags = KNOWN.iter().find(|known| known.0 == id).map_or(0, |known| known.3);
        let entry = nth(FIRST_ENTRY, ENTRY_LEN, usize::from(number));
        let at = fit_u32(wide(bytes.len()));
        let entry = &mut bytes[entry..];
        put(entry, 0, &id.to_bytes_le());
        put(entry, 16, &at.to_le_bytes());
        put(entry, 20, &fit_u32(wide(value.len())).to_le_bytes());
        put(entry, 24, &flags.to_le_bytes());
        bytes.extend(value);
        // Items on even places, so that no reader meets an odd one.
        bytes.resize(bytes.len().next_multiple_of(8), 0);
        count = number.saturating_add(1);
    }
    put(&mut bytes, 10, &count.to_le_bytes());
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::storage::{MemoryStorage, Storage};

    fn sample() -> Parameters {
        Parameters {
            block_size: 2 << 20,
            leave_blocks_allocated: false,
            virtual_size: 10 << 30,
            disk_id: Uuid::from_u128(9),
            logical_sector: 512,
            physical_sector: 4096,
            parent: None,
        }
    }

    #[test]
    fn items_survive() {
        let storage = MemoryStorage::new();
        storage.set_len(2 << 20).unwrap();
        storage.write_at(&encode(&sample()), 1 << 20).unwrap();
        let region = Region { id: super::super::region::METADATA, offset: 1 << 20, len: 1 << 20, required: true };
        let mut findings = Vec::new();
        assert_eq!(read(&storage, region, &mut findings).unwrap(), sample());
        assert_eq!(findings, []);
    }
}
