//! From ranges of a disk to what lies in them.

use std::collections::HashMap;
use std::sync::Arc;

use super::asked::{AllAsked, Taken};
use super::hit::{Hit, HitKind, Impact};
use crate::chain::Disk;
use crate::error::Result;
use crate::guest::files::{EntryKind, FileTree, Holder, HolderTold, InnerPath, Own};
use crate::guest::partition::Partitions;
use crate::guest::partitions;
use crate::guest::view::View;
use crate::guest::volume::{Volume, volumes_of};
use crate::progress::Progress;
use crate::ranges::{DiskRange, Ranges};

/// What lies in ranges of a disk: partition tables, structures of file systems, files, free space, and how much of each
/// range everything takes. Files are looked up for ext2, ext3, ext4, FAT and NTFS, as [`FileTree`] reads them.
///
/// Places that cannot be read, and structures that contradict each other, are passed by and told in
/// [`Impact::doubts`]; what is marked as free and held by a file counts as the file's, and is marked doubtful. Nothing
/// counts as free that the volume's own bitmap does not mark so. Every file of the volume is looked at, whatever the
/// ranges are; memory does not depend on how many there are.
///
/// ```
/// use std::sync::Arc;
/// use zestful_sapling::chain::{Chain, OpenOptions};
/// use zestful_sapling::guest::{HitKind, impact};
/// use zestful_sapling::ops::{Make, Operation, Planned};
/// use zestful_sapling::progress::Progress;
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let folder = tempfile::tempdir()?;
/// let path = folder.path().join("herbarium.vhdx");
/// Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
/// let disk = Arc::new(Chain::open(&path, &OpenOptions::new())?);
/// let found = impact(disk, &[4096..8192].into_iter().collect(), &Progress::new())?;
/// assert_eq!(found.hits[0].what, HitKind::Outside);
/// # Ok(())
/// # }
/// ```
///
/// # Errors
/// `Cancelled`; as [`Disk::read_at`] for what is no damage.
pub fn impact(disk: Arc<dyn Disk>, ranges: &Ranges, progress: &Progress) -> Result<Impact> {
    let mut found = Impact::default();
    // What cannot be read of a table, or of a signature, is no sign of one.
    let unread = std::cell::Cell::new(false);
    let read = |buffer: &mut [u8], at: u64| {
        disk.read_at(buffer, at).or_else(|_| {
            unread.set(true);
            buffer.fill(0);
            Ok(())
        })
    };
    let view = View::new(disk.virtual_size(), disk.info().logical_sector, &read);
    let tables: Partitions = partitions::read(&view)?;
    let volumes = volumes_of(&view, false)?;
    if unread.get() {
        found.doubt("some of what tells the volumes apart cannot be read");
    }
    volumes.problems.iter().for_each(|problem| found.doubt(problem.to_string()));
    let mut left = ranges.clone();
    left.remove(disk.virtual_size()..u64::MAX);
    progress.begin("looking up what lies there", 0);
    for volume in &volumes.volumes {
        let asked = AllAsked::of(ranges.list(), volume.start, volume.len);
        left.remove(volume.start..volume.start.saturating_add(volume.len));
        if !asked.is_empty() {
            of_volume(&disk, volume, asked, &mut found, progress)?;
        }
    }
    let name = tables.table.map(|table| table.to_string());
    let mut outside = |what: HitKind, name: Option<String>, places: Vec<DiskRange>| {
        let mut parts: Vec<(DiskRange, u64, bool)> = Vec::new();
        for place in places {
            let at = ranges.list().partition_point(|range| range.end() <= place.offset);
            let Some(range) = ranges.list().get(at) else { continue };
            match parts.last_mut() {
                Some(last) if last.0 == *range => last.1 += place.length,
                _ => parts.push((*range, place.length, false)),
            }
        }
        found.add(&thing(what, None, name, None), parts);
    };
    let in_tables: Ranges = tables.places.iter().cloned().collect();
    let of_tables = in_tables.list().iter().flat_map(|place| left.within(place.offset..place.end()));
    outside(HitKind::PartitionTable, name, of_tables.collect());
    in_tables.list().iter().for_each(|place| left.remove(place.offset..place.end()));
    outside(HitKind::Outside, None, left.list().to_vec());
    found.sort();
    Ok(found)
}

fn thing(what: HitKind, volume: Option<u32>, name: Option<String>, path: Option<InnerPath>) -> Hit {
    Hit { range: DiskRange::from(0..0), volume, what, name, path, bytes: 0, doubtful: false }
}

/// A holder as it is told.
fn told(volume: u32, holder: Holder) -> Hit {
    let (what, name, path) = match holder {
        Holder::Named(kind, path) => (HitKind::of_entry(kind), None, Some(path)),
        Holder::Own(Own::Root) => (HitKind::of_entry(EntryKind::Folder), None, Some(InnerPath::root())),
        Holder::Own(Own::Structure(name)) => (HitKind::Structure, Some(name.to_owned()), None),
        Holder::Own(Own::Nameless(name)) => (HitKind::Nameless, Some(name), None),
    };
    thing(what, Some(volume), name, path)
}

fn of_volume(
    disk: &Arc<dyn Disk>,
    volume: &Volume,
    mut asked: AllAsked,
    found: &mut Impact,
    progress: &Progress,
) -> Result<()> {
    let number = volume.number;
    let opened =
        FileTree::open(disk.clone(), volume).and_then(|tree| Ok((tree, FileTree::open(disk.clone(), volume)?)));
    let (mut tree, mut marks) = match opened {
        Ok(opened) => opened,
        Err(error) => {
            if volume.has_readable_files() {
                found.doubt(error.with_causes());
            }
            let name = volume.content.as_ref().map(|content| content.file_system.to_string());
            let parts = asked.0.iter().map(|asked| (asked.range, asked.place.end - asked.place.start, false));
            found.add(&thing(HitKind::Volume, Some(number), name, None), parts);
            return Ok(());
        }
    };
    tree.notes().into_iter().for_each(|note| found.doubt(format!("volume {number}: {note}")));
    let (mut holder, mut taken): (Option<Holder>, Taken) = (None, Taken::new());
    // Of a structure there may be a part in every group.
    let mut structures: HashMap<&'static str, Taken> = HashMap::new();
    tree.holders(&mut |next| {
        progress.check()?;
        match next {
            HolderTold::Of(next) => {
                flush(number, holder.replace(next), &mut taken, &mut structures, &asked, found);
            }
            HolderTold::Place(place) => asked.hold(&place, &mut taken, &mut |shared| {
                let mut free = 0;
                // That the bitmap cannot be read is told where free space is.
                marks.marked_free(shared, &mut |run| free += run.end - run.start).unwrap_or_default();
                free
            }),
            HolderTold::Doubt(what) => found.doubt(format!("volume {number}: {what}")),
        }
        Ok(())
    })?;
    flush(number, holder.take(), &mut taken, &mut structures, &asked, found);
    for (name, taken) in structures {
        found.add(&told(number, Holder::Own(Own::Structure(name))), asked.parts(&taken));
    }
    rest_of_volume(volume, &mut marks, &asked, found, progress)
}

/// What one holder was found to take is told; of structures it is kept until all of it is known.
fn flush(
    volume: u32,
    holder: Option<Holder>,
    taken: &mut Taken,
    structures: &mut HashMap<&'static str, Taken>,
    asked: &AllAsked,
    found: &mut Impact,
) {
    let taken = std::mem::take(taken);
    match holder {
        Some(Holder::Own(Own::Structure(name))) => {
            let all = structures.entry(name).or_default();
            for (number, (bytes, contested)) in taken {
                let entry = all.entry(number).or_default();
                (entry.0, entry.1) = (entry.0 + bytes, entry.1 + contested);
            }
        }
        Some(holder) if !taken.is_empty() => found.add(&told(volume, holder), asked.parts(&taken)),
        _ => {}
    }
}

/// What of the ranges nothing holds.
fn rest_of_volume(
    volume: &Volume,
    marks: &mut FileTree,
    asked: &AllAsked,
    found: &mut Impact,
    progress: &Progress,
) -> Result<()> {
    let (number, end) = (volume.number, marks.end());
    let (mut free, mut behind, mut unknown) = (Vec::new(), Vec::new(), Vec::new());
    let (mut unread, mut is_shared) = (None, false);
    for asked in &asked.0 {
        progress.check()?;
        let inside = asked.place.start.min(end)..asked.place.end.min(end);
        let len = inside.end - inside.start;
        let mut marked = 0;
        if let Err(error) = marks.marked_free(inside, &mut |run| marked += run.end - run.start) {
            (marked, unread) = (asked.contested, unread.or(Some(error)));
        }
        let nobodys = marked.saturating_sub(asked.contested);
        is_shared |= asked.held + nobodys > len;
        free.push((asked.range, nobodys, false));
        behind.push((asked.range, asked.place.end - asked.place.start - len, false));
        unknown.push((asked.range, len.saturating_sub(asked.held + nobodys), false));
    }
    if let Some(error) = unread {
        found.doubt(format!("what is free cannot be told: {}", error.with_causes()));
    }
    if is_shared {
        found.doubt(format!("volume {number}: some of it is held twice"));
    }
    if asked.0.iter().any(|asked| asked.contested > 0) {
        found.doubt(format!("volume {number}: some of what is held is marked as free"));
    }
    for (what, parts) in [(HitKind::Free, free), (HitKind::Behind, behind), (HitKind::Unknown, unknown)] {
        found.add(&thing(what, Some(number), None, None), parts);
    }
    Ok(())
}
