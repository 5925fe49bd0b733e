//! What is left of deleted files in FAT: their entries, without the chain. What lay in one row of clusters can be had
//! back, and nobody can say whether it did.

use super::path::{InnerPath, is_name};
use super::seen::Seen;
use super::system::{Certainty, Remains, Take, TakeRemains, hand_over};
use crate::bytes::wide;
use crate::guest::fat::{FatEntry, FatVolume, Link};
use crate::guest::trouble::Trouble;

const PIECE: u64 = 1 << 20;
const MOST_DEPTH: usize = 100;

/// A folder that is to be gone over: one that is there, or one that was deleted, too.
struct Folder {
    path: InnerPath,
    first: u64,
    is_deleted: bool,
    depth: usize,
}

/// Tells of all that were deleted.
pub(super) fn all(volume: &mut FatVolume, take: &mut TakeRemains<'_>) -> Result<(), Trouble> {
    let mut met = Seen::default();
    let mut folders = vec![Folder { path: InnerPath::root(), first: 0, is_deleted: false, depth: 0 }];
    while let Some(folder) = folders.pop() {
        if folder.depth > MOST_DEPTH || !met.insert(volume.folder_start(folder.first)) {
            continue;
        }
        hand_over(take, None)?;
        let mut gone = Vec::new();
        let mut visit = |_: &mut FatVolume, entry: FatEntry| {
            if !is_name(&entry.name) {
                return Ok(true);
            }
            if entry.is_folder && entry.first > 0 {
                let path = folder.path.join(&entry.name);
                let is_deleted = folder.is_deleted || entry.is_deleted;
                folders.push(Folder { path, first: entry.first, is_deleted, depth: folder.depth + 1 });
            } else if entry.is_deleted && !entry.is_folder {
                gone.push(entry);
            }
            Ok(true)
        };
        let walked = match folder.is_deleted {
            true => volume.deleted_folder(folder.first, &mut visit),
            false => volume.all_entries(folder.first, &mut visit),
        };
        // A folder that is damaged keeps none of the others from being looked at.
        if let Err(Trouble::Failed(error)) = walked {
            return Err(Trouble::Failed(error));
        }
        for entry in gone {
            let (certainty, why) = judge(volume, &entry)?;
            let path = folder.path.join(&entry.name);
            let (key, size, modified) = (entry.first, entry.len, entry.modified);
            hand_over(take, Some(Remains { key, path, size, modified, certainty, why }))?;
        }
    }
    Ok(())
}

fn judge(volume: &mut FatVolume, entry: &FatEntry) -> Result<(Certainty, &'static str), Trouble> {
    let layout = volume.layout();
    let count = entry.len.div_ceil(layout.cluster);
    let clusters = entry.first..entry.first.saturating_add(count);
    if entry.len == 0 {
        return Ok((Certainty::Unsure, "it was empty"));
    }
    if !layout.numbers().contains(&entry.first) || clusters.end > layout.numbers().end {
        return Ok((Certainty::Lost, "its entry tells of no place where it can have lain"));
    }
    let mut free = 0;
    volume.marked(Link::Free, clusters, &mut |run| free += run.end - run.start)?;
    Ok(match free == count {
        true => (Certainty::Unsure, "where it lay is a guess: all in one row, from its first cluster on"),
        false => (Certainty::Lost, "something else lies in that place now, or it lay in pieces"),
    })
}

/// What lies where one of them lay, if it lay in one row.
pub(super) fn content(volume: &mut FatVolume, remains: &Remains, take: &mut Take<'_>) -> Result<(), Trouble> {
    if remains.certainty == Certainty::Lost {
        return Err(Trouble::Damaged(remains.why.to_owned()));
    }
    if remains.size == 0 {
        return Ok(());
    }
    let start = volume.layout().place(remains.key);
    let (mut at, mut buffer) = (0, Vec::new());
    while at < remains.size {
        buffer.resize(PIECE.min(remains.size - at) as usize, 0);
        volume.content_at(&mut buffer, start + at)?;
        take(at, &buffer)?;
        at += wide(buffer.len());
    }
    Ok(())
}
