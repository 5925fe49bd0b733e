//! The log (specification: "log"): its entries, and which of them are to be replayed.
//!
//! ```text
//! entry = header (64) + descriptors (32 each), padded to 4 KiB, then one 4 KiB sector for each data descriptor
//! ```

use std::collections::HashMap;

use uuid::Uuid;

use super::header::guid;
use super::pages::PageBytes;
use super::region::Region;
use super::{PAGE, checksum};
use crate::bytes::{array, le_u32, le_u64, put};
use crate::error::Result;
use crate::image::data_in;
use crate::storage::{ReadAt, Storage};

const SECTOR: usize = PAGE as usize;
const ENTRY_HEADER: usize = 64;
const DESCRIPTOR: usize = 32;
/// Data descriptors in an entry whose descriptors take one sector.
pub(super) const MOST_PAGES_IN_ENTRY: usize = (SECTOR - ENTRY_HEADER) / DESCRIPTOR;

/// Bytes of descriptors, of an entry that may be damaged; enough for a log of 8 MiB.
const MOST_ILLEGAL: u64 = 64 << 10;

/// A valid entry, without its content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Entry {
    /// Where it begins in the ring.
    pub(super) position: u64,
    pub(super) len: u64,
    /// Where the first entry that must be replayed begins in the ring.
    pub(super) tail: u64,
    pub(super) sequence: u64,
    pub(super) descriptors: u32,
    /// The file's length that was durable when the entry was written.
    pub(super) flushed_len: u64,
    /// The file's length that holds everything in use.
    pub(super) last_len: u64,
}

/// What stands at a place in the ring.
enum Found {
    Whole(Entry),
    /// Its checksum is right, so that no loss of power made it what it is.
    Illegal(Entry),
}

/// What the ring holds.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Sequences {
    /// The entries to be replayed, in order: of all valid sequences in the ring the newest, from its tail to its head.
    pub(super) active: Option<Vec<Entry>>,
    /// An entry that would be newer, whose checksum is right and whose descriptors are not legal.
    pub(super) illegal: Option<Entry>,
}

/// A change that an entry asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Change {
    /// This many bytes of zeros.
    Zero(u64),
    /// A page.
    Page(PageSource),
}

/// A page as the log holds it: all but its first 8 and last 4 bytes stand in a sector of the ring.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct PageSource {
    /// Where that sector stands in the file.
    at: u64,
    leading: [u8; 8],
    trailing: [u8; 4],
}

impl PageSource {
    pub(super) fn read(&self, storage: &dyn ReadAt) -> Result<PageBytes> {
        let mut bytes: PageBytes = Box::new([0; SECTOR]);
        storage.read_at(&mut bytes[..], self.at)?;
        put(&mut bytes[..], 0, &self.leading);
        put(&mut bytes[..], SECTOR - 4, &self.trailing);
        Ok(bytes)
    }
}

/// The ring that the log is.
pub(super) struct Ring<'a> {
    pub(super) storage: &'a dyn ReadAt,
    pub(super) place: Region,
}

impl Ring<'_> {
    fn file_offset(&self, position: u64) -> u64 {
        self.place.offset + position % self.place.len
    }

    fn sector(&self, position: u64) -> Result<[u8; SECTOR]> {
        let mut bytes = [0; SECTOR];
        self.storage.read_at(&mut bytes, self.file_offset(position))?;
        Ok(bytes)
    }

    /// What begins at `position`: a whole entry of this log, or none.
    ///
    /// Reading stops at the first sector that cannot be part of an entry, so that the cost of looking at every
    /// position stays in proportion to the length of the ring; an entry whose descriptors are not legal is read on, if
    /// it is no longer than any that a writer makes, to tell damage from a torn write.
    fn entry(&self, position: u64, log: Uuid) -> Result<Option<Found>> {
        let first = self.sector(position)?;
        let len = u64::from(le_u32(&first, 8));
        let entry = Entry {
            position,
            len,
            tail: u64::from(le_u32(&first, 12)),
            sequence: le_u64(&first, 16),
            descriptors: le_u32(&first, 24),
            flushed_len: le_u64(&first, 48),
            last_len: le_u64(&first, 56),
        };
        let descriptor_len = descriptor_area(entry.descriptors);
        let plausible = first[..4] == *b"loge"
            && guid(&first, 32) == log
            && entry.sequence > 0
            && len > 0
            && len.is_multiple_of(PAGE)
            && (descriptor_len..=self.place.len).contains(&len)
            && entry.tail.is_multiple_of(PAGE)
            && entry.tail < self.place.len;
        if !plausible {
            return Ok(None);
        }
        let mut unsummed = first;
        unsummed[4..8].fill(0);
        let mut sum = crc32c::crc32c(&unsummed);
        let (mut pages, mut legal) = (0, true);
        for at in (0..descriptor_len).step_by(SECTOR) {
            let sector = if at == 0 { first } else { self.sector(position + at)? };
            if at > 0 {
                sum = crc32c::crc32c_append(sum, &sector);
            }
            for descriptor in descriptors_in(&sector, at, entry.descriptors) {
                let is_page = descriptor[..4] == *b"desc";
                let zeros = descriptor[..4] == *b"zero" && le_u64(descriptor, 8).is_multiple_of(PAGE);
                let sound = le_u64(descriptor, 24) == entry.sequence && le_u64(descriptor, 16).is_multiple_of(PAGE);
                legal &= sound && (is_page || zeros);
                if !legal && descriptor_len > MOST_ILLEGAL {
                    return Ok(None);
                }
                pages += u64::from(is_page);
            }
        }
        legal &= pages.checked_mul(PAGE).and_then(|data| data.checked_add(descriptor_len)) == Some(len);
        for at in (descriptor_len..len).step_by(SECTOR) {
            let sector = self.sector(position + at)?;
            let (high, low) = (u64::from(le_u32(&sector, 4)), u64::from(le_u32(&sector, SECTOR - 4)));
            if sector[..4] != *b"data" || high << 32 | low != entry.sequence {
                return Ok(None);
            }
            sum = crc32c::crc32c_append(sum, &sector);
        }
        Ok((sum == le_u32(&first, 4)).then_some(match legal {
            true => Found::Whole(entry),
            false => Found::Illegal(entry),
        }))
    }

    /// Looks through the ring.
    ///
    /// The specification restarts its search inside every run of entries it has rejected. A run that begins later in
    /// the same run has the same head and holds fewer entries, so it cannot succeed where the longer one failed:
    /// each position is looked at once as a beginning.
    pub(super) fn sequences(&self, log: Uuid) -> Result<Sequences> {
        let mut entries = HashMap::new();
        let mut illegal: Option<Entry> = None;
        let mut position = 0;
        while position < self.place.len {
            let data = data_in(self.storage, self.place.offset + position, self.place.len - position)?;
            let (start, end) = (data.start - self.place.offset, data.end - self.place.offset);
            position = end.next_multiple_of(PAGE);
            for at in (start / PAGE * PAGE..end).step_by(PAGE as usize) {
                match self.entry(at, log)? {
                    Some(Found::Whole(entry)) => _ = entries.insert(at, entry),
                    Some(Found::Illegal(entry)) if illegal.is_none_or(|other| other.sequence < entry.sequence) => {
                        illegal = Some(entry);
                    }
                    _ => {}
                }
            }
        }
        let follows = |entry: &Entry| {
            let next = entries.get(&((entry.position + entry.len) % self.place.len));
            next.filter(|next| entry.sequence.checked_add(1) == Some(next.sequence))
        };
        let mut continued: Vec<u64> = entries.values().filter_map(|entry| follows(entry).map(|e| e.position)).collect();
        continued.sort_unstable();
        let mut beginnings: Vec<&Entry> =
            entries.values().filter(|entry| continued.binary_search(&entry.position).is_err()).collect();
        beginnings.sort_unstable_by_key(|entry| entry.position);
        let mut best: Option<Vec<Entry>> = None;
        for beginning in beginnings {
            let (mut run, mut filled) = (vec![*beginning], beginning.len);
            while let Some(next) = run.last().and_then(follows).filter(|next| filled + next.len <= self.place.len) {
                run.push(*next);
                filled += next.len;
            }
            let Some(head) = run.last().copied() else { continue };
            let Some(tail) = run.iter().position(|entry| entry.position == head.tail) else { continue };
            let newer = |best: &Vec<Entry>| best.last().is_none_or(|other| head.sequence > other.sequence);
            if best.as_ref().is_none_or(newer) {
                best = Some(run.split_off(tail));
            }
        }
        let head = best.as_ref().and_then(|best| best.last()).map_or(0, |head| head.sequence);
        Ok(Sequences { active: best, illegal: illegal.filter(|entry| entry.sequence > head) })
    }

    /// Calls `act` with each change of an entry and the place it goes to, in order.
    pub(super) fn changes(&self, entry: &Entry, mut act: impl FnMut(u64, Change) -> Result<()>) -> Result<()> {
        let descriptor_len = descriptor_area(entry.descriptors);
        let mut data = entry.position + descriptor_len;
        for at in (0..descriptor_len).step_by(SECTOR) {
            let sector = self.sector(entry.position + at)?;
            for descriptor in descriptors_in(&sector, at, entry.descriptors) {
                let target = le_u64(descriptor, 16);
                if descriptor[..4] == *b"zero" {
                    act(target, Change::Zero(le_u64(descriptor, 8)))?;
                    continue;
                }
                let (leading, trailing) = (array(descriptor, 8), array(descriptor, 4));
                act(target, Change::Page(PageSource { at: self.file_offset(data), leading, trailing }))?;
                data += PAGE;
            }
        }
        Ok(())
    }
}

fn descriptor_area(count: u32) -> u64 {
    (ENTRY_HEADER as u64 + DESCRIPTOR as u64 * u64::from(count)).next_multiple_of(PAGE)
}

/// The descriptors in the sector `at` bytes into an entry.
fn descriptors_in(sector: &[u8; SECTOR], at: u64, count: u32) -> impl Iterator<Item = &[u8]> {
    let skip = if at == 0 { ENTRY_HEADER } else { 0 };
    let before = if at == 0 { 0 } else { (at - ENTRY_HEADER as u64) / DESCRIPTOR as u64 };
    sector[skip..].chunks_exact(DESCRIPTOR).take(u64::from(count).saturating_sub(before) as usize)
}

/// The writer's place in the ring, for one session.
#[derive(Debug)]
pub(super) struct LogWriter {
    pub(super) log: Uuid,
    place: Region,
    position: u64,
    sequence: u64,
}

impl LogWriter {
    /// Begins a log under a new id with an entry that changes nothing, and makes it durable.
    ///
    /// The entry comes before the header that names the id: a header that names a log without a valid entry would be
    /// a damaged file.
    pub(super) fn begin(storage: &dyn Storage, place: Region, file_len: u64) -> Result<Self> {
        let mut writer = Self { log: Uuid::new_v4(), place, position: 0, sequence: 1 };
        writer.append(storage, &[], file_len)?;
        Ok(writer)
    }

    /// Writes one entry with all these pages and makes it durable. `file_len` is durable already.
    ///
    /// The entry names itself as the tail: the caller has made the pages of every earlier entry durable in their
    /// places. The entry before it is kept whole until this one is durable, since an entry takes less than half of
    /// the smallest ring.
    pub(super) fn append(&mut self, storage: &dyn Storage, pages: &[(u64, PageBytes)], file_len: u64) -> Result<()> {
        debug_assert!(pages.len() <= MOST_PAGES_IN_ENTRY);
        let bytes = self.encode(pages, file_len);
        let first = (self.place.len - self.position).min(bytes.len() as u64);
        let (before, after) = bytes.split_at(first as usize);
        storage.write_at(before, self.place.offset + self.position)?;
        if !after.is_empty() {
            storage.write_at(after, self.place.offset)?;
        }
        storage.sync()?;
        self.position = (self.position + bytes.len() as u64) % self.place.len;
        self.sequence += 1;
        Ok(())
    }

    fn encode(&self, pages: &[(u64, PageBytes)], file_len: u64) -> Vec<u8> {
        let mut bytes = vec![0; SECTOR * (1 + pages.len())];
        let len = bytes.len() as u32;
        put(&mut bytes, 0, b"loge");
        put(&mut bytes, 8, &len.to_le_bytes());
        put(&mut bytes, 12, &(self.position as u32).to_le_bytes());
        put(&mut bytes, 16, &self.sequence.to_le_bytes());
        put(&mut bytes, 24, &(pages.len() as u32).to_le_bytes());
        put(&mut bytes, 32, &self.log.to_bytes_le());
        put(&mut bytes, 48, &file_len.to_le_bytes());
        put(&mut bytes, 56, &file_len.to_le_bytes());
        for (number, (target, page)) in pages.iter().enumerate() {
            let at = ENTRY_HEADER + DESCRIPTOR * number;
            put(&mut bytes, at, b"desc");
            put(&mut bytes, at + 4, &page[SECTOR - 4..]);
            put(&mut bytes, at + 8, &page[..8]);
            put(&mut bytes, at + 16, &target.to_le_bytes());
            put(&mut bytes, at + 24, &self.sequence.to_le_bytes());
            let sector = SECTOR * (1 + number);
            put(&mut bytes, sector, b"data");
            put(&mut bytes, sector + 4, &((self.sequence >> 32) as u32).to_le_bytes());
            put(&mut bytes, sector + 8, &page[8..SECTOR - 4]);
            put(&mut bytes, sector + SECTOR - 4, &(self.sequence as u32).to_le_bytes());
        }
        let sum = checksum(&bytes);
        put(&mut bytes, 4, &sum.to_le_bytes());
        bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::storage::MemoryStorage;

    const PLACE: Region = Region { id: Uuid::nil(), offset: 1 << 20, len: 1 << 20, required: false };

    /// Whatever number of entries went round the ring, the last one alone is to be replayed, with its pages whole.
    #[test]
    fn the_newest_entry_is_found_on_every_lap() {
        let storage = MemoryStorage::new();
        storage.set_len(4 << 20).unwrap();
        let mut writer = LogWriter::begin(&storage, PLACE, 4 << 20).unwrap();
        for lap in 0u8..40 {
            let pages: Vec<_> = (0..usize::from(lap) * 3 + 1)
                .map(|n| (((2 << 20) + n as u64 * PAGE), Box::new([lap.wrapping_add(n as u8) | 1; SECTOR])))
                .collect();
            writer.append(&storage, &pages, 4 << 20).unwrap();
            let ring = Ring { storage: &storage, place: PLACE };
            let active = ring.sequences(writer.log).unwrap().active.unwrap();
            assert_eq!(active.len(), 1);
            assert_eq!(active[0].sequence, u64::from(lap) + 2);
            let mut found = Vec::new();
            ring.changes(&active[0], |target, change| {
                if let Change::Page(source) = change {
                    found.push((target, source.read(&storage)?));
                }
                Ok(())
            })
            .unwrap();
            assert_eq!(found, pages);
            assert_eq!(ring.sequences(Uuid::nil()).unwrap(), Sequences { active: None, illegal: None });
        }
    }

    /// An entry that a writer wrote wrong is no torn one: what it says is lost, and that is told.
    #[test]
    fn an_illegal_entry_with_the_right_checksum_is_not_taken_for_a_torn_one() {
        let page: PageBytes = Box::new([7; SECTOR]);
        for (field, value) in [(0, 0x55_u8), (16, 1), (24, 0x55)] {
            let storage = MemoryStorage::new();
            storage.set_len(4 << 20).unwrap();
            let mut writer = LogWriter::begin(&storage, PLACE, 4 << 20).unwrap();
            let at = PLACE.offset + writer.position;
            writer.append(&storage, &[(2 << 20, page.clone())], 4 << 20).unwrap();
            let mut entry = vec![0; 2 * SECTOR];
            storage.read_at(&mut entry, at).unwrap();
            entry[ENTRY_HEADER + field] = value;
            let ring = Ring { storage: &storage, place: PLACE };
            storage.write_at(&entry, at).unwrap();
            assert_eq!(ring.sequences(writer.log).unwrap().illegal, None, "torn: {field}");
            let sum = checksum(&entry);
            put(&mut entry, 4, &sum.to_le_bytes());
            storage.write_at(&entry, at).unwrap();
            let found = ring.sequences(writer.log).unwrap();
            assert_eq!(found.active.unwrap().last().unwrap().sequence, 1);
            assert_eq!(found.illegal.unwrap().sequence, 2, "illegal: {field}");
        }
    }
}
