//! Sector bitmaps, one before each block's data (specification: "sector bitmap"). The most significant bit comes first.

use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::bytes::{fit_u32, in_units, index};
use crate::error::Result;
use crate::storage::ReadAt;

/// Bytes of bitmaps that are kept, those that changed included; one bitmap has 512 bytes as a rule, 512 KiB at most.
const MOST_KEPT: usize = 2 << 20;

/// Bitmaps by the place where they stand in the file, read as they are needed.
#[derive(Default)]
pub(super) struct Bitmaps {
    cache: Mutex<Cache>,
}

#[derive(Default)]
struct Cache {
    maps: HashMap<u64, Map>,
    /// The unchanged ones, oldest first.
    order: VecDeque<u64>,
    /// Bytes of all, and of those that changed.
    kept: usize,
    changed: usize,
}

struct Map {
    bytes: Vec<u8>,
    changed: bool,
}

impl Bitmaps {
    fn lock(&self) -> MutexGuard<'_, Cache> {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Calls `look` with the bitmap at a place.
    pub(super) fn with<R>(
        &self,
        storage: &dyn ReadAt,
        place: u64,
        len: u64,
        look: impl FnOnce(&[u8]) -> R,
    ) -> Result<R> {
        let mut cache = self.lock();
        cache.load(storage, place, len)?;
        Ok(look(cache.maps.get(&place).map_or(&[], |map| &map.bytes)))
    }

    /// Sets the bits of some sectors; `false` when they were set already.
    pub(super) fn set(&mut self, storage: &dyn ReadAt, place: u64, len: u64, first: u64, count: u64) -> Result<bool> {
        let mut cache = self.lock();
        cache.load(storage, place, len)?;
        let Some(map) = cache.maps.get_mut(&place) else { return Ok(false) };
        if run(&map.bytes, first, count) == (true, count) {
            return Ok(false);
        }
        fill(&mut map.bytes, first, count);
        if !std::mem::replace(&mut map.changed, true) {
            let len = map.bytes.len();
            cache.changed = cache.changed.saturating_add(len);
            cache.order.retain(|kept| *kept != place);
        }
        Ok(true)
    }

    /// The bitmap of a block that was allocated just now.
    pub(super) fn put(&mut self, place: u64, bytes: Vec<u8>) {
        let mut cache = self.lock();
        cache.forget(place);
        cache.make_room(bytes.len());
        cache.kept = cache.kept.saturating_add(bytes.len());
        cache.changed = cache.changed.saturating_add(bytes.len());
        cache.maps.insert(place, Map { bytes, changed: true });
    }

    /// The place is used for something else from now on.
    pub(super) fn forget(&mut self, place: u64) {
        self.lock().forget(place);
    }

    /// Bytes of the bitmaps that changed.
    pub(super) fn changed(&self) -> usize {
        self.lock().changed
    }

    /// The changed bitmaps by their place.
    pub(super) fn changes(&self) -> Vec<(u64, Vec<u8>)> {
        let cache = self.lock();
        let changed = cache.maps.iter().filter(|(_, map)| map.changed);
        let mut maps: Vec<_> = changed.map(|(place, map)| (*place, map.bytes.clone())).collect();
        maps.sort_unstable_by_key(|(place, _)| *place);
        maps
    }

    pub(super) fn mark_unchanged(&mut self) {
        let mut cache = self.lock();
        let Cache { maps, order, changed, .. } = &mut *cache;
        for (place, map) in maps.iter_mut().filter(|(_, map)| map.changed) {
            map.changed = false;
            order.push_back(*place);
        }
        *changed = 0;
    }
}

impl Cache {
    fn load(&mut self, storage: &dyn ReadAt, place: u64, len: u64) -> Result<()> {
        if self.maps.contains_key(&place) {
            return Ok(());
        }
        self.make_room(index(len));
        let mut bytes = vec![0; index(len)];
        storage.read_at(&mut bytes, place)?;
        self.kept = self.kept.saturating_add(bytes.len());
        self.maps.insert(place, Map { bytes, changed: false });
        self.order.push_back(place);
        Ok(())
    }

    /// What changed stays, whatever that takes.
    fn make_room(&mut self, len: usize) {
        while self.kept.saturating_add(len) > MOST_KEPT {
            let Some(oldest) = self.order.pop_front() else { break };
            let gone = self.maps.remove(&oldest).map_or(0, |map| map.bytes.len());
            self.kept = self.kept.saturating_sub(gone);
        }
    }

    fn forget(&mut self, place: u64) {
        if let Some(map) = self.maps.remove(&place) {
            self.kept = self.kept.saturating_sub(map.bytes.len());
            self.changed = self.changed.saturating_sub(if map.changed { map.bytes.len() } else { 0 });
            self.order.retain(|kept| *kept != place);
        }
    }
}

/// Whether sector `first` is present, and for how many sectors (at most `most`) the same holds.
pub(super) fn run(bytes: &[u8], first: u64, most: u64) -> (bool, u64) {
    let byte = |number: u64| bytes.get(index(number)).copied().unwrap_or_default();
    let value = (byte(first / 8) << (first % 8)) & 0x80 != 0;
    for step in in_units(first, most, 8) {
        let byte = byte(step.unit);
        let differs = (if value { !byte } else { byte }) << (step.within % 8);
        let same = u64::from(differs.leading_zeros());
        if same < step.len {
            return (value, step.done.saturating_add(same));
        }
    }
    (value, most)
}

/// Sets the bits of `count` sectors from `first` on.
pub(super) fn fill(bytes: &mut [u8], first: u64, count: u64) {
    for step in in_units(first, count, 8) {
        let Some(byte) = bytes.get_mut(index(step.unit)) else { break };
        let from = 0xFF_u8 >> (step.within % 8);
        *byte |= from & !0xFF_u8.checked_shr(fit_u32(step.within.saturating_add(step.len))).unwrap_or_default();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_what_a_bit_by_bit_look_finds() {
        let mut bytes = vec![0; 512];
        let ranges = [(0, 1), (3, 5), (60, 70), (200, 13), (1000, 3000), (4095, 1)];
        for (first, count) in ranges {
            fill(&mut bytes, first, count);
        }
        assert_eq!(bytes[0], 0b1001_1111, "the most significant bit comes first");
        let set = |sector: u64| ranges.iter().any(|(first, count)| (*first..first + count).contains(&sector));
        for first in 0..4096 {
            let most = 900.min(4096 - first);
            let expected = (0..most).find(|step| set(first + step) != set(first)).unwrap_or(most);
            assert_eq!(run(&bytes, first, most), (set(first), expected), "sector {first}");
        }
    }
}
