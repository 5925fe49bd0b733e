//! A partition table follows its disk to another size, as the bytes to be written, in the order in which they must be:
//! after each step some copy of the table is whole.

mod gpt;
mod mbr;

use super::new_table::Piece;
use super::partition::{Partition, PartitionProblem, Partitions};
use super::partitions::read;
use super::table::PartitionTable;
use super::view::{View, of_disk};
use crate::chain::Disk;
use crate::error::{Error, Result};
use crate::size::format_size;

/// Where a partition that gets another size ends, if there is a place for that.
const GRAIN: u64 = 1 << 20;
/// Otherwise it ends where a block of a file system may.
const FINE_GRAIN: u64 = 4096;

/// What is to become of the partitions.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wish {
    /// They stay as they are.
    Stay,
    /// This one, or the last one, takes the free space behind it.
    Extend(Option<u32>),
    /// This one ends before the new end of the disk, and holds at least so many bytes.
    Shrink(u32, u64),
}

/// The bytes of a table that follows its disk.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct TableChange {
    /// Each step is durable before the next.
    pub(crate) steps: Vec<Vec<Piece>>,
    /// What happens, in words.
    pub(crate) told: Vec<String>,
    /// The partition that gets another size.
    pub(crate) partition: Option<NewLength>,
}

/// A partition that gets another size. In bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct NewLength {
    pub(crate) number: u32,
    pub(crate) start: u64,
    pub(crate) before: u64,
    pub(crate) len: u64,
}

/// How the table of a disk follows it to a size; it holds the disk's table for now, and maybe nothing changes.
///
/// # Errors
/// `Usage` when the table is damaged, is none that is changed from outside, or the wish cannot be met, with the layout
/// where that says why; as [`Disk::read_at`].
pub(crate) fn table_change(disk: &dyn Disk, size: u64, wish: Wish) -> Result<TableChange> {
    let name = disk.layer(0).map(|layer| layer.path().display().to_string()).unwrap_or_default();
    of_disk(disk, |view| {
        let found = read(view)?;
        let refused = |why: String| Error::usage(format!("the partition table of {name} is left alone: {why}"), ADVICE);
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
            return Err(refused(problem.to_string()));
        }
        match table {
            PartitionTable::Gpt => gpt::change(view, &found, size, wish, &refused),
            PartitionTable::Mbr => mbr::change(view, &found, size, wish, &refused),
        }
    })
}

const ADVICE: &str = "let the guest mend it first, or change it there";

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

/// Which partition is meant, where its space may end, and what it gets. `last` is where the last one may end.
fn new_length(view: &View<'_>, found: &Partitions, wish: Wish, last: u64) -> Result<Option<NewLength>> {
    let number = match wish {
        Wish::Stay => return Ok(None),
        Wish::Shrink(number, _) | Wish::Extend(Some(number)) => number,
        Wish::Extend(None) => match found.usable.iter().max_by_key(|one| one.start) {
            Some(last) => last.number,
            None => return Err(Error::usage("the table has no partition that could be extended", "make one first")),
        },
    };
    let Some(one) = found.usable.iter().find(|one| one.number == number) else {
        return Err(Error::usage(format!("there is no partition {number}: {}", layout(found)), "name one of them"));
    };
    let behind = found.usable.iter().filter(|other| other.start >= one.end()).map(|other| other.start).min();
    let limit = behind.unwrap_or(last).min(last);
    let aligned = |grain: u64| limit / grain.max(view.sector) * grain.max(view.sector);
    let fits = |end: &u64| match wish {
        Wish::Shrink(_, least) => *end >= one.start.saturating_add(least),
        _ => *end > one.end(),
    };
    let end = [aligned(GRAIN), aligned(FINE_GRAIN), aligned(1)].into_iter().find(fits);
    let end = match (wish, end) {
        (Wish::Shrink(..), _) if one.end() <= limit => one.end(),
        (_, Some(end)) => end,
        (Wish::Shrink(_, least), None) => {
            return Err(Error::usage(
                format!(
                    "partition {number} cannot end at {}: what it holds takes {} from {} on",
                    format_size(limit),
                    format_size(least),
                    format_size(one.start)
                ),
                "shrink what it holds first",
            ));
        }
        (_, None) => {
            let (message, advice) = match behind {
                Some(_) => (
                    format!("partition {number} has no free space behind it: {}", layout(found)),
                    "extend the one that free space follows, or move what stands between",
                ),
                None => (
                    format!("partition {number} reaches to the end of the disk already: {}", layout(found)),
                    "make the disk larger",
                ),
            };
            return Err(Error::usage(message, advice));
        }
    };
    Ok(Some(NewLength { number, start: one.start, before: one.len, len: end.saturating_sub(one.start) }))
}

/// The partitions in the order of the disk.
fn layout(found: &Partitions) -> String {
    let mut all: Vec<&Partition> = found.usable.iter().collect();
    all.sort_by_key(|one| one.start);
    let told = |one: &&Partition| {
        let (from, to) = (format_size(one.start), format_size(one.end()));
        format!("{} ({}) from {from} to {to}", one.number, one.kind)
    };
    all.iter().map(told).collect::<Vec<_>>().join(", ")
}

/// What happens to a partition, in words.
fn told(new: &NewLength) -> String {
    let verb = if new.len >= new.before { "extend" } else { "shrink" };
    format!("{verb} partition {} from {} to {}", new.number, format_size(new.before), format_size(new.len))
}
