//! What a writer puts into the log, for one session.

use uuid::Uuid;

use super::checksum;
use super::log::{DESCRIPTOR, ENTRY_HEADER, SECTOR};
use super::region::Region;
use crate::bytes::{fit_u32, index, nth, put, split, wide};
use crate::error::Result;
use crate::image::parts::Taken;
use crate::storage::Storage;

/// Data descriptors in an entry whose descriptors take one sector.
pub(super) const MOST_PAGES_IN_ENTRY: usize = (SECTOR - ENTRY_HEADER) / DESCRIPTOR;

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
    pub(super) fn append(&mut self, storage: &dyn Storage, pages: &[Taken], file_len: u64) -> Result<()> {
        debug_assert!(pages.len() <= MOST_PAGES_IN_ENTRY);
        let bytes = self.encode(pages, file_len);
        let first = self.place.len.saturating_sub(self.position).min(wide(bytes.len()));
        let (before, after) = bytes.split_at(index(first));
        storage.write_at(before, self.place.at(self.position))?;
        if !after.is_empty() {
            storage.write_at(after, self.place.offset)?;
        }
        storage.sync()?;
        (_, self.position) = split(self.position.saturating_add(wide(bytes.len())), self.place.len);
        self.sequence = self.sequence.saturating_add(1);
        Ok(())
    }

    fn encode(&self, pages: &[Taken], file_len: u64) -> Vec<u8> {
        let mut bytes = vec![0; nth(SECTOR, SECTOR, pages.len())];
        let sequence = self.sequence.to_le_bytes();
        let len = fit_u32(wide(bytes.len()));
        put(&mut bytes, 0, b"loge");
        put(&mut bytes, 8, &len.to_le_bytes());
        put(&mut bytes, 12, &fit_u32(self.position).to_le_bytes());
        put(&mut bytes, 16, &sequence);
        put(&mut bytes, 24, &fit_u32(wide(pages.len())).to_le_bytes());
        put(&mut bytes, 32, &self.log.to_bytes_le());
        put(&mut bytes, 48, &file_len.to_le_bytes());
        put(&mut bytes, 56, &file_len.to_le_bytes());
        for (number, (target, page)) in pages.iter().enumerate() {
            let descriptor = &mut bytes[nth(ENTRY_HEADER, DESCRIPTOR, number)..];
            put(descriptor, 0, b"desc");
            put(descriptor, 4, &page[SECTOR - 4..]);
            put(descriptor, 8, &page[..8]);
            put(descriptor, 16, &target.to_le_bytes());
            put(descriptor, 24, &sequence);
            let sector = &mut bytes[nth(SECTOR, SECTOR, number)..];
            put(sector, 0, b"data");
            put(sector, 4, &sequence[4..]);
            put(sector, 8, &page[8..SECTOR - 4]);
            put(sector, SECTOR - 4, &sequence[..4]);
        }
        let sum = checksum(&bytes);
        put(&mut bytes, 4, &sum.to_le_bytes());
        bytes
    }
}

#[cfg(test)]
mod tests {
    use super::super::PAGE;
    use super::super::log::{Change, Ring, Sequences};
    use super::*;
    use crate::storage::{MemoryStorage, ReadAt};
    use std::sync::Arc;

    const PLACE: Region = Region { id: Uuid::nil(), offset: 1 << 20, len: 1 << 20, required: false };

    /// Whatever number of entries went round the ring, the last one alone is to be replayed, with its pages whole.
    #[test]
    fn the_newest_entry_is_found_on_every_lap() {
        let storage = MemoryStorage::new();
        storage.set_len(4 << 20).unwrap();
        let mut writer = LogWriter::begin(&storage, PLACE, 4 << 20).unwrap();
        for lap in 0u8..40 {
            let pages: Vec<_> = (0..usize::from(lap) * 3 + 1)
                .map(|n| (((2 << 20) + n as u64 * PAGE), Arc::new(vec![lap.wrapping_add(n as u8) | 1; SECTOR])))
                .collect();
            writer.append(&storage, &pages, 4 << 20).unwrap();
            let ring = Ring { storage: &storage, place: PLACE };
            let active = ring.sequences(writer.log).unwrap().active.unwrap();
            assert_eq!(active.len(), 1);
            assert_eq!(active[0].sequence, u64::from(lap) + 2);
            let mut found = Vec::new();
            ring.changes(&active[0], |target, change| {
                if let Change::Page(source) = change {
                    found.push((target, Arc::new(source.read(&storage)?.to_vec())));
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
        let page = Arc::new(vec![7; SECTOR]);
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
