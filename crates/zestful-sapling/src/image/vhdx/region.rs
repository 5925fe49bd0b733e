//! The region table (specification: "region table").

use std::collections::HashSet;

use uuid::{Uuid, uuid};

use super::header::{HEADER_SECTION, guid};
use super::{ALIGNMENT, checksum};
use crate::bytes::{le_u32, le_u64, put};
use crate::error::{Error, Result};
use crate::finding::{Finding, Repair};
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
        self.offset + self.len
    }
}

/// The regions in a table, or why there is none.
pub(super) fn parse(bytes: &[u8]) -> std::result::Result<Vec<Region>, String> {
    if bytes.len() != TABLE_LEN || bytes[..4] != *b"regi" {
        return Err("the signature `regi` is missing".to_owned());
    }
    if checksum(bytes) != le_u32(bytes, 4) {
        return Err("the checksum is wrong".to_owned());
    }
    let count = le_u32(bytes, 8);
    if count > MAX_ENTRIES {
        return Err(format!("it claims {count} entries, at most {MAX_ENTRIES} are legal"));
    }
    let entries = bytes[FIRST_ENTRY..].chunks_exact(ENTRY_LEN).take(count as usize);
    Ok(entries
        .map(|entry| Region {
            id: guid(entry, 0),
            offset: le_u64(entry, 16),
            len: u64::from(le_u32(entry, 24)),
            required: le_u32(entry, 28) & 1 != 0,
        })
        .collect())
}

pub(super) fn encode(regions: &[Region]) -> Vec<u8> {
    let mut bytes = vec![0; TABLE_LEN];
    put(&mut bytes, 0, b"regi");
    put(&mut bytes, 8, &(regions.len() as u32).to_le_bytes());
    for (entry, region) in bytes[FIRST_ENTRY..].chunks_exact_mut(ENTRY_LEN).zip(regions) {
        put(entry, 0, &region.id.to_bytes_le());
        put(entry, 16, &region.offset.to_le_bytes());
        put(entry, 24, &(region.len as u32).to_le_bytes());
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
    let broken = |slot: usize, why: String| {
        let name = format!("region table {}", slot + 1);
        Finding::broken("vhdx-region-table", &name, TABLES[slot], why, Repair::Safe)
    };
    let regions = match [parse(&raw[0]), parse(&raw[1])] {
        [Err(first), Err(second)] => {
            let message = format!("neither region table is valid: in table 1 {first}; in table 2 {second}");
            let finding = Finding::fatal("vhdx-region-tables", "region table 1", TABLES[0], message);
            return Err(Error::from_finding(finding));
        }
        [Ok(regions), Err(why)] => {
            findings.push(broken(1, why));
            regions
        }
        [Err(why), Ok(regions)] => {
            findings.push(broken(0, why));
            regions
        }
        [Ok(regions), Ok(_)] => {
            if raw[0] != raw[1] {
                let message = "the two region tables are valid but differ; the first one is used";
                let finding =
                    Finding::broken("vhdx-region-tables-differ", "region table 2", TABLES[1], message, Repair::Lossy);
                findings.push(finding);
            }
            regions
        }
    };
    judge(&regions, log, view.len()?, findings)?;
    Ok(regions)
}

fn judge(regions: &[Region], log: Region, len: u64, findings: &mut Vec<Finding>) -> Result<()> {
    let table = "region table";
    let fatal = |code, message: String| Err(Error::from_finding(Finding::fatal(code, table, TABLES[0], message)));
    let mut seen = HashSet::new();
    for region in regions {
        let (name, offset, length) = (region.name(), region.offset, region.len);
        let known = [BAT, METADATA].contains(&region.id);
        if !seen.insert(region.id) {
            return fatal("vhdx-region-twice", format!("it lists the {name} twice"));
        }
        if region.required && !known {
            let message = format!("the {name} is marked required, but is not known");
            return Err(Error::from_finding(Finding::unsupported("vhdx-region-unknown", table, TABLES[0], message)));
        }
        if !offset.is_multiple_of(ALIGNMENT)
            || !length.is_multiple_of(ALIGNMENT)
            || offset < HEADER_SECTION
            || length == 0
            || offset.checked_add(length).is_none()
        {
            let message = format!("the place of the {name} is not legal: offset={offset}, length={length}");
            return fatal("vhdx-region-place", message);
        }
        if known && region.end() > len {
            let message = format!("the {name} lies outside the file: offset={offset}, length={length}, file={len}");
            return fatal("vhdx-region-outside", message);
        }
        if known && !region.required {
            let message = format!("the {name} is not marked required");
            findings.push(Finding::broken("vhdx-region-flag", table, TABLES[0], message, Repair::Safe));
        }
    }
    for (id, name) in [(BAT, "block allocation table"), (METADATA, "metadata region")] {
        if !seen.contains(&id) {
            return fatal("vhdx-region-missing", format!("it does not list the {name}"));
        }
    }
    let mut sorted: Vec<(u64, u64, String)> = regions.iter().map(|r| (r.offset, r.end(), r.name())).collect();
    sorted.push((log.offset, log.end(), "log".to_owned()));
    sorted.sort();
    for pair in sorted.windows(2) {
        if pair[0].1 > pair[1].0 {
            let message = format!("the {} and the {} overlap at byte {}", pair[0].2, pair[1].2, pair[1].0);
            return fatal("vhdx-region-overlap", message);
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
