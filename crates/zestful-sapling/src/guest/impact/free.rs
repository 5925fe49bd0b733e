//! What of a volume is free for certain.

use std::ops::Range;
use std::sync::Arc;

use crate::chain::Disk;
use crate::error::{InsideProblemKind, Result};
use crate::guest::files::{FileTree, HolderTold};
use crate::guest::volume::Volume;
use crate::progress::Progress;

/// Calls `take` with the ranges of the disk, in bytes and upwards, that a volume marks as free and nothing holds. They
/// may be given back: whatever stands there means nothing to the file system.
///
/// Nothing is told of a volume about which there is any doubt: one that was not unmounted, that has features that are
/// not known, whose structures cannot be read, count otherwise than its bitmaps, or differ from their copies, where a
/// guest sleeps, or where anything that a file, a folder or a structure holds is marked as free. All of that is looked
/// at before the first range is told.
///
/// # Errors
/// `Inside` with the reason why nothing is told; what `take` returns; `Cancelled`; as [`Disk::read_at`].
pub fn free_space(
    disk: Arc<dyn Disk>,
    volume: &Volume,
    progress: &Progress,
    take: &mut dyn FnMut(Range<u64>) -> Result<()>,
) -> Result<()> {
    let mut tree = FileTree::open(disk.clone(), volume)?;
    let mut marks = FileTree::open(disk, volume)?;
    let doubt = |tree: &FileTree, what: String| Err(tree.problem(InsideProblemKind::NotTrusted(what)));
    let is_clean = volume.content.as_ref().is_some_and(|content| content.clean == Some(true));
    if let Some(note) = tree.notes().into_iter().next() {
        return doubt(&tree, note);
    }
    if !is_clean {
        return doubt(&tree, "it does not say that it was unmounted".to_owned());
    }
    tree.vouch_for_free()?;
    let mut first_doubt = None;
    let mut holder = None;
    tree.holders(&mut |told| {
        progress.check()?;
        match told {
            HolderTold::Of(next) => holder = Some(next),
            HolderTold::Doubt(what) => _ = first_doubt.get_or_insert(what),
            HolderTold::Place(place) => {
                let mut free = 0;
                marks.marked_free(place, &mut |run| free += run.end - run.start)?;
                if free > 0 {
                    let what = holder.as_ref().map(ToString::to_string).unwrap_or_default();
                    first_doubt.get_or_insert_with(|| format!("some of what {what} holds is marked as free"));
                }
            }
        }
        Ok(())
    })?;
    if let Some(what) = first_doubt {
        return doubt(&tree, what);
    }
    let (end, mut failed) = (marks.end(), None);
    marks.marked_free(0..end, &mut |run| {
        if failed.is_none() {
            failed = take(volume.start + run.start..volume.start + run.end).err();
        }
    })?;
    failed.map_or(Ok(()), Err)
}
