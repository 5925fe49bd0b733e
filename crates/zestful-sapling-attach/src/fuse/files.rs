//! The files in which a disk is shown: the whole of it, and each of its partitions. What is done to one of them is done
//! to the disk, at once: nothing is remembered on the way.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use zestful_sapling::Error;
use zestful_sapling::guest::{Partition, Partitions};

use crate::code::{Code, code_of};
use crate::event::Event;
use crate::export::{Export, RequestKind};
use crate::front::Counters;

/// The whole disk's name.
pub(super) const DISK: &str = "disk.raw";

/// One of the files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum File {
    Disk,
    /// Of the partitions, by their place in the list.
    Part(usize),
}

pub(super) struct Files {
    export: Arc<Export>,
    parts: Vec<Partition>,
    open: Mutex<Open>,
    pub(super) counters: Counters,
    events: Mutex<Sender<Event>>,
    /// The disk was taken from those who use it.
    taken_away: AtomicBool,
    /// One program after the other uses them, which may open a file twice.
    for_one: bool,
}

#[derive(Default)]
struct Open {
    last: u64,
    readers: usize,
    /// Who may write, by the number of the opening.
    writers: BTreeMap<u64, File>,
    /// The table as it was told last.
    table: Partitions,
}

/// How a request ended that did not go well.
pub(super) type Failed = Code;

impl Files {
    pub(super) fn new(export: Arc<Export>, table: Partitions, events: Sender<Event>) -> Self {
        let parts = table.usable.clone();
        let open = Mutex::new(Open { table, ..Open::default() });
        let (counters, events) = (Counters::default(), Mutex::new(events));
        Self { export, parts, open, counters, events, taken_away: AtomicBool::new(false), for_one: false }
    }

    /// Nobody else knows of the files than programs that are run one after the other.
    pub(super) fn for_one(self) -> Self {
        Self { for_one: true, ..self }
    }

    fn open_files(&self) -> MutexGuard<'_, Open> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn tell(&self, event: Event) {
        // Nobody listens any more at the very end.
        _ = self.events.lock().unwrap_or_else(PoisonError::into_inner).send(event);
    }

    /// From now on every request fails.
    pub(super) fn take_away(&self) {
        self.taken_away.store(true, Ordering::Release);
    }

    pub(super) fn is_taken_away(&self) -> bool {
        self.taken_away.load(Ordering::Acquire)
    }

    fn refuse_taken_away(&self) -> Result<(), Failed> {
        if self.is_taken_away() { Err(Code::Io) } else { Ok(()) }
    }

    /// All of them.
    pub(super) fn all(&self) -> impl Iterator<Item = File> {
        std::iter::once(File::Disk).chain((0..self.parts.len()).map(File::Part))
    }

    pub(super) fn name(&self, file: File) -> String {
        match file {
            File::Disk => DISK.to_owned(),
            File::Part(at) => format!("part{}", self.parts[at].number),
        }
    }

    /// Its first byte on the disk, and its length.
    fn range(&self, file: File) -> (u64, u64) {
        match file {
            File::Disk => (0, self.export.size()),
            File::Part(at) => (self.parts[at].start, self.parts[at].len),
        }
    }

    pub(super) fn len(&self, file: File) -> u64 {
        self.range(file).1
    }

    pub(super) fn may_be_written(&self) -> bool {
        self.export.writable().is_some()
    }

    /// How many are open now.
    pub(super) fn users(&self) -> usize {
        let open = self.open_files();
        open.readers + open.writers.len()
    }

    /// Opens a file. Two who write must not share a byte: file systems, and programs that make them, trust that nobody
    /// else does.
    pub(super) fn open(&self, file: File, writes: bool) -> Result<u64, Failed> {
        self.refuse_taken_away()?;
        let mut open = self.open_files();
        if writes {
            if !self.may_be_written() {
                return Err(Code::ReadOnly);
            }
            let (start, len) = self.range(file);
            let meets = |other: &File| {
                let (other_start, other_len) = self.range(*other);
                start < other_start.saturating_add(other_len) && other_start < start.saturating_add(len)
            };
            if !self.for_one && open.writers.values().any(meets) {
                return Err(Code::Busy);
            }
        }
        open.last += 1;
        let number = open.last;
        match writes {
            true => _ = open.writers.insert(number, file),
            false => open.readers += 1,
        }
        Ok(number)
    }

    /// An opening is over. What was written through it is made durable, and a partition table that changed is told.
    pub(super) fn close(&self, number: u64) {
        let mut open = self.open_files();
        let Some(file) = open.writers.remove(&number) else {
            open.readers = open.readers.saturating_sub(1);
            return;
        };
        drop(open);
        _ = self.flush();
        if file == File::Disk {
            self.look_at_table();
        }
    }

    fn look_at_table(&self) {
        let Ok(now) = self.export.partitions() else { return };
        let mut open = self.open_files();
        if open.table == now {
            return;
        }
        open.table = now.clone();
        drop(open);
        if now.usable != self.parts {
            let (export, partitions) = (self.export.name().to_owned(), now.usable.len());
            self.tell(Event::TableChanged { export, partitions });
        }
    }

    /// Notes how a request ended, and tells trouble that is new, or over.
    fn noted<T>(&self, kind: RequestKind, result: Result<T, Error>) -> Result<T, Failed> {
        if let Some(trouble) = self.export.note(kind, result.as_ref().map(|_| ())) {
            self.tell(trouble.at(self.export.name()));
        }
        result.map_err(|error| code_of(&error))
    }

    /// The bytes of a file from `offset` on that lie before its end: where on the disk, and how many.
    fn inside(&self, file: File, offset: u64, len: u64) -> (u64, u64) {
        let (start, all) = self.range(file);
        let offset = offset.min(all);
        (start.saturating_add(offset), len.min(all - offset))
    }

    /// Fills the buffer up to the end of the file; how much that was.
    pub(super) fn read(&self, file: File, offset: u64, buffer: &mut [u8]) -> Result<usize, Failed> {
        self.refuse_taken_away()?;
        let (at, len) = self.inside(file, offset, buffer.len() as u64);
        let part = &mut buffer[..len as usize];
        self.noted(RequestKind::Read, self.export.read_at(part, at))?;
        self.counters.add_read(len);
        Ok(part.len())
    }

    /// Writes up to the end of the file; how much that was.
    pub(super) fn write(&self, file: File, offset: u64, bytes: &[u8]) -> Result<usize, Failed> {
        self.refuse_taken_away()?;
        let Some(disk) = self.export.writable() else { return Err(Code::ReadOnly) };
        let (at, len) = self.inside(file, offset, bytes.len() as u64);
        if len == 0 && !bytes.is_empty() {
            return Err(Code::NoSpace);
        }
        let part = &bytes[..len as usize];
        self.noted(RequestKind::Write, disk.write_at(part, at))?;
        self.counters.add_written(len);
        Ok(part.len())
    }

    /// Makes a range read as zero, up to the end of the file.
    pub(super) fn zero(&self, file: File, offset: u64, len: u64) -> Result<(), Failed> {
        self.refuse_taken_away()?;
        let Some(disk) = self.export.writable() else { return Err(Code::ReadOnly) };
        let (at, len) = self.inside(file, offset, len);
        self.noted(RequestKind::Write, disk.zero_at(at, len))?;
        self.counters.add_written(len);
        Ok(())
    }

    pub(super) fn flush(&self) -> Result<(), Failed> {
        self.refuse_taken_away()?;
        self.noted(RequestKind::Flush, self.export.flush())
    }

    /// The first byte from `offset` on that is, or is not, in a hole; the end of the file counts as a hole. `None` when
    /// there is none, or `offset` lies behind the end.
    pub(super) fn seek(&self, file: File, offset: u64, hole: bool) -> Result<Option<u64>, Failed> {
        let (mut at, mut left) = self.inside(file, offset, u64::MAX);
        let (start, len) = self.range(file);
        if left == 0 {
            return Ok(None);
        }
        while left > 0 {
            let status = self.noted(RequestKind::Read, self.export.status_at(at, left))?;
            if status.is_hole == hole {
                return Ok(Some(at - start));
            }
            at += status.len;
            left -= status.len;
        }
        Ok(hole.then_some(len))
    }
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc::{Receiver, channel};

    use proptest::prelude::*;
    use zestful_sapling::chain::{ChainMut, SharedDisk};
    use zestful_sapling::guest::PartitionKind;
    use zestful_sapling::image::{Format, open_image_mut, vhdx};
    use zestful_sapling::storage::testing::{Fault, FaultStorage, FileChange};
    use zestful_sapling::storage::{MemoryStorage, Storage};

    use super::*;
    use crate::export::Backing;

    const SIZE: u64 = 4 << 20;

    fn blank() -> MemoryStorage {
        let storage = MemoryStorage::new();
        vhdx::CreateOptions::new(SIZE).create_in(&storage).unwrap();
        storage
    }

    fn files(parts: &[(u64, u64)]) -> (Files, Arc<SharedDisk>) {
        let (files, disk, _) = files_of(Arc::new(blank()), parts);
        (files, disk)
    }

    fn files_of(storage: Arc<dyn Storage>, parts: &[(u64, u64)]) -> (Files, Arc<SharedDisk>, Receiver<Event>) {
        let chain = ChainMut::from_parts(open_image_mut(storage, Some(Format::Vhdx)).unwrap(), Vec::new());
        let disk = Arc::new(SharedDisk::new(chain));
        let export = Export::new("germination-01", "", Backing::Writable(disk.clone()));
        let part = |(number, (start, len)): (u32, &(u64, u64))| Partition {
            number,
            start: *start,
            len: *len,
            kind: PartitionKind::Mbr(0x83),
            name: String::new(),
        };
        let usable = (1..).zip(parts).map(part).collect();
        let table = Partitions { usable, ..Partitions::default() };
        let (sender, events) = channel();
        (Files::new(Arc::new(export), table, sender), disk, events)
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

        /// Whatever is done through whichever file, all of them show the same bytes, and nothing leaves its partition.
        #[test]
        fn files_are_windows_on_one_disk(
            steps in prop::collection::vec((0..3usize, 0..4u8, 0..SIZE + 9999, 0..70_000usize, 1..255u8), 1..40),
        ) {
            let parts = [(1 << 20, 1 << 20), ((2 << 20) + 512, (1 << 20) + 1024)];
            let (files, _) = files(&parts);
            let ranges = [(0, SIZE), parts[0], parts[1]];
            let all = [File::Disk, File::Part(0), File::Part(1)];
            let mut model = vec![0u8; SIZE as usize];
            for (which, act, offset, len, byte) in steps {
                let (file, (start, size)) = (all[which], ranges[which]);
                let inside = (size.saturating_sub(offset) as usize).min(len);
                let at = (start + offset.min(size)) as usize;
                match act {
                    0 => {
                        let mut found = vec![1; len];
                        let count = files.read(file, offset, &mut found).unwrap();
                        prop_assert_eq!(count, inside);
                        prop_assert!(found[..count] == model[at..][..count]);
                    }
                    1 => {
                        let written = files.write(file, offset, &vec![byte; len]);
                        prop_assert_eq!(written, if inside == 0 && len > 0 { Err(Code::NoSpace) } else { Ok(inside) });
                        model[at..][..inside].fill(byte);
                    }
                    2 => {
                        files.zero(file, offset, len as u64).unwrap();
                        model[at..][..inside].fill(0);
                    }
                    _ => {
                        let data = files.seek(file, offset, false).unwrap();
                        let hole = files.seek(file, offset, true).unwrap();
                        prop_assert_eq!(hole.is_none(), offset >= size);
                        let upto = data.unwrap_or(size).min(size).max(offset.min(size));
                        prop_assert!(model[at..(start + upto) as usize].iter().all(|byte| *byte == 0));
                    }
                }
            }
            let mut found = vec![0; SIZE as usize];
            files.read(File::Disk, 0, &mut found).unwrap();
            prop_assert!(found == model);
        }
    }

    #[test]
    fn two_who_write_share_no_byte() {
        let (files, disk) = files(&[(1 << 20, 1 << 20), (2 << 20, 1 << 20)]);
        let (disk_file, one, two) = (File::Disk, File::Part(0), File::Part(1));
        let first = files.open(one, true).unwrap();
        assert_eq!(files.open(one, true), Err(Code::Busy));
        assert_eq!(files.open(disk_file, true), Err(Code::Busy));
        let second = files.open(two, true).unwrap();
        let reader = files.open(disk_file, false).unwrap();
        assert_eq!(files.users(), 3);
        files.close(first);
        // Neighbours share none, whoever comes first.
        let first = files.open(one, true).unwrap();
        [first, second, reader].into_iter().for_each(|number| files.close(number));
        let whole = files.open(disk_file, true).unwrap();
        assert_eq!(files.open(two, true), Err(Code::Busy));
        files.close(whole);
        assert_eq!(files.users(), 0);
        disk.grow(2 * SIZE, zestful_sapling::image::Space::Sparse).unwrap();
        assert_eq!((files.len(disk_file), files.len(one)), (2 * SIZE, 1 << 20));
        assert_eq!(files.write(disk_file, 2 * SIZE - 5, &[1; 9]), Ok(5));
        files.take_away();
        assert_eq!((files.open(one, false), files.write(one, 0, &[1])), (Err(Code::Io), Err(Code::Io)));
    }

    #[test]
    fn closing_makes_durable_and_a_full_file_has_its_hole_at_the_end() {
        let storage = Arc::new(FaultStorage::new(blank()));
        let (files, _disk, _events) = files_of(storage.clone(), &[(1 << 20, 1 << 20)]);
        let part = File::Part(0);
        let opened = files.open(part, true).unwrap();
        files.write(part, 0, &[1; 1 << 20]).unwrap();
        assert_eq!((files.seek(part, 0, false), files.seek(part, 0, true)), (Ok(Some(0)), Ok(Some(1 << 20))));
        let before = storage.syncs();
        files.close(opened);
        assert!(storage.syncs() > before, "what was written is on the host's disk");
        let reader = files.open(part, false).unwrap();
        let before = storage.syncs();
        files.close(reader);
        assert_eq!(storage.syncs(), before);
    }

    /// Whichever sync of the image it is that fails: it is told, what had been synced before reads as it was, and
    /// nothing is acknowledged as durable any more.
    #[test]
    fn a_sync_that_fails_is_told_and_final() {
        let work = |storage: Arc<FaultStorage>| {
            let (files, _disk, events) = files_of(storage, &[]);
            let opened = files.open(File::Disk, true).unwrap();
            // The first write into an image syncs by itself.
            let keep = |at: u64, byte: u8| files.write(File::Disk, at, &[byte; 4096]).and_then(|_| files.flush());
            let (first, second) = (keep(0, 1), keep(2 << 20, 2));
            files.close(opened);
            (files, first, second, events)
        };
        let whole = Arc::new(FaultStorage::new(blank()));
        let (_, first, second, _) = work(whole.clone());
        assert_eq!((first, second), (Ok(()), Ok(())));
        let changes = whole.recording(blank()).operations;
        let syncs: Vec<usize> = (0..changes.len()).filter(|number| changes[*number] == FileChange::Sync).collect();
        assert!(syncs.len() >= 2, "{changes:?}");
        let mut finals = 0;
        for number in syncs {
            let storage = FaultStorage::new(blank()).fail_once(number, Fault::LostWrites);
            let (files, first, second, events) = work(Arc::new(storage));
            let told = events.try_iter().filter(|event| matches!(event, Event::TroubleBegan { .. })).count();
            assert!((1..=2).contains(&told), "change {number}: told {told} times");
            assert_eq!(second, Err(Code::Io), "change {number}: nothing is durable after a sync that failed");
            if first.is_ok() {
                assert_eq!(files.flush(), Err(Code::Io), "change {number}");
                let mut found = [0; 4096];
                assert_eq!(files.read(File::Disk, 0, &mut found), Ok(4096), "change {number}");
                assert!(found == [1; 4096], "change {number}");
                finals += 1;
            }
        }
        assert!(finals > 0, "none failed between the two");
    }
}
