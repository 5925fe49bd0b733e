//! A partition table follows its disk to another size, as the bytes to be written, in the order in which they must be:
//! after each step some copy of the table is whole.

mod gpt;
mod mbr;
mod wish;

use super::partition::{PartitionProblem, Partitions};
use super::partitions::read;
use super::table::PartitionTable;
use super::view::of_disk;
use crate::chain::Disk;
use crate::error::{Error, Result};

use wish::Asked;
pub(crate) use wish::{TableChange, Wish};

/// How the table of a disk follows it to a size; it holds the disk's table for now, and maybe nothing changes.
///
/// # Errors
/// `Usage` when the table is damaged, is none that is changed from outside, or the wish cannot be met, with the layout
/// where that says why; as [`Disk::read_at`].
pub(crate) fn table_change(disk: &dyn Disk, size: u64, wish: Wish) -> Result<TableChange> {
    let name = disk.layer(0).map(|layer| layer.path().display().to_string()).unwrap_or_default();
    of_disk(disk, |view| {
        let found = read(view)?;
        let asked = Asked { view, found: &found, size, wish, name: &name };
        let Some(table) = found.table else {
            return match wish {
                Wish::Stay => Ok(TableChange::default()),
                _ => Err(Error::usage(
                    format!("{name} has no partition table"),
                    "a file system that fills the whole disk is resized by itself",
                )),
            };
        };
        let stands_in_the_way = |problem: &&PartitionProblem| !matches!(problem, PartitionProblem::BeforeEnd(_));
        if let Some(problem) = found.problems.iter().find(stands_in_the_way) {
            return Err(asked.refused(problem));
        }
        match table {
            PartitionTable::Gpt => gpt::change(&asked),
            PartitionTable::Mbr => mbr::change(&asked),
        }
    })
}

/// Where the extended partition of an MBR ends, in which the logical ones lie; 0 where there is none.
///
/// # Errors
/// As [`Disk::read_at`].
pub(crate) fn end_of_extended(disk: &dyn Disk, found: &Partitions) -> Result<u64> {
    match found.table {
        Some(PartitionTable::Mbr) => of_disk(disk, mbr::end_of_extended),
        _ => Ok(0),
    }
}

/// Bytes that the table needs behind the last partition.
///
/// # Errors
/// As [`Disk::read_at`].
pub(crate) fn room_behind(disk: &dyn Disk, found: &Partitions) -> Result<u64> {
    match found.table {
        Some(PartitionTable::Gpt) => of_disk(disk, gpt::room_behind),
        _ => Ok(0),
    }
}
