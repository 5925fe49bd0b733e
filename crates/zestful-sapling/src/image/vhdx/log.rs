//! The log (specification: "log"): its entries, and which of them are to be replayed.
//!
//! ```text
//! entry = header (64) + descriptors (32 each), padded to 4 KiB, then one 4 KiB sector for each data descriptor
//! ```

use std::collections::HashMap;

use uuid::Uuid;

use super::PAGE;
use super::header::guid;
use super::region::Region;
use crate::bytes::{array, index, le_u32, le_u64, nth, put, split, wide};
use crate::error::Result;
use crate::image::data_in;
use crate::storage::ReadAt;

pub(super) const SECTOR: usize = index(PAGE);
pub(super) type PageBytes = Box<[u8; SECTOR]>;
pub(super) const ENTRY_HEADER: usize = 64;
pub(super) const DESCRIPTOR: usize = 32;
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
        self.place.at(split(position, self.place.len).1)
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
            let sector = if at == 0 { first } else { self.sector(position.saturating_add(at))? };
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
                pages = u64::from(is_page).saturating_add(pages);
            }
        }
        legal &= pages.checked_mul(PAGE).and_then(|data| data.checked_add(descriptor_len)) == Some(len);
        for at in (descriptor_len..len).step_by(SECTOR) {
            let sector = self.sector(position.saturating_add(at))?;
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
            let rest = self.place.len.saturating_sub(position);
            let data = data_in(self.storage, self.place.at(position), rest)?;
            let within = |at: u64| at.saturating_sub(self.place.offset);
            let (first, end) = (within(data.start) / PAGE, within(data.end).div_ceil(PAGE));
            position = end.saturating_mul(PAGE);
            for at in (first..end).map(|page| page.saturating_mul(PAGE)) {
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
            let (_, next) = split(entry.position.saturating_add(entry.len), self.place.len);
            entries.get(&next).filter(|next| entry.sequence.checked_add(1) == Some(next.sequence))
        };
        let mut continued: Vec<u64> = entries.values().filter_map(|entry| follows(entry).map(|e| e.position)).collect();
        continued.sort_unstable();
        let mut beginnings: Vec<&Entry> =
            entries.values().filter(|entry| continued.binary_search(&entry.position).is_err()).collect();
        beginnings.sort_unstable_by_key(|entry| entry.position);
        let mut best: Option<Vec<Entry>> = None;
        for beginning in beginnings {
            let (mut run, mut filled) = (vec![*beginning], beginning.len);
            while let Some(next) = run.last().and_then(follows) {
                filled = next.len.saturating_add(filled);
                if filled > self.place.len {
                    break;
                }
                run.push(*next);
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
        let mut data = entry.position.saturating_add(descriptor_len);
        for at in (0..descriptor_len).step_by(SECTOR) {
            let sector = self.sector(entry.position.saturating_add(at))?;
            for descriptor in descriptors_in(&sector, at, entry.descriptors) {
                let target = le_u64(descriptor, 16);
                if descriptor[..4] == *b"zero" {
                    act(target, Change::Zero(le_u64(descriptor, 8)))?;
                    continue;
                }
                let (leading, trailing) = (array(descriptor, 8), array(descriptor, 4));
                act(target, Change::Page(PageSource { at: self.file_offset(data), leading, trailing }))?;
                data = data.saturating_add(PAGE);
            }
        }
        Ok(())
    }
}

fn descriptor_area(count: u32) -> u64 {
    wide(nth(ENTRY_HEADER, DESCRIPTOR, index(u64::from(count)))).div_ceil(PAGE).saturating_mul(PAGE)
}

/// The descriptors in the sector `at` bytes into an entry.
fn descriptors_in(sector: &[u8; SECTOR], at: u64, count: u32) -> impl Iterator<Item = &[u8]> {
    let skip = if at == 0 { ENTRY_HEADER } else { 0 };
    let (before, _) = split(at.saturating_sub(wide(ENTRY_HEADER)), wide(DESCRIPTOR));
    sector[skip..].chunks_exact(DESCRIPTOR).take(index(u64::from(count).saturating_sub(before)))
}
