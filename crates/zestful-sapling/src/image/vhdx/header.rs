//! The file type identifier and the two headers (specification: "header section").
//!
//! ```text
//! 0        file type identifier   64 KiB
//! 64 KiB   header 1               64 KiB, 4 KiB used
//! 128 KiB  header 2               64 KiB, 4 KiB used
//! 192 KiB  region table 1         64 KiB
//! 256 KiB  region table 2         64 KiB
//! 320 KiB  reserved               up to 1 MiB
//! ```

use uuid::Uuid;

use super::checksum;
use crate::bytes::{array, le_u16, le_u32, le_u64, put};
use crate::error::Result;
use crate::finding::{Fault, Finding, VhdxFinding};
use crate::storage::ReadAt;

pub(crate) const SIGNATURE: &[u8; 8] = b"vhdxfile";
pub(super) const HEADER_SECTION: u64 = 1 << 20;
/// Where the two headers stand.
pub(super) const HEADERS: [u64; 2] = [64 << 10, 128 << 10];
pub(super) const HEADER_LEN: usize = 4096;

const CHECKSUM: usize = 4;
const SEQUENCE: usize = 8;
const FILE_WRITE: usize = 16;
const DATA_WRITE: usize = 32;
const LOG_GUID: usize = 48;
const LOG_VERSION: usize = 64;
const VERSION: usize = 66;
const LOG_LENGTH: usize = 68;
const LOG_OFFSET: usize = 72;

/// One header.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Header {
    pub(super) sequence: u64,
    /// Changes before the first change of any kind in a session.
    pub(super) file_write: Uuid,
    /// Changes before the first change in a session that a guest could see.
    pub(super) data_write: Uuid,
    /// Nil while the log is empty.
    pub(super) log: Uuid,
    pub(super) log_version: u16,
    pub(super) version: u16,
    pub(super) log_length: u32,
    pub(super) log_offset: u64,
}

impl Header {
    /// The header in these bytes, or why there is none.
    pub(super) fn parse(bytes: &[u8; HEADER_LEN]) -> std::result::Result<Self, Fault> {
        if bytes[..4] != *b"head" {
            return Err(Fault::Signature("head"));
        }
        if checksum(bytes) != le_u32(bytes, CHECKSUM) {
            return Err(Fault::Checksum);
        }
        Ok(Self {
            sequence: le_u64(bytes, SEQUENCE),
            file_write: guid(bytes, FILE_WRITE),
            data_write: guid(bytes, DATA_WRITE),
            log: guid(bytes, LOG_GUID),
            log_version: le_u16(bytes, LOG_VERSION),
            version: le_u16(bytes, VERSION),
            log_length: le_u32(bytes, LOG_LENGTH),
            log_offset: le_u64(bytes, LOG_OFFSET),
        })
    }

    pub(super) fn encode(&self) -> [u8; HEADER_LEN] {
        let mut bytes = [0; HEADER_LEN];
        put(&mut bytes, 0, b"head");
        put(&mut bytes, SEQUENCE, &self.sequence.to_le_bytes());
        put(&mut bytes, FILE_WRITE, &self.file_write.to_bytes_le());
        put(&mut bytes, DATA_WRITE, &self.data_write.to_bytes_le());
        put(&mut bytes, LOG_GUID, &self.log.to_bytes_le());
        put(&mut bytes, LOG_VERSION, &self.log_version.to_le_bytes());
        put(&mut bytes, VERSION, &self.version.to_le_bytes());
        put(&mut bytes, LOG_LENGTH, &self.log_length.to_le_bytes());
        put(&mut bytes, LOG_OFFSET, &self.log_offset.to_le_bytes());
        let sum = checksum(&bytes);
        put(&mut bytes, CHECKSUM, &sum.to_le_bytes());
        bytes
    }
}

/// A GUID in its disk form: three little-endian fields, then eight bytes as written.
pub(super) fn guid(bytes: &[u8], at: usize) -> Uuid {
    Uuid::from_bytes_le(array(bytes, at))
}

/// The file type identifier of a new file.
pub(super) fn encode_identifier(creator: &str) -> Vec<u8> {
    let mut bytes = vec![0; 64 << 10];
    put(&mut bytes, 0, SIGNATURE);
    let text = crate::bytes::to_utf16le(creator);
    put(&mut bytes, 8, &text[..text.len().min(512)]);
    bytes
}

/// The header that rules.
pub(super) struct Current {
    pub(super) header: Header,
    /// Which of the two places holds it.
    pub(super) slot: usize,
    /// Whether the other header, an older one, speaks of the same content and of no log: what this session has put
    /// into its log changes nothing that a guest sees.
    pub(super) content_settled: bool,
}

/// The current header, judged.
///
/// Nothing is ever taken from the other header: it may be stale, and name another log.
pub(super) fn select(storage: &dyn ReadAt, findings: &mut Vec<Finding>) -> Result<Current> {
    let found = current(storage, findings)?;
    judge(&found.header, found.slot, storage.len()?, findings)?;
    Ok(found)
}

/// The two headers as they stand in the file, each at its place.
pub(super) fn both(storage: &dyn ReadAt) -> Result<[[u8; HEADER_LEN]; 2]> {
    let mut raw = [[0; HEADER_LEN]; 2];
    for (bytes, offset) in raw.iter_mut().zip(HEADERS) {
        storage.read_at(bytes, offset)?;
    }
    Ok(raw)
}

/// The current header, whatever it says.
pub(super) fn current(storage: &dyn ReadAt, findings: &mut Vec<Finding>) -> Result<Current> {
    let len = storage.len()?;
    let mut signature = [0; 8];
    if len >= 8 {
        storage.read_at(&mut signature, 0)?;
    }
    if signature != *SIGNATURE {
        return Err(Finding::new(VhdxFinding::Signature, 0).into());
    }
    if len < HEADER_SECTION {
        return Err(Finding::new(VhdxFinding::TooShort { len }, len).into());
    }
    let raw = both(storage)?;
    let broken =
        |slot: usize, fault| Finding::new(VhdxFinding::Header { number: slot.saturating_add(1), fault }, HEADERS[slot]);
    let (header, slot, other) = match [Header::parse(&raw[0]), Header::parse(&raw[1])] {
        [Err(first), Err(second)] => {
            return Err(Finding::new(VhdxFinding::Headers { first, second }, HEADERS[0]).into());
        }
        [Ok(header), Err(fault)] => {
            findings.push(broken(1, fault));
            (header, 0, None)
        }
        [Err(fault), Ok(header)] => {
            findings.push(broken(0, fault));
            (header, 1, None)
        }
        [Ok(first), Ok(_)] if raw[0] == raw[1] => {
            findings.push(Finding::new(VhdxFinding::HeadersSame, HEADERS[1]));
            (first, 0, None)
        }
        [Ok(first), Ok(second)] if first.sequence == second.sequence => {
            let sequence = first.sequence;
            return Err(Finding::new(VhdxFinding::HeadersEqual { sequence }, HEADERS[1]).into());
        }
        [Ok(first), Ok(second)] if first.sequence > second.sequence => (first, 0, Some(second)),
        [Ok(first), Ok(second)] => (second, 1, Some(first)),
    };
    let is_settled = |other: Header| other.log.is_nil() && other.data_write == header.data_write;
    Ok(Current { content_settled: other.is_some_and(is_settled), header, slot })
}

fn judge(header: &Header, slot: usize, file: u64, findings: &mut Vec<Finding>) -> Result<()> {
    let (number, at) = (slot.saturating_add(1), HEADERS[slot]);
    let (offset, length) = (header.log_offset, u64::from(header.log_length));
    let found = if header.version != 1 {
        VhdxFinding::Version { number, version: header.version }
    } else if offset % super::ALIGNMENT != 0 || length % super::ALIGNMENT != 0 || length == 0 || offset < HEADER_SECTION
    {
        VhdxFinding::LogPlace { number, offset, length }
    } else if offset.checked_add(length).is_none_or(|end| end > file) {
        VhdxFinding::LogOutside { number, offset, length, file }
    } else if header.log_version != 0 && header.log.is_nil() {
        findings.push(Finding::new(VhdxFinding::LogVersionUnused { number, version: header.log_version }, at));
        return Ok(());
    } else if header.log_version != 0 {
        VhdxFinding::LogVersion { version: header.log_version }
    } else {
        return Ok(());
    };
    Err(Finding::new(found, at).into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_header_survives_and_each_byte_counts() {
        let header = Header {
            sequence: 7,
            file_write: Uuid::from_u128(1),
            data_write: Uuid::from_u128(2),
            log: Uuid::from_u128(3),
            log_version: 0,
            version: 1,
            log_length: 1 << 20,
            log_offset: 1 << 20,
        };
        let bytes = header.encode();
        assert_eq!(Header::parse(&bytes), Ok(header));
        for at in (0..HEADER_LEN).step_by(13) {
            let mut spoiled = bytes;
            spoiled[at] ^= 0x10;
            assert!(Header::parse(&spoiled).is_err(), "byte {at}");
        }
    }

    /// The check values that every description of CRC-32C gives.
    #[test]
    fn checksum_is_crc32c() {
        assert_eq!(crc32c::crc32c(b"123456789"), 0xE306_9283);
        assert_eq!(crc32c::crc32c(&[0; 32]), 0x8A91_36AA);
        let mut bytes = [0xFF; 32];
        bytes[4..8].fill(0);
        let whole = crc32c::crc32c(&bytes);
        bytes[4..8].fill(0xAB);
        assert_eq!(checksum(&bytes), whole);
    }

    #[test]
    fn guids_have_three_little_endian_fields() {
        let bytes = [0x66, 0x77, 0xc2, 0x2d, 0x23, 0xf6, 0x00, 0x42, 0x9d, 0x64, 0x11, 0x5e, 0x9b, 0xfd, 0x4a, 0x08];
        assert_eq!(guid(&bytes, 0).to_string(), "2dc27766-f623-4200-9d64-115e9bfd4a08");
    }
}
