//! The region table (specification: "region table").

use std::collections::HashSet;

use uuid::{Uuid, uuid};

use super::header::{HEADER_SECTION, guid};
use super::{ALIGNMENT, checksum};
use crate::bytes::{fit_u32, index, le_u32, le_u64, nth, put, wide};
use crate::error::Result;
use crate::finding::{Fault, Finding, VhdxFinding};
use crate::storage::ReadAt;

pub(super) const TABLES: [u64; 2] = [192 << 10, 256 << 10];
pub(super) const TABLE_LEN: usize = 64 << 10;
const MAX_ENTRIES: u32 = 2047;
const ENTRY_LEN: usize = 32;
const FIRST_ENTRY: usize = 16;

pub(super) const BAT: Uuid = uuid!("2DC27766-F623-4200-9D64-115E9BFD4A08");
pub(super) const METADATA: Uuid = uuid!("8B7CA206-4790-4B9A-B8FE-575F050F886E");

/// A part of the file that the table names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Region {
    pub(super) id: Uuid,
    pub(super) offset: u64,
    pub(super) len: u64,
    pub(super) required: bool,
}

impl Region {
    /// For messages.
    pub(super) fn name(&self) -> String {
        match self.id {
            BAT => "block allocation table".to_owned(),
            METADATA => "metadata region".to_owned(),
            other => format!("region {other}"),
        }
    }

    pub(super) fn end(&self) -> u64 {
        self.at(self.len)
    }

    /// A place in the file, by its place in the region. What has no room lies past the end of everything.
    pub(super) fn at(&self, within: u64) -> u64 {
        self.offset.saturating_add(within)
    }
}

/// The regions in a table, or why there is none.
pub(super) fn parse(bytes: &[u8]) -> std::result::Result<Vec<Region>, Fault> {
    if bytes.len() != TABLE_LEN || bytes[..4] != *b"regi" {
        return Err(Fault::Signature("regi"));
    }
    if checksum(bytes) != le_u32(bytes, 4) {
        return Err(Fault::Checksum);
    }
    let count = le_u32(bytes, 8);
    if count > MAX_ENTRIES {
        return Err(Fault::Entries { claimed: u64::from(count), most: u64::from(MAX_ENTRIES) });
    }
    let entries = bytes[FIRST_ENTRY..].chunks_exact(ENTRY_LEN).take(index(u64::from(count)));
    Ok(entries
        .map(|entry| Region {
            id: guid(entry, 0),
            offset: le_u64(entry, 16),
            len: u64::from(le_u32(entry, 24)),
            required: le_u32(entry, 28) & 1 != 0,
        })
        .collect())
}

/// The entry with this number, as it stands in a table.
pub(super) fn entry_of(table: &mut [u8], number: usize) -> &mut [u8] {
    &mut table[nth(FIRST_ENTRY, ENTRY_LEN, number)..][..ENTRY_LEN]
}

pub(super) fn encode(regions: &[Region]) -> Vec<u8> {
    let mut bytes = vec![0; TABLE_LEN];
    put(&mut bytes, 0, b"regi");
    put(&mut bytes, 8, &fit_u32(wide(regions.len())).to_le_bytes());
    for (entry, region) in bytes[FIRST_ENTRY..].chunks_exact_mut(ENTRY_LEN).zip(regions) {
        put(entry, 0, &region.id.to_bytes_le());
        put(entry, 16, &region.offset.to_le_bytes());
        put(entry, 24, &fit_u32(region.len).to_le_bytes());
        put(entry, 28, &u32::from(region.required).to_le_bytes());
    }
    let sum = checksum(&bytes);
    put(&mut bytes, 4, &sum.to_le_bytes());
    bytes
}

/// Reads the regions from the first valid table and judges them; `log` is the log's place as a region.
pub(super) fn read(view: &dyn ReadAt, log: Region, findings: &mut Vec<Finding>) -> Result<Vec<Region>> {
    let mut raw = [vec![0; TABLE_LEN], vec![0; TABLE_LEN]];
    for (bytes, offset) in raw.iter_mut().zip(TABLES) {
        view.read_at(bytes, offset)?;
    }
    let broken = |slot: usize, fault| {
        Finding::new(VhdxFinding::RegionTable { number: slot.saturating_add(1), fault }, TABLES[slot])
    };
    let regions = match [parse(&raw[0]), parse(&raw[1])] {
        [Err(first), Err(second)] => {
            return Err(Finding::new(VhdxFinding::RegionTables { first, second }, TABLES[0]).into());
        }
        [Ok(regions), Err(fault)] => {
            findings.push(broken(1, fault));
            regions
        }
        [Err(fault), Ok(regions)] => {
            findings.push(broken(0, fault));
            regions
        }
        [Ok(regions), Ok(_)] => {
            if raw[0] != raw[1] {
                findings.push(Finding::new(VhdxFinding::RegionTablesDiffer, TABLES[1]));
            }
            regions
        }
    };
    judge(&regions, log, view.len()?, findings)?;
    Ok(regions)
}

fn judge(regions: &[Region], log: Region, file: u64, findings: &mut Vec<Finding>) -> Result<()> {
    let found = |kind| Finding::new(kind, TABLES[0]);
    let mut seen = HashSet::new();
    for Region { id, offset, len: length, required } in regions.iter().copied() {
        let region = Region { id, offset, len: length, required }.name();
        let known = [BAT, METADATA].contains(&id);
        if !seen.insert(id) {
            return Err(found(VhdxFinding::RegionTwice { region }).into());
        }
        if required && !known {
            return Err(found(VhdxFinding::RegionUnknown { region }).into());
        }
        let end = offset.checked_add(length);
        let is_aligned = offset.is_multiple_of(ALIGNMENT) && length.is_multiple_of(ALIGNMENT);
        let Some(end) = end.filter(|_| is_aligned && offset >= HEADER_SECTION && length > 0) else {
            return Err(found(VhdxFinding::RegionPlace { region, offset, length }).into());
        };
        if known && end > file {
            return Err(found(VhdxFinding::RegionOutside { region, offset, length, file }).into());
        }
        if known && !required {
            findings.push(found(VhdxFinding::RegionFlag { region }));
        }
    }
    for (id, region) in [(BAT, "block allocation table"), (METADATA, "metadata region")] {
        if !seen.contains(&id) {
            return Err(found(VhdxFinding::RegionMissing { region }).into());
        }
    }
    let mut sorted: Vec<(u64, u64, String)> = regions.iter().map(|r| (r.offset, r.end(), r.name())).collect();
    sorted.push((log.offset, log.end(), "log".to_owned()));
    sorted.sort();
    for ((_, end, first), (at, _, second)) in sorted.iter().zip(sorted.iter().skip(1)) {
        if end > at {
            let (first, second) = (first.clone(), second.clone());
            return Err(found(VhdxFinding::RegionOverlap { first, second, at: *at }).into());
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_survives() {
        let regions = vec![
            Region { id: BAT, offset: 3 << 20, len: 1 << 20, required: true },
            Region { id: METADATA, offset: 2 << 20, len: 1 << 20, required: true },
        ];
        let bytes = encode(&regions);
        assert_eq!(parse(&bytes), Ok(regions));
        assert_eq!(bytes[16..20], [0x66, 0x77, 0xc2, 0x2d]);
        assert!(parse(&bytes[1..]).is_err());
    }
}
