//! New partition tables, as the bytes to be written, in the order in which they must be.

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom, Write};

use gpt::GptConfig;
use gpt::disk::LogicalBlockSize;
use gpt::mbr::ProtectiveMBR;
use gpt::partition_types::{BASIC, LINUX_FS, Type};

use super::table::PartitionTable;
use crate::bytes::{fit_u32, put, sought};
use crate::error::{Error, Result};

/// Bytes of the entries of a GPT: 128 entries of 128 bytes.
const ENTRIES_LEN: u64 = 128 * 128;
/// Units of UTF-16 in a partition's name.
const MOST_NAME: usize = 36;
const SIGNATURE: [u8; 2] = [0x55, 0xAA];
/// In the place of cylinders, heads and sectors: that the place is told in sectors alone.
const BY_SECTOR: [u8; 3] = [0xFE, 0xFF, 0xFF];
const EXTENDED: u8 = 0x0F;

/// What a partition is to be for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NewKind {
    /// FAT of entries of so many bits.
    Fat(u8),
    Ntfs,
    Linux,
}

impl NewKind {
    fn in_gpt(self) -> Type {
        match self {
            Self::Fat(_) | Self::Ntfs => BASIC,
            Self::Linux => LINUX_FS,
        }
    }

    fn in_mbr(self) -> u8 {
        match self {
            Self::Fat(12) => 0x01,
            Self::Fat(16) => 0x0E,
            Self::Fat(_) => 0x0C,
            Self::Ntfs => 0x07,
            Self::Linux => 0x83,
        }
    }
}

/// A partition of a new table, in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct NewPartition {
    pub(crate) start: u64,
    pub(crate) len: u64,
    pub(crate) kind: NewKind,
    pub(crate) name: String,
}

/// Bytes for a place on the disk.
pub(crate) type Piece = (u64, Vec<u8>);

/// Bytes at the beginning and the end of a disk that the table needs.
pub(crate) fn room(table: PartitionTable, sector: u64) -> (u64, u64) {
    match table {
        PartitionTable::Mbr => (sector, 0),
        PartitionTable::Gpt => (2 * sector + ENTRIES_LEN, sector + ENTRIES_LEN),
    }
}

/// How many partitions fit into an MBR without a list of logical ones.
pub(crate) const MOST_PRIMARY: usize = 4;

/// A table in steps, each durable before the next: only with the last one the disk has a table.
///
/// # Errors
/// `Usage` when a table cannot hold these partitions.
pub(crate) fn new_table(
    table: PartitionTable,
    size: u64,
    sector: u64,
    partitions: &[NewPartition],
) -> Result<Vec<Vec<Piece>>> {
    match table {
        PartitionTable::Gpt => gpt(size, sector, partitions),
        PartitionTable::Mbr => mbr(sector, partitions),
    }
}

fn gpt(size: u64, sector: u64, partitions: &[NewPartition]) -> Result<Vec<Vec<Piece>>> {
    let failed = |error: &dyn std::fmt::Display| Error::usage(format!("no GPT can be made: {error}"), "");
    let blocks = LogicalBlockSize::try_from(sector).map_err(|error| failed(&error))?;
    let mut device = Device { size, ..Device::default() };
    let config = GptConfig::new().writable(true).logical_block_size(blocks);
    let mut made = config.create_from_device(&mut device, None).map_err(|error| failed(&error))?;
    made.update_partitions(BTreeMap::new()).map_err(|error| failed(&error))?;
    for (number, one) in (1..).zip(partitions) {
        let (first, count) = (one.start / sector, one.len / sector);
        let added = made.add_partition_at(&short(&one.name), number, first, count, one.kind.in_gpt(), 0);
        added.map_err(|error| failed(&error))?;
    }
    made.write().map_err(|error| failed(&error))?;
    let mut first = vec![0; sector as usize];
    let protective = ProtectiveMBR::with_lb_size(fit_u32((size / sector - 1).min(u64::from(u32::MAX))));
    protective.overwrite_lba0(&mut io::Cursor::new(&mut first)).map_err(|error| failed(&error))?;
    let (behind, before): (Vec<Piece>, Vec<Piece>) = device.pieces.into_iter().partition(|(at, _)| *at > size / 2);
    Ok(vec![behind, before, vec![(0, first)]])
}

/// What of a name fits into an entry.
fn short(name: &str) -> String {
    let mut left = MOST_NAME;
    name.chars().take_while(|c| left.checked_sub(c.len_utf16()).map(|rest| left = rest).is_some()).collect()
}

/// A disk that keeps what is written to it.
#[derive(Debug, Default)]
struct Device {
    size: u64,
    position: u64,
    pieces: BTreeMap<u64, Vec<u8>>,
}

impl Write for Device {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let before = self.pieces.range_mut(..=self.position).next_back();
        match before.filter(|(at, piece)| **at + piece.len() as u64 >= self.position) {
            Some((at, piece)) => {
                let within = (self.position - at) as usize;
                piece.resize(piece.len().max(within + bytes.len()), 0);
                put(piece, within, bytes);
            }
            None => _ = self.pieces.insert(self.position, bytes.to_vec()),
        }
        self.position += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// What was not written reads as zero.
impl Read for Device {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        for (at, byte) in (self.position..).zip(&mut *buffer) {
            let piece = self.pieces.range(..=at).next_back();
            *byte = piece.and_then(|(start, piece)| piece.get((at - start) as usize)).copied().unwrap_or(0);
        }
        self.position += buffer.len() as u64;
        Ok(buffer.len())
    }
}

impl Seek for Device {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.position = sought(to, self.position, self.size)?;
        Ok(self.position)
    }
}

/// Three partitions and, behind them, an extended one with a list of the others, where there are more than four. Each
/// entry of the list stands 1 MiB before its partition.
fn mbr(sector: u64, partitions: &[NewPartition]) -> Result<Vec<Vec<Piece>>> {
    let primary = if partitions.len() > MOST_PRIMARY { MOST_PRIMARY - 1 } else { partitions.len() };
    let (primary, logical) = partitions.split_at(primary);
    let entry = |kind: u8, start: u64, len: u64| -> Result<Vec<u8>> {
        let number = |bytes: u64| u32::try_from(bytes / sector).map_err(|_| too_far(sector));
        let mut entry = [&[0][..], &BY_SECTOR, &[kind], &BY_SECTOR, &[0; 8]].concat();
        put(&mut entry, 8, &number(start)?.to_le_bytes());
        put(&mut entry, 12, &number(len)?.to_le_bytes());
        Ok(entry)
    };
    let table = |entries: &[Vec<u8>]| {
        let mut bytes = vec![0; sector as usize];
        entries.iter().enumerate().for_each(|(number, entry)| put(&mut bytes, 446 + 16 * number, entry));
        put(&mut bytes, 510, &SIGNATURE);
        bytes
    };
    let mut entries = Vec::new();
    for one in primary {
        entries.push(entry(one.kind.in_mbr(), one.start, one.len)?);
    }
    let mut lists = Vec::new();
    if let (Some(first), Some(last)) = (logical.first(), logical.last()) {
        let extended = first.start - LIST_ROOM;
        entries.push(entry(EXTENDED, extended, last.start + last.len - extended)?);
        for (number, one) in logical.iter().enumerate() {
            let here = one.start - LIST_ROOM;
            let mut own = vec![entry(one.kind.in_mbr(), LIST_ROOM, one.len)?];
            if let Some(next) = logical.get(number + 1) {
                own.push(entry(0x05, next.start - LIST_ROOM - extended, LIST_ROOM + next.len)?);
            }
            lists.push((here, table(&own)));
        }
    }
    let mut first = table(&entries);
    // What hosts know the disk by.
    put(&mut first, 440, &uuid::Uuid::new_v4().as_bytes()[..4]);
    Ok(vec![lists, vec![(0, first)]])
}

/// Before each logical partition, for the entry that tells of it.
pub(crate) const LIST_ROOM: u64 = 1 << 20;

fn too_far(sector: u64) -> Error {
    Error::usage(
        format!("an MBR counts {} sectors of {sector} bytes, and the disk has more", u32::MAX),
        "give the disk a GPT",
    )
}
