//! Small parts of a file (pages of a table, bitmaps) that are kept in memory, changed there, and written by a commit.
//!
//! A part that changed stays until a commit has written it. What a commit takes stays as well until it is in its place,
//! since whoever reads a part anew reads it from there; meanwhile it may change again, for the commit after.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use crate::bytes::index;
use crate::error::Result;
use crate::storage::ReadAt;

/// A part as a commit takes it: its place in the file, and what it held then.
pub(super) type Taken = (u64, Arc<Vec<u8>>);

/// Parts by their place in the file, in a cache of bounded size.
pub(super) struct Parts {
    /// Bytes that are kept; what changed is kept whatever that takes.
    most: usize,
    cache: Mutex<Cache>,
}

#[derive(Default)]
struct Cache {
    parts: HashMap<u64, Part>,
    /// Those that may go, oldest first, by their turn.
    order: BTreeMap<u64, u64>,
    turns: u64,
    /// Bytes of all, and of those that wait for a commit or are in one.
    kept: usize,
    held: usize,
    /// Counts what may have changed the file behind a part that is being read.
    written: u64,
}

struct Part {
    bytes: Arc<Vec<u8>>,
    /// It changed since a commit took it last.
    changed: bool,
    /// A commit has taken it and has not written it to its place yet.
    leaving: bool,
    /// Its turn among those that may go.
    turn: Option<u64>,
}

impl Part {
    fn is_held(&self) -> bool {
        self.changed || self.leaving
    }
}

impl Parts {
    pub(super) fn new(most: usize) -> Self {
        Self { most, cache: Mutex::default() }
    }

    fn lock(&self) -> MutexGuard<'_, Cache> {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The cache, with the part at a place in it. It is read while others use the cache: a disk may take its time.
    fn loaded(&self, view: &dyn ReadAt, at: u64, len: u64) -> Result<MutexGuard<'_, Cache>> {
        let mut cache = self.lock();
        while !cache.parts.contains_key(&at) {
            let written = cache.written;
            drop(cache);
            let mut bytes = vec![0; index(len)];
            let read = view.read_at(&mut bytes, at);
            cache = self.lock();
            // What was written to its place, or became something else, while it was read is read again.
            if cache.written == written {
                read?;
                cache.insert(self.most, at, bytes);
            }
        }
        Ok(cache)
    }

    /// Calls `look` with the part of this length at a place; it is read if it is not there.
    pub(super) fn with<R>(&self, view: &dyn ReadAt, at: u64, len: u64, look: impl FnOnce(&[u8]) -> R) -> Result<R> {
        let cache = self.loaded(view, at, len)?;
        Ok(look(cache.parts.get(&at).map_or(&[], |part| &part.bytes)))
    }

    /// As [`Parts::with`], for a change that the next commit must carry.
    pub(super) fn change(&self, view: &dyn ReadAt, at: u64, len: u64, act: impl FnOnce(&mut [u8])) -> Result<()> {
        let mut cache = self.loaded(view, at, len)?;
        if let Some(part) = cache.parts.get_mut(&at) {
            act(Arc::<Vec<u8>>::make_mut(&mut part.bytes).as_mut_slice());
            cache.mark(at, |part| part.changed = true);
        }
        Ok(())
    }

    /// What stands at a place from now on; the next commit must carry it.
    pub(super) fn put(&self, at: u64, bytes: Vec<u8>) {
        let mut cache = self.lock();
        cache.remove(at);
        cache.written = cache.written.wrapping_add(1);
        cache.insert(self.most, at, bytes);
        cache.mark(at, |part| part.changed = true);
    }

    /// The place is used for something else from now on.
    pub(super) fn forget(&self, at: u64) {
        let mut cache = self.lock();
        cache.written = cache.written.wrapping_add(1);
        cache.remove(at);
    }

    /// Bytes of the parts that wait for a commit, or are in one.
    pub(super) fn held(&self) -> usize {
        self.lock().held
    }

    /// Whether the part at a place is in memory.
    pub(super) fn is_kept(&self, at: u64) -> bool {
        self.lock().parts.contains_key(&at)
    }

    /// The first place from `at` on whose part is not, or may not be, what the file holds there.
    pub(super) fn first_held(&self, at: u64) -> Option<u64> {
        let cache = self.lock();
        cache.parts.iter().filter(|(place, part)| **place >= at && part.is_held()).map(|(place, _)| *place).min()
    }

    /// A commit takes what changed, in the order of the file.
    pub(super) fn take(&self) -> Vec<Taken> {
        let mut cache = self.lock();
        let changed = cache.parts.iter().filter(|(_, part)| part.changed);
        let mut taken: Vec<_> = changed.map(|(at, part)| (*at, part.bytes.clone())).collect();
        taken.sort_unstable_by_key(|(at, _)| *at);
        for (at, _) in &taken {
            cache.mark(*at, |part| (part.changed, part.leaving) = (false, true));
        }
        taken
    }

    /// What was taken is in its place.
    pub(super) fn settle(&self, taken: &[Taken]) {
        let mut cache = self.lock();
        cache.written = cache.written.wrapping_add(1);
        taken.iter().for_each(|(at, _)| cache.mark(*at, |part| part.leaving = false));
    }

    /// What was taken was not written: it is for the next commit.
    pub(super) fn take_back(&self, taken: &[Taken]) {
        let mut cache = self.lock();
        for (at, _) in taken {
            cache.mark(*at, |part| (part.changed, part.leaving) = (true, false));
        }
    }
}

impl Cache {
    /// One more part, if it is not there.
    fn insert(&mut self, most: usize, at: u64, bytes: Vec<u8>) {
        if self.parts.contains_key(&at) {
            return;
        }
        self.make_room(most, bytes.len());
        self.kept = self.kept.saturating_add(bytes.len());
        self.parts.insert(at, Part { bytes: Arc::new(bytes), changed: false, leaving: false, turn: None });
        self.mark(at, |_| {});
    }

    /// Changes the marks of a part, and puts it among those that may go, or takes it from them.
    fn mark(&mut self, at: u64, act: impl FnOnce(&mut Part)) {
        let Some(part) = self.parts.get_mut(&at) else { return };
        let (was_held, len) = (part.is_held(), part.bytes.len());
        act(part);
        match (was_held, part.is_held()) {
            (false, true) => self.held = self.held.saturating_add(len),
            (true, false) => self.held = self.held.saturating_sub(len),
            _ => {}
        }
        if part.is_held() {
            if let Some(turn) = part.turn.take() {
                self.order.remove(&turn);
            }
        } else if part.turn.is_none() {
            self.turns = self.turns.saturating_add(1);
            part.turn = Some(self.turns);
            self.order.insert(self.turns, at);
        }
    }

    fn make_room(&mut self, most: usize, len: usize) {
        while self.kept.saturating_add(len) > most {
            let Some((_, oldest)) = self.order.pop_first() else { break };
            self.remove(oldest);
        }
    }

    fn remove(&mut self, at: u64) {
        let Some(part) = self.parts.remove(&at) else { return };
        self.kept = self.kept.saturating_sub(part.bytes.len());
        if part.is_held() {
            self.held = self.held.saturating_sub(part.bytes.len());
        }
        if let Some(turn) = part.turn {
            self.order.remove(&turn);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;
    use std::sync::atomic::{AtomicBool, Ordering};

    use super::*;
    use crate::storage::{MemoryStorage, Storage};

    const LEN: u64 = 16;

    /// A disk that is slow once: while it reads, somebody else changes what is read, and a commit takes that away.
    struct Slow<'a> {
        storage: MemoryStorage,
        parts: &'a Parts,
        change: fn(&Parts, &MemoryStorage),
        is_over: AtomicBool,
    }

    impl ReadAt for Slow<'_> {
        fn path(&self) -> &Path {
            self.storage.path()
        }
        fn len(&self) -> Result<u64> {
            self.storage.len()
        }
        fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
            self.storage.read_at(buffer, offset)?;
            if !self.is_over.swap(true, Ordering::Relaxed) {
                (self.change)(self.parts, &self.storage);
            }
            Ok(())
        }
    }

    #[test]
    fn what_changed_while_it_was_read_is_read_again() {
        let changed = |parts: &Parts, storage: &MemoryStorage| {
            parts.change(storage, 0, LEN, |bytes| bytes.fill(2)).unwrap();
            let taken = parts.take();
            storage.write_at(&taken[0].1, 0).unwrap();
            parts.settle(&taken);
            // Another part takes its room.
            parts.with(storage, LEN, LEN, |_| ()).unwrap();
            assert!(!parts.is_kept(0));
        };
        let replaced = |parts: &Parts, storage: &MemoryStorage| {
            parts.forget(0);
            storage.write_at(&[2; LEN as usize], 0).unwrap();
        };
        for change in [changed as fn(&Parts, &MemoryStorage), replaced] {
            let parts = Parts::new(LEN as usize);
            let storage = MemoryStorage::new();
            storage.write_at(&[1; 2 * LEN as usize], 0).unwrap();
            let slow = Slow { storage, parts: &parts, change, is_over: AtomicBool::new(false) };
            assert_eq!(parts.with(&slow, 0, LEN, <[u8]>::to_vec).unwrap(), [2; LEN as usize]);
        }
    }
}
