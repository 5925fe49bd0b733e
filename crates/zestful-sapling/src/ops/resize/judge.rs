//! What a smaller disk would cut.

use std::path::Path;

use super::request::Resize;
use crate::bytes::index;
use crate::chain::Disk;
use crate::error::{Error, Refusal, Result};
use crate::family::Override;
use crate::guest::{
    PartitionProblem, PartitionTable, Volume, end_of_extended, partitions, reach, room_behind, volumes_uncounted,
};
use crate::size::format_size;

const PIECE: u64 = 1 << 20;
/// As hosts count the logical partitions of an MBR.
const FIRST_LOGICAL: u32 = 5;

/// What stands behind the new end, and is said though it is cut.
pub(super) struct Cut {
    pub(super) warnings: Vec<String>,
    /// Bytes that the partition that is to become smaller must keep.
    pub(super) shrunk_least: u64,
    /// Whether a table that is whole says what is where.
    pub(super) is_known: bool,
}

impl Resize {
    /// Refuses to cut what is known to be there, and, where nothing is known, what is not zero.
    pub(super) fn judge_cut(&self, disk: &dyn Disk, path: &Path, to: u64) -> Result<Cut> {
        let mut found = volumes_uncounted(disk)?;
        let table = partitions(disk)?;
        // It moves in any case.
        found.problems.retain(|problem| !matches!(problem, PartitionProblem::BeforeEnd(_)));
        let room = if found.problems.is_empty() { room_behind(disk, &table)? } else { 0 };
        let sector = u64::from(disk.info().logical_sector);
        let (mut least, mut cut, mut shrunk_least, mut warnings) = (0, Vec::new(), 0, Vec::new());
        for volume in &found.volumes {
            let reach = reach(disk, volume)?;
            let number = volume.partition.as_ref().map(|partition| partition.number);
            let len = match (number, self.shrink) {
                // Without a table the volume is as long as the disk, whatever it holds.
                (None, _) => reach.unwrap_or(volume.len),
                (Some(number), Some(shrunk)) if number == shrunk => {
                    shrunk_least = reach.ok_or_else(|| unknown_reach(volume))?.next_multiple_of(sector);
                    shrunk_least
                }
                _ => volume.len,
            };
            let end = volume.start.saturating_add(len);
            least = least.max(end);
            if end.saturating_add(room) > to {
                // What it holds may leave room for a smaller partition.
                let fits = reach.is_some_and(|reach| volume.start.saturating_add(reach).saturating_add(room) <= to);
                cut.push((volume.clone(), end, number.filter(|_| fits)));
            }
        }
        if let Some(shrunk) = self.shrink.filter(|shrunk| {
            !found.volumes.iter().any(|one| one.partition.as_ref().is_some_and(|one| one.number == *shrunk))
        }) {
            return Err(Error::usage(
                format!("{} has no partition {shrunk}", path.display()),
                "name one that is there",
            ));
        }
        // The one that contains the logical ones is no volume; it ends earlier with the last of them.
        let is_shrunk = |number: u32| self.shrink == Some(number) && number >= FIRST_LOGICAL;
        let extended =
            if table.usable.iter().any(|one| is_shrunk(one.number)) { 0 } else { end_of_extended(disk, &table)? };
        let least = least.max(extended).saturating_add(room).next_multiple_of(sector);
        let may_cut = self.guard.allows(Override::CutPartition);
        if let Some(problem) = found.problems.first() {
            let message = format!("the partition table of {} cannot be relied on: {problem}", path.display());
            if !may_cut {
                let why = Refusal::WouldCut { path: path.to_owned(), least: disk.virtual_size(), shrinkable: None };
                return Err(Error::refused(why, message, "let the guest mend the table first"));
            }
            warnings.push(message);
        }
        if let Some((volume, end, shrinkable)) = cut.first() {
            let message = format!(
                "volume {volume} of {} reaches to {}, and with what must stand behind it the disk needs {} ({least} \
                 bytes)",
                path.display(),
                format_size(*end),
                format_size(least)
            );
            if !may_cut {
                let shrinkable = shrinkable.filter(|_| cut.len() == 1);
                let why = Refusal::WouldCut { path: path.to_owned(), least, shrinkable };
                let advice = match shrinkable {
                    Some(_) => "what is in it is smaller already: have its partition shrunk with the disk",
                    None => "shrink what it holds, and its partition, in the guest first",
                };
                return Err(Error::refused(why, message, advice));
            }
            warnings.push(format!("{message}: it is cut"));
        }
        if cut.is_empty() && extended > to {
            let message = format!(
                "the extended partition of {} reaches to {} ({extended} bytes)",
                path.display(),
                format_size(extended)
            );
            if !may_cut {
                let why = Refusal::WouldCut { path: path.to_owned(), least, shrinkable: None };
                return Err(Error::refused(why, message, "shrink it in the guest first"));
            }
            warnings.push(format!("{message}: it is cut"));
        }
        let is_cut = !cut.is_empty() || extended > to;
        let is_known = found.problems.is_empty() && (found.table.is_some() || !found.volumes.is_empty());
        if (!is_known || is_cut) && !self.guard.allows(Override::DiscardData) {
            refuse_data(disk, path, to, found.table == Some(PartitionTable::Gpt), room)?;
        }
        Ok(Cut { warnings, shrunk_least, is_known: is_known && !is_cut })
    }
}

fn unknown_reach(volume: &Volume) -> Error {
    Error::usage(
        format!("how much of its partition volume {volume} needs cannot be told"),
        "shrink the partition in the guest",
    )
}

/// Refuses to lose anything but zeros, a second copy of a GPT left out.
fn refuse_data(disk: &dyn Disk, path: &Path, from: u64, is_gpt: bool, room: u64) -> Result<()> {
    let end = if is_gpt { disk.virtual_size().saturating_sub(room) } else { disk.virtual_size() };
    let Some(at) = first_data(disk, from, end)? else { return Ok(()) };
    Err(Error::refused(
        Refusal::WouldDiscard { path: path.to_owned(), at },
        format!(
            "{} holds data behind {}, the first at byte {at}, of which nothing tells what it belongs to",
            path.display(),
            format_size(from)
        ),
        "look at it first; a smaller disk loses it",
    ))
}

/// The first byte of a range that is not zero.
pub(super) fn first_data(disk: &dyn Disk, from: u64, end: u64) -> Result<Option<u64>> {
    let (mut at, mut buffer) = (from, vec![0; index(PIECE)]);
    while at < end {
        let status = disk.status_at(at, end - at)?;
        if status.is_hole {
            at += status.len;
            continue;
        }
        let part = &mut buffer[..index(status.len.min(PIECE))];
        disk.read_at(part, at)?;
        if let Some(first) = part.iter().position(|byte| *byte != 0) {
            return Ok(Some(at + first as u64));
        }
        at += part.len() as u64;
    }
    Ok(None)
}
