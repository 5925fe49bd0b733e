//! A pending log, replayed in memory for readers and into the file for writers.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

use super::header::{HEADER_SECTION, Header};
use super::log::{Change, PageSource, Ring};
use super::region::{Region, TABLES};
use super::{MAX_FILE_SIZE, PAGE};
use crate::bytes::{index, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, VhdxFinding};
use crate::storage::{Medium, ReadAt, Storage};

/// The file as it is once its log is replayed. Nothing is written.
///
/// Pages stay in the log and are read from there, so that a large log costs little memory.
pub(super) struct Replayed {
    inner: Arc<dyn ReadAt>,
    len: u64,
    /// Start to end and content; never overlapping.
    patches: BTreeMap<u64, (u64, Patch)>,
}

#[derive(Clone, Copy)]
enum Patch {
    Zero,
    Page(PageSource),
}

/// Real logs have 1 MiB; this bounds the memory that a hostile one can ask for.
const MAX_LOG: u64 = 64 << 20;

fn refuse_long(place: Region) -> Result<()> {
    if place.len <= MAX_LOG {
        return Ok(());
    }
    Err(Finding::new(VhdxFinding::LogSize { length: place.len, most: MAX_LOG }, place.offset).into())
}

/// Refuses a log that is empty, and with which a new writer's changes could not be replayed after a loss of power.
pub(super) fn refuse_unfit(header: &Header, place: Region) -> Result<()> {
    if header.log_version != 0 {
        return Err(Finding::new(VhdxFinding::LogVersion { version: header.log_version }, place.offset).into());
    }
    refuse_long(place)
}

/// Reads the log that the header names and works out what its replay changes.
pub(super) fn replay(inner: Arc<dyn ReadAt>, header: &Header, place: Region) -> Result<Replayed> {
    let fatal = |kind| Error::from(Finding::new(kind, header.log_offset));
    refuse_long(place)?;
    let file_len = inner.len()?;
    let ring = Ring { storage: &inner, place };
    let found = ring.sequences(header.log)?;
    if let Some(entry) = found.illegal {
        return Err(fatal(VhdxFinding::LogEntry { position: entry.position }));
    }
    let entries = found.active.unwrap_or_default();
    let Some(head) = entries.last().copied() else { return Err(fatal(VhdxFinding::LogSequence)) };
    if head.flushed_len > file_len {
        return Err(fatal(VhdxFinding::LogCut { durable: head.flushed_len, file: file_len }));
    }
    if head.last_len > MAX_FILE_SIZE {
        return Err(fatal(VhdxFinding::LogLength { length: head.last_len }));
    }
    let mut replayed = Replayed { inner: inner.clone(), len: file_len.max(head.last_len), patches: BTreeMap::new() };
    for entry in &entries {
        ring.changes(entry, |target, change| {
            let len = match change {
                Change::Zero(len) => len,
                Change::Page(_) => PAGE,
            };
            let end = target.checked_add(len).filter(|end| *end <= replayed.len);
            let over_log = target < place.end() && end.is_none_or(|end| place.offset < end);
            match end {
                Some(end) if target >= TABLES[0] && !over_log && !(target < HEADER_SECTION && end > HEADER_SECTION) => {
                    let patch = match change {
                        Change::Zero(_) => Patch::Zero,
                        Change::Page(source) => Patch::Page(source),
                    };
                    replayed.insert(target, end, patch);
                    Ok(())
                }
                _ => Err(fatal(VhdxFinding::LogTarget { target, length: len })),
            }
        })?;
    }
    Ok(replayed)
}

impl Replayed {
    /// Makes the range come from `patch`; whatever came from earlier ones there is gone.
    fn insert(&mut self, start: u64, end: u64, patch: Patch) {
        if start == end {
            return;
        }
        let before = self.patches.range(..start).next_back().map(|(at, (until, patch))| (*at, *until, *patch));
        if let Some((at, until, old)) = before.filter(|(_, until, _)| *until > start) {
            // Only zero ranges are longer than a page, and pages are aligned.
            self.patches.insert(at, (start, old));
            if until > end {
                self.patches.insert(end, (until, old));
            }
        }
        while let Some((at, (until, old))) = self.patches.range(start..end).next().map(|(at, kept)| (*at, *kept)) {
            self.patches.remove(&at);
            if until > end {
                self.patches.insert(end, (until, old));
            }
        }
        self.patches.insert(start, (end, patch));
    }

    fn overlapping(&self, range: Range<u64>) -> impl Iterator<Item = (Range<u64>, Patch)> {
        let before = self.patches.range(..range.start).next_back();
        let from = self.patches.range(range.start..range.end);
        before
            .into_iter()
            .chain(from)
            .filter(move |(_, (end, _))| *end > range.start)
            .map(|(start, (end, patch))| (*start..*end, *patch))
    }

    /// Writes the changes into the file. Safe to repeat: a crash in between leaves the log as it was.
    pub(super) fn write_into(&self, storage: &dyn Storage) -> Result<()> {
        if storage.len()? < self.len {
            storage.set_len(self.len)?;
        }
        for (start, (end, patch)) in &self.patches {
            match patch {
                Patch::Zero => storage.punch_hole(*start, end.saturating_sub(*start))?,
                Patch::Page(source) => storage.write_at(&source.read(&self.inner)?[..], *start)?,
            }
        }
        storage.sync()
    }
}

#[deny(clippy::missing_trait_methods)]
impl ReadAt for Replayed {
    fn path(&self) -> &Path {
        self.inner.path()
    }

    fn len(&self) -> Result<u64> {
        Ok(self.len)
    }

    fn is_empty(&self) -> Result<bool> {
        Ok(self.len == 0)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let end = offset.saturating_add(wide(buffer.len()));
        let there = self.inner.len()?.clamp(offset, end).saturating_sub(offset);
        if end > self.len {
            // Past the replayed end as well: let the file itself complain.
            return self.inner.read_at(buffer, offset);
        }
        let (first, rest) = buffer.split_at_mut(index(there));
        self.inner.read_at(first, offset)?;
        rest.fill(0);
        for (range, patch) in self.overlapping(offset..end) {
            let (from, to) = (range.start.max(offset), range.end.min(end));
            let target = &mut buffer[index(from.saturating_sub(offset))..index(to.saturating_sub(offset))];
            match patch {
                Patch::Zero => target.fill(0),
                Patch::Page(source) => {
                    let page = source.read(&self.inner)?;
                    let within = |at: u64| index(at.saturating_sub(range.start));
                    target.copy_from_slice(&page[within(from)..within(to)]);
                }
            }
        }
        Ok(())
    }

    fn stands_at(&self, path: &Path) -> Result<bool> {
        self.inner.stands_at(path)
    }

    fn read_at_once(&self, _: &mut [u8], _: u64) -> Result<bool> {
        Ok(false)
    }

    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        let in_file = self.inner.next_data(offset)?;
        let mut pages = self.overlapping(offset..u64::MAX).filter(|(_, patch)| matches!(patch, Patch::Page(_)));
        let in_log = pages.next().map(|(range, _)| range.start.max(offset)..range.end);
        Ok(match (in_file, in_log) {
            (Some(file), Some(log)) if log.start < file.start => Some(log),
            (Some(file), _) => Some(file),
            (None, log) => log,
        })
    }

    fn allocated(&self) -> Result<u64> {
        self.inner.allocated()
    }

    fn medium(&self) -> Medium {
        self.inner.medium()
    }
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::super::log_writer::LogWriter;
    use super::*;
    use crate::storage::MemoryStorage;

    const PLACE: Region = Region { id: Uuid::nil(), offset: 1 << 20, len: 1 << 20, required: false };
    const LEN: u64 = 4 << 20;

    /// A file of 4 MiB whose log asks for a page at `target`, and for a file of `last_len` bytes.
    fn replayed(target: u64, last_len: u64) -> (Arc<MemoryStorage>, Result<Replayed>) {
        let storage = Arc::new(MemoryStorage::new());
        storage.set_len(LEN).unwrap();
        let mut log = LogWriter::begin(&*storage, PLACE, LEN).unwrap();
        let page = Arc::new(vec![7; PAGE as usize]);
        log.append(&*storage, &[(target, page)], LEN).unwrap();
        // The entry behind the first one, which has no pages.
        let (at, mut entry) = (PLACE.offset + PAGE, vec![0; 2 * PAGE as usize]);
        storage.read_at(&mut entry, at).unwrap();
        crate::bytes::put(&mut entry, 56, &last_len.to_le_bytes());
        let sum = super::super::checksum(&entry);
        crate::bytes::put(&mut entry, 4, &sum.to_le_bytes());
        storage.write_at(&entry, at).unwrap();
        let header = Header {
            sequence: 1,
            file_write: Uuid::nil(),
            data_write: Uuid::nil(),
            log: log.log,
            log_version: 0,
            version: 1,
            log_length: PLACE.len as u32,
            log_offset: PLACE.offset,
        };
        let found = replay(storage.clone(), &header, PLACE);
        (storage, found)
    }

    /// No entry may change the headers, the log that it stands in, or what lies behind the file's end.
    #[test]
    fn entries_change_only_what_a_log_may() {
        let last = PLACE.end() - PAGE;
        for (target, legal) in [
            (TABLES[0], true),
            (PLACE.end(), true),
            (LEN - PAGE, true),
            (0, false),
            (TABLES[0] - PAGE, false),
            (PLACE.offset, false),
            (last, false),
            (LEN, false),
            (u64::MAX - PAGE + 1, false),
        ] {
            match replayed(target, LEN).1 {
                Ok(_) => assert!(legal, "{target}"),
                Err(Error::Damaged(finding)) => assert!(!legal && finding.code() == "vhdx-log-target", "{target}"),
                Err(other) => panic!("{target}: {other}"),
            }
        }
    }

    /// A file that a loss of power left shorter than the log says gets its length, in memory and on the disk.
    #[test]
    fn a_log_may_lengthen_the_file() {
        let (storage, found) = replayed(LEN + PAGE, 2 * LEN);
        let found = found.unwrap();
        let mut bytes = vec![1; 3 * PAGE as usize];
        found.read_at(&mut bytes, LEN).unwrap();
        let expected = [[0; PAGE as usize], [7; PAGE as usize], [0; PAGE as usize]].concat();
        assert!(found.len().unwrap() == 2 * LEN && bytes == expected);
        found.write_into(&*storage).unwrap();
        bytes.fill(1);
        storage.read_at(&mut bytes, LEN).unwrap();
        assert!(storage.len().unwrap() == 2 * LEN && bytes == expected);
    }
}
