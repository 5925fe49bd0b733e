//! What is wished of the partitions, and what that makes of one.

use crate::error::{Error, Result};
use crate::guest::new_table::Piece;
use crate::guest::partition::{Partition, Partitions};
use crate::guest::view::View;
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

/// A table that is there, and what it is to follow.
pub(super) struct Asked<'a> {
    pub(super) view: &'a View<'a>,
    pub(super) found: &'a Partitions,
    /// The size that the disk gets, in bytes.
    pub(super) size: u64,
    pub(super) wish: Wish,
    /// The disk.
    pub(super) name: &'a str,
}

impl Asked<'_> {
    /// Why the table stays as it is.
    pub(super) fn refused(&self, why: impl std::fmt::Display) -> Error {
        Error::usage(
            format!("the partition table of {} is left alone: {why}", self.name),
            "let the guest mend it first, or change it there",
        )
    }
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

/// Which partition is meant, where its space may end, and what it gets. `last` is where the last one may end.
pub(super) fn new_length(asked: &Asked<'_>, last: u64) -> Result<Option<NewLength>> {
    let Asked { view, found, wish, .. } = *asked;
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
pub(super) fn told(new: &NewLength) -> String {
    let verb = if new.len >= new.before { "extend" } else { "shrink" };
    format!("{verb} partition {} from {} to {}", new.number, format_size(new.before), format_size(new.len))
}
