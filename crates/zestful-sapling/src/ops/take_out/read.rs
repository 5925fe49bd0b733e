//! The reading end: what is found inside the volume becomes steps for the other end.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender};

use jiff::Timestamp;

use crate::chain::Disk;
use crate::error::{Error, Result};
use crate::guest::{DeletedFile, Entry, EntryKind, FileTree, Found, InnerPath, LeftOut, Volume};

/// What is to be made: names are those below the folder that everything goes into, with slashes between.
pub(super) enum Step {
    Folder(Place),
    Link(Place, Vec<u8>),
    /// A file begins; its content follows, and its end.
    File(Place),
    Data(u64, Vec<u8>),
    /// It is whole, and so long.
    End(u64),
    /// It cannot be read to its end.
    Damaged(LeftOut),
    LeftOut(LeftOut),
    /// So many more that are not named.
    More(u64),
    /// A device, a pipe, a socket.
    Skipped,
}

/// Where something is to be made, and what it is to be given.
pub(super) struct Place {
    pub(super) folder: Vec<u8>,
    pub(super) name: Vec<u8>,
    pub(super) permissions: u16,
    pub(super) modified: Option<Timestamp>,
    pub(super) path: InnerPath,
}

/// What files are given that have no mode of their own, before the user's mask.
const FILE: u16 = 0o666;
const FOLDER: u16 = 0o777;

/// Something that is to be taken: what stands at a path, or what is left of a file that was there.
pub(super) struct Source {
    pub(super) disk: Arc<dyn Disk>,
    pub(super) volume: Volume,
    pub(super) path: InnerPath,
    pub(super) left: Option<DeletedFile>,
}

pub(super) fn read_all(sources: &[Source], steps: &SyncSender<Step>, empty: &Receiver<Vec<u8>>) -> Result<()> {
    // The other end has gone when nobody takes a step, and has an error of its own.
    let give = |step: Step| steps.send(step).map_err(|_| Error::WorkerEnded);
    let mut kept: Option<(&Source, FileTree)> = None;
    for source in sources {
        let path = &source.path;
        // The paths of one disk are read by one reader, which remembers some of it.
        let is_same = |last: &Source| Arc::ptr_eq(&last.disk, &source.disk) && last.volume == source.volume;
        let mut tree = match kept.take() {
            Some((last, tree)) if is_same(last) => tree,
            _ => FileTree::open(source.disk.clone(), &source.volume)?,
        };
        if let Some(file) = &source.left {
            read_left(&mut tree, file, &give, empty)?;
            kept = Some((source, tree));
            continue;
        }
        let above = path.parent();
        let entry = tree.entry(path)?;
        if entry.kind == EntryKind::Folder && path.name().is_some() {
            give(Step::Folder(place(&entry, &above)))?;
        }
        let walked = tree.walk(path, true, &mut |found| {
            let entry = found.entry().clone();
            match entry.kind {
                EntryKind::Folder => give(Step::Folder(place(&entry, &above)))?,
                EntryKind::File => read_file(found, place(&entry, &above), &give, empty)?,
                EntryKind::Link => match found.target() {
                    Ok(target) => give(Step::Link(place(&entry, &above), target))?,
                    Err(error) => give(Step::LeftOut(LeftOut::of(&entry.path, &error)))?,
                },
                _ => give(Step::Skipped)?,
            }
            Ok(true)
        })?;
        let named = walked.left_out.len() as u64;
        walked.left_out.into_iter().try_for_each(|left_out| give(Step::LeftOut(left_out)))?;
        give(Step::More(walked.left_out_count - named))?;
        kept = Some((source, tree));
    }
    Ok(())
}

/// What lies where a deleted file lay.
fn read_left(
    tree: &mut FileTree,
    file: &DeletedFile,
    give: &dyn Fn(Step) -> Result<()>,
    empty: &Receiver<Vec<u8>>,
) -> Result<()> {
    let name = file.path.name().unwrap_or_default().to_vec();
    let (path, modified) = (file.path.clone(), file.modified);
    give(Step::File(Place { folder: Vec::new(), name, permissions: FILE, modified, path }))?;
    let read = tree.read_deleted(file, &mut |at, bytes| give_data(at, bytes, give, empty));
    end(read, &file.path, file.size, give)
}

fn give_data(at: u64, bytes: &[u8], give: &dyn Fn(Step) -> Result<()>, empty: &Receiver<Vec<u8>>) -> Result<()> {
    let mut buffer = empty.try_recv().unwrap_or_default();
    buffer.clear();
    buffer.extend_from_slice(bytes);
    give(Step::Data(at, buffer))
}

fn end(read: Result<()>, path: &InnerPath, len: u64, give: &dyn Fn(Step) -> Result<()>) -> Result<()> {
    match read {
        Ok(()) => give(Step::End(len)),
        Err(Error::WorkerEnded) => Err(Error::WorkerEnded),
        Err(error) => give(Step::Damaged(LeftOut::of(path, &error))),
    }
}

fn read_file(
    found: &mut Found<'_>,
    place: Place,
    give: &dyn Fn(Step) -> Result<()>,
    empty: &Receiver<Vec<u8>>,
) -> Result<()> {
    let (path, len) = (place.path.clone(), found.entry().size.unwrap_or(0));
    give(Step::File(place))?;
    let read = found.read(&mut |at, bytes| give_data(at, bytes, give, empty));
    end(read, &path, len, give)
}

/// Where an entry goes, of a path that was asked for and lies in the folder `above`.
fn place(entry: &Entry, above: &InnerPath) -> Place {
    let names: Vec<&[u8]> = entry.path.below(above).map(Iterator::collect).unwrap_or_default();
    let (name, folders) = names.split_last().map_or((&b""[..], &[][..]), |(name, folders)| (*name, folders));
    let usual = if entry.kind == EntryKind::Folder { FOLDER } else { FILE };
    Place {
        folder: folders.join(&b'/'),
        name: name.to_vec(),
        permissions: entry.permissions.unwrap_or(usual),
        modified: entry.modified,
        path: entry.path.clone(),
    }
}
