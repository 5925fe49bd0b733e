//! The metadata region: its table and the items that describe the disk (specification: "metadata region").

use std::collections::HashSet;

use uuid::{Uuid, uuid};

use super::header::guid;
use super::region::Region;
use super::{MAX_BLOCK_SIZE, MAX_VIRTUAL_SIZE, MIN_BLOCK_SIZE, locator};
use crate::bytes::{le_u16, le_u32, le_u64, put};
use crate::error::{Error, Result};
use crate::finding::{Effect, Finding, Repair};
use crate::image::ParentReference;
use crate::storage::ReadAt;

pub(super) const TABLE_LEN: usize = 64 << 10;
const MAX_ENTRIES: usize = 2047;
const MAX_USER_ENTRIES: usize = 1024;
const MAX_ITEM_LEN: u32 = 1 << 20;
/// Longer paths make no sense.
const MOST_LOCATOR: u64 = 256 << 10;
const ENTRY_LEN: usize = 32;
const FIRST_ENTRY: usize = 32;

pub(super) const FILE_PARAMETERS: Uuid = uuid!("CAA16737-FA36-4D43-B3B6-33F0AA44E76B");
pub(super) const VIRTUAL_SIZE: Uuid = uuid!("2FA54224-CD1B-4876-B211-5DBED83BF4B8");
pub(super) const DISK_ID: Uuid = uuid!("BECA12AB-B2E6-4523-93EF-C309E000C746");
pub(super) const LOGICAL_SECTOR: Uuid = uuid!("8141BF1D-A96F-4709-BA47-F233A8FAAB5F");
pub(super) const PHYSICAL_SECTOR: Uuid = uuid!("CDA348C7-445D-4471-9CC9-E9885251C556");
pub(super) const PARENT_LOCATOR: Uuid = uuid!("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C");

const IS_USER: u32 = 1;
const IS_VIRTUAL_DISK: u32 = 2;
const IS_REQUIRED: u32 = 4;

/// The system items: id, name, length where fixed, flags.
const KNOWN: [(Uuid, &str, Option<u32>, u32); 6] = [
    (FILE_PARAMETERS, "file parameters", Some(8), IS_REQUIRED),
    (VIRTUAL_SIZE, "virtual disk size", Some(8), IS_REQUIRED | IS_VIRTUAL_DISK),
    (DISK_ID, "virtual disk id", Some(16), IS_REQUIRED | IS_VIRTUAL_DISK),
    (LOGICAL_SECTOR, "logical sector size", Some(4), IS_REQUIRED | IS_VIRTUAL_DISK),
    (PHYSICAL_SECTOR, "physical sector size", Some(4), IS_REQUIRED | IS_VIRTUAL_DISK),
    (PARENT_LOCATOR, "parent locator", None, IS_REQUIRED),
];

const LEAVE_BLOCKS_ALLOCATED: u32 = 1;
const HAS_PARENT: u32 = 2;

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
struct Item {
    id: Uuid,
    offset: u32,
    len: u32,
    flags: u32,
}

impl Item {
    fn name(&self) -> String {
        let known = KNOWN.iter().find(|known| known.0 == self.id && self.flags & IS_USER == 0);
        known.map_or_else(|| format!("metadata item {}", self.id), |known| format!("metadata item `{}`", known.1))
    }

    fn end(&self) -> u64 {
        u64::from(self.offset) + u64::from(self.len)
    }
}

fn parse_table(bytes: &[u8]) -> std::result::Result<Vec<Item>, String> {
    if bytes.len() != TABLE_LEN || bytes[..8] != *b"metadata" {
        return Err("the signature `metadata` is missing".to_owned());
    }
    let count = usize::from(le_u16(bytes, 10));
    if count > MAX_ENTRIES {
        return Err(format!("it claims {count} entries, at most {MAX_ENTRIES} are legal"));
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
    Ok(found.map(|item| region.offset + u64::from(item.offset)))
}

/// The changes of bytes, by their place in the file, that replace the parent locator.
pub(super) fn replace_locator(
    view: &dyn ReadAt,
    region: Region,
    parent: &ParentReference,
) -> Result<Vec<(u64, Vec<u8>)>> {
    let full = |message: &str| {
        Error::from_finding(Finding::unsupported("vhdx-locator-room", "metadata", region.offset, message))
    };
    let mut bytes = vec![0; TABLE_LEN];
    view.read_at(&mut bytes, region.offset)?;
    let items = parse_table(&bytes).unwrap_or_default();
    let number = items.iter().position(|item| item.id == PARENT_LOCATOR && item.flags & IS_USER == 0);
    let number = number.ok_or_else(|| full("there is no parent locator to replace"))?;
    let mut old = vec![0; items[number].len.min(MAX_ITEM_LEN) as usize];
    view.read_at(&mut old, region.offset + u64::from(items[number].offset))?;
    let locator = locator::replace(&old, parent);
    let len = locator.len() as u64;
    // One commit of the log has room for a hundred pages.
    if len > MOST_LOCATOR {
        return Err(full("what is recorded of the parent is too long"));
    }
    let others: Vec<&Item> = items.iter().enumerate().filter(|(n, _)| *n != number).map(|(_, item)| item).collect();
    let mut places = vec![u64::from(items[number].offset), TABLE_LEN as u64];
    places.extend(others.iter().map(|item| item.end().next_multiple_of(8)));
    let free = |start: &u64| {
        let end = start + len;
        *start >= TABLE_LEN as u64
            && end <= region.len
            && others.iter().all(|item| item.len == 0 || item.end() <= *start || u64::from(item.offset) >= end)
    };
    let place =
        places.into_iter().find(free).ok_or_else(|| full("the region has no room for the paths of the parent"))?;
    let entry = region.offset + (FIRST_ENTRY + ENTRY_LEN * number) as u64;
    let whereabouts = [(place as u32).to_le_bytes(), (len as u32).to_le_bytes()].concat();
    Ok(vec![(region.offset + place, locator), (entry + 16, whereabouts)])
}

/// The changes of bytes, by their place in the file, after which the image says that it has no parent.
pub(super) fn remove_locator(view: &dyn ReadAt, region: Region) -> Result<Vec<(u64, Vec<u8>)>> {
    let mut bytes = vec![0; TABLE_LEN];
    view.read_at(&mut bytes, region.offset)?;
    let items = parse_table(&bytes).unwrap_or_default();
    let system = |id: Uuid| items.iter().position(|item| item.id == id && item.flags & IS_USER == 0);
    let mut edits = Vec::new();
    if let (Some(number), Some(last)) = (system(PARENT_LOCATOR), items.len().checked_sub(1)) {
        let entry = |number: usize| FIRST_ENTRY + ENTRY_LEN * number;
        // The last entry takes the place of the one that goes.
        let moved = bytes[entry(last)..entry(last + 1)].to_vec();
        edits.push((region.offset + entry(number) as u64, moved));
        edits.push((region.offset + entry(last) as u64, vec![0; ENTRY_LEN]));
        edits.push((region.offset + 10, (last as u16).to_le_bytes().to_vec()));
    }
    if let Some(parameters) = system(FILE_PARAMETERS) {
        let at = region.offset + u64::from(items[parameters].offset) + 4;
        let mut flags = [0; 4];
        view.read_at(&mut flags, at)?;
        edits.push((at, (u32::from_le_bytes(flags) & !HAS_PARENT).to_le_bytes().to_vec()));
    }
    Ok(edits)
}

/// Reads and judges the items.
pub(super) fn read(view: &dyn ReadAt, region: Region, findings: &mut Vec<Finding>) -> Result<Parameters> {
    let table = "metadata table";
    let fatal = |code, message: String| Error::from_finding(Finding::fatal(code, table, region.offset, message));
    let mut bytes = vec![0; TABLE_LEN];
    view.read_at(&mut bytes, region.offset)?;
    let items = parse_table(&bytes).map_err(|why| fatal("vhdx-metadata-table", why))?;
    judge_items(&items, region, findings).map_err(|mut finding| {
        finding.place.offset = region.offset;
        Error::from_finding(finding)
    })?;

    let value = |id: Uuid| -> Result<Option<(Vec<u8>, u64)>> {
        let Some(item) = items.iter().find(|item| item.id == id && item.flags & IS_USER == 0) else {
            return Ok(None);
        };
        let mut bytes = vec![0; item.len as usize];
        let at = region.offset + u64::from(item.offset);
        view.read_at(&mut bytes, at)?;
        Ok(Some((bytes, at)))
    };
    let needed = |id: Uuid, name: &str| -> Result<(Vec<u8>, u64)> {
        value(id)?.ok_or_else(|| fatal("vhdx-metadata-missing", format!("the item `{name}` is missing")))
    };
    let illegal = |name: &str, at: u64, message: String| {
        Error::from_finding(Finding::fatal("vhdx-metadata-value", &format!("metadata item `{name}`"), at, message))
    };

    let (parameters, at) = needed(FILE_PARAMETERS, "file parameters")?;
    let block_size = u64::from(le_u32(&parameters, 0));
    let flags = le_u32(&parameters, 4);
    if !block_size.is_power_of_two() || !(MIN_BLOCK_SIZE..=MAX_BLOCK_SIZE).contains(&block_size) {
        let message = format!("the block size {block_size} is not legal, powers of two from 1 MiB to 256 MiB are");
        return Err(illegal("file parameters", at, message));
    }
    if flags & !(LEAVE_BLOCKS_ALLOCATED | HAS_PARENT) != 0 {
        let message = format!("reserved flags are set: {flags:#x}");
        findings.push(Finding::broken("vhdx-metadata-flags", "file parameters", at, message, Repair::Safe));
    }
    let sector = |bytes: &[u8], at: u64, name: &str| match le_u32(bytes, 0) {
        size @ (512 | 4096) => Ok(size),
        other => Err(illegal(name, at, format!("the sector size {other} is not legal, 512 and 4096 are"))),
    };
    let (bytes, at) = needed(LOGICAL_SECTOR, "logical sector size")?;
    let logical_sector = sector(&bytes, at, "logical sector size")?;
    let (bytes, at) = needed(VIRTUAL_SIZE, "virtual disk size")?;
    let virtual_size = le_u64(&bytes, 0);
    if virtual_size == 0 || virtual_size > MAX_VIRTUAL_SIZE || !virtual_size.is_multiple_of(u64::from(logical_sector)) {
        let message = format!(
            "the size {virtual_size} is not legal: a multiple of {logical_sector}, at most {MAX_VIRTUAL_SIZE}, is"
        );
        return Err(illegal("virtual disk size", at, message));
    }
    let mut missing = |name: &str, used: &str| {
        let message = format!("the item `{name}` is missing; {used} is used");
        let finding = Finding::broken("vhdx-metadata-missing", table, region.offset, message, Repair::Lossy);
        findings.push(finding);
    };
    let physical_sector = match value(PHYSICAL_SECTOR)? {
        Some((bytes, at)) => sector(&bytes, at, "physical sector size")?,
        None => {
            missing("physical sector size", "4096");
            4096
        }
    };
    let disk_id = match value(DISK_ID)? {
        Some((bytes, _)) => guid(&bytes, 0),
        None => {
            missing("virtual disk id", "an all-zero id");
            Uuid::nil()
        }
    };
    let parent = match (flags & HAS_PARENT != 0, value(PARENT_LOCATOR)?) {
        (false, None) => None,
        (false, Some((_, at))) => {
            let message = "there is a parent locator, but the file parameters say that there is no parent";
            findings.push(Finding::warning("vhdx-locator-unused", "parent locator", at, message, Repair::Safe));
            None
        }
        (true, None) => {
            return Err(fatal("vhdx-locator-missing", "the image has a parent, but no parent locator".to_owned()));
        }
        (true, Some((bytes, at))) => {
            let parent = locator::parse(&bytes)
                .map_err(|why| Error::from_finding(Finding::fatal("vhdx-locator", "parent locator", at, why)))?;
            if parent.paths.is_empty() {
                let message = "it names no path of the parent";
                findings.push(Finding::broken("vhdx-locator-paths", "parent locator", at, message, Repair::Safe));
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

fn judge_items(items: &[Item], region: Region, findings: &mut Vec<Finding>) -> std::result::Result<(), Finding> {
    let table = "metadata table";
    let mut seen = HashSet::new();
    let mut places: Vec<(u64, u64, String)> = Vec::new();
    for item in items {
        let name = item.name();
        let user = item.flags & IS_USER != 0;
        if !seen.insert((item.id, user)) {
            return Err(Finding::fatal("vhdx-metadata-twice", table, 0, format!("it lists the {name} twice")));
        }
        let known = KNOWN.iter().find(|known| known.0 == item.id && !user);
        if known.is_none() && item.flags & IS_REQUIRED != 0 {
            let message = format!("the {name} is marked required, but is not known");
            return Err(Finding::unsupported("vhdx-metadata-unknown", table, 0, message));
        }
        if let Some((_, _, Some(len), _)) = known.filter(|known| known.2.is_some_and(|len| len != item.len)) {
            let message = format!("the {name} is {} bytes long, {len} are right", item.len);
            return Err(Finding::fatal("vhdx-metadata-length", table, 0, message));
        }
        if let Some((.., flags)) = known.filter(|known| known.3 != item.flags & (IS_VIRTUAL_DISK | IS_REQUIRED)) {
            let message = format!("the {name} carries the flags {:#x}, {flags:#x} are right", item.flags);
            findings.push(Finding::broken("vhdx-metadata-flags", table, region.offset, message, Repair::Safe));
        }
        if item.len == 0 {
            continue;
        }
        if item.len > MAX_ITEM_LEN || (item.offset as usize) < TABLE_LEN || item.end() > region.len {
            let message = format!("the {name} lies outside its place: offset={}, length={}", item.offset, item.len);
            let finding = Finding::fatal("vhdx-metadata-outside", table, 0, message);
            if known.is_some() {
                return Err(finding);
            }
            findings.push(Finding { effect: Effect::Readable, ..finding });
            continue;
        }
        places.push((u64::from(item.offset), item.end(), name));
    }
    if items.iter().filter(|item| item.flags & IS_USER != 0).count() > MAX_USER_ENTRIES {
        let message = format!("it has more than {MAX_USER_ENTRIES} user items");
        return Err(Finding::fatal("vhdx-metadata-users", table, 0, message));
    }
    places.sort();
    for pair in places.windows(2) {
        if pair[0].1 > pair[1].0 {
            let message = format!("the {} and the {} overlap", pair[0].2, pair[1].2);
            return Err(Finding::fatal("vhdx-metadata-overlap", table, 0, message));
        }
    }
    Ok(())
}

/// A whole region's beginning: the table and the items after it.
pub(super) fn encode(parameters: &Parameters) -> Vec<u8> {
    let flags = if parameters.leave_blocks_allocated { LEAVE_BLOCKS_ALLOCATED } else { 0 }
        | if parameters.parent.is_some() { HAS_PARENT } else { 0 };
    let block_size = parameters.block_size as u32;
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
    let mut count = 0u16;
    for (id, value) in values.into_iter().filter(|(_, value)| !value.is_empty()) {
        let flags = KNOWN.iter().find(|known| known.0 == id).map_or(0, |known| known.3);
        let entry = FIRST_ENTRY + ENTRY_LEN * usize::from(count);
        let at = bytes.len() as u32;
        put(&mut bytes, entry, &id.to_bytes_le());
        put(&mut bytes, entry + 16, &at.to_le_bytes());
        put(&mut bytes, entry + 20, &(value.len() as u32).to_le_bytes());
        put(&mut bytes, entry + 24, &flags.to_le_bytes());
        bytes.extend(value);
        // Items on even places, so that no reader meets an odd one.
        bytes.resize(bytes.len().next_multiple_of(8), 0);
        count += 1;
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

    fn read_back(bytes: &[u8]) -> (Result<Parameters>, Vec<Finding>) {
        let storage = MemoryStorage::new();
        storage.set_len(2 << 20).unwrap();
        storage.write_at(bytes, 1 << 20).unwrap();
        let region = Region { id: super::super::region::METADATA, offset: 1 << 20, len: 1 << 20, required: true };
        let mut findings = Vec::new();
        (read(&storage, region, &mut findings), findings)
    }

    #[test]
    fn items_survive() {
        let (read, findings) = read_back(&encode(&sample()));
        assert_eq!(read.unwrap(), sample());
        assert_eq!(findings, []);
    }

    /// Each row spoils one field and names the finding that must come of it.
    #[test]
    fn each_rule_is_judged() {
        let entry = |item: usize, field: usize| FIRST_ENTRY + ENTRY_LEN * item + field;
        let table: [(&str, usize, &[u8]); 9] = [
            ("vhdx-metadata-table", 0, b"M"),
            ("vhdx-metadata-table", 10, &[0xFF, 0xFF]),
            ("vhdx-metadata-missing", 10, &[1]),
            ("vhdx-metadata-length", entry(1, 20), &[4]),
            ("vhdx-metadata-outside", entry(1, 16), &[0, 0, 0, 0]),
            ("vhdx-metadata-overlap", entry(1, 16), &[0, 0, 1, 0]),
            ("vhdx-metadata-unknown", entry(1, 0), &[1]),
            ("vhdx-metadata-value", TABLE_LEN, &[1]),
            ("vhdx-metadata-value", TABLE_LEN + 8 + 8 + 16, &[1]),
        ];
        for (code, at, spoiled) in table {
            let mut bytes = encode(&sample());
            put(&mut bytes, at, spoiled);
            match read_back(&bytes).0 {
                Err(Error::Damaged(finding) | Error::Unsupported(finding)) => assert_eq!(finding.code, code),
                other => panic!("{code}: {other:?}"),
            }
        }
    }
}
