//! Where the partitions of a disk lie.
//!
//! What a table says is judged before anybody uses it: an entry that overlaps another, or lies outside of the disk, is
//! left out, and why is said. Numbers are those that hosts give: the entry of a GPT, 1 to 4 in an MBR, and from 5 on
//! for logical partitions.

use super::begun::is_begun;
use super::partition::{Partition, PartitionProblem, Partitions};
use super::table::{PartitionTable, find};
use super::view::{View, of_disk, of_shared};
use super::{gpt, mbr};
use crate::chain::{Disk, SharedDisk};
use crate::error::Result;

/// The partitions of a disk, read anew. At most some 2 MiB are read, whatever the table says.
///
/// # Errors
/// As [`Disk::read_at`].
pub fn partitions(disk: &dyn Disk) -> Result<Partitions> {
    of_disk(disk, read)
}

impl SharedDisk {
    /// The partitions that the disk has now, as [`partitions`] reads them.
    ///
    /// # Errors
    /// As [`Disk::read_at`].
    pub fn partitions(&self) -> Result<Partitions> {
        of_shared(self, read)
    }
}

pub(super) fn read(view: &View<'_>) -> Result<Partitions> {
    let Some(first) = view.bytes(0, view.sector)? else { return Ok(Partitions::default()) };
    let entries = mbr::entries(&first);
    let is_mbr = find(&first, first.len()) == Some(PartitionTable::Mbr);
    let is_protected = entries.iter().any(|entry| entry.kind == mbr::PROTECTIVE);
    // A table of another kind that was written later has left the signature of the old one.
    let may_be_gpt = !is_mbr || is_protected;
    let mut found = match may_be_gpt {
        true => gpt::read(view)?,
        false => Partitions::default(),
    };
    if is_begun(view, &first)? {
        return Ok(Partitions { problems: vec![PartitionProblem::Begun], ..Partitions::default() });
    }
    if found.table.is_some() && !is_protected {
        found.problems.push(PartitionProblem::NoProtective);
    }
    if found.table.is_none() && is_mbr {
        found = mbr::read(view, &entries)?;
    }
    found.judge(view);
    Ok(found)
}

impl Partitions {
    /// Leaves out what nobody could use without harm.
    fn judge(&mut self, view: &View<'_>) {
        let problems = &mut self.problems;
        self.usable.retain(|one| {
            let problem = match one {
                _ if one.start < view.sector => PartitionProblem::OnTable(one.number),
                _ if one.end() > view.size || one.end() < one.start => PartitionProblem::PastEnd(one.number),
                _ => return true,
            };
            problems.push(problem);
            false
        });
        self.usable.sort_by_key(|one| (one.start, one.number));
        let mut overlapping = Vec::new();
        let mut furthest: Option<&Partition> = None;
        for one in &self.usable {
            if let Some(before) = furthest.filter(|before| before.end() > one.start) {
                problems.push(PartitionProblem::Overlap(before.number, one.number));
                overlapping.extend([before.number, one.number]);
            }
            furthest = furthest.filter(|before| before.end() >= one.end()).or(Some(one));
        }
        self.usable.retain(|one| !overlapping.contains(&one.number));
        self.usable.sort_by_key(|one| one.number);
    }
}
