//! Sparse storage in memory, for tests and small work; a copy shares its pages until one side writes.

use std::collections::BTreeMap;
use std::io;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{ReadAt, Storage};
use crate::error::{Error, Result};

const PAGE: u64 = 4096;

#[derive(Clone, Debug, Default)]
struct Sparse {
    len: u64,
    pages: BTreeMap<u64, Arc<[u8; PAGE as usize]>>,
}

/// Storage in memory that takes space only for what was written.
///
/// ```
/// use zestful_sapling::storage::{MemoryStorage, ReadAt, Storage};
/// let storage = MemoryStorage::new();
/// storage.set_len(1 << 40).unwrap();
/// storage.write_at(b"seed", 1 << 30).unwrap();
/// assert_eq!(storage.allocated().unwrap(), 4096);
/// ```
#[derive(Debug)]
pub struct MemoryStorage {
    path: PathBuf,
    inner: Mutex<Sparse>,
}

impl Default for MemoryStorage {
    fn default() -> Self {
        Self::new()
    }
}

impl Clone for MemoryStorage {
    fn clone(&self) -> Self {
        Self { path: self.path.clone(), inner: Mutex::new(self.lock().clone()) }
    }
}

impl MemoryStorage {
    /// Empty storage.
    pub fn new() -> Self {
        Self { path: PathBuf::from("(memory)"), inner: Mutex::default() }
    }

    /// The same under another name.
    pub fn named(mut self, path: impl Into<PathBuf>) -> Self {
        self.path = path.into();
        self
    }

    /// Storage that holds `bytes`.
    ///
    /// # Errors
    /// None in practice; the signature is that of every storage.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self> {
        let storage = Self::new();
        storage.write_at(bytes, 0)?;
        Ok(storage)
    }

    /// Takes on the content and the length of another.
    #[cfg(feature = "testing")]
    pub(super) fn become_like(&self, other: &Self) {
        let other = other.lock().clone();
        *self.lock() = other;
    }

    fn lock(&self) -> MutexGuard<'_, Sparse> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Each page that the range touches: its number, the range inside it, and the range of the buffer.
fn pieces(offset: u64, len: usize) -> impl Iterator<Item = (u64, Range<usize>, Range<usize>)> {
    let mut done = 0;
    std::iter::from_fn(move || {
        let at = offset + done as u64;
        let within = (at % PAGE) as usize;
        let step = (len - done).min(PAGE as usize - within);
        let piece = (step > 0).then(|| (at / PAGE, within..within + step, done..done + step));
        done += step;
        piece
    })
}

impl ReadAt for MemoryStorage {
    fn path(&self) -> &Path {
        &self.path
    }

    fn len(&self) -> Result<u64> {
        Ok(self.lock().len)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let inner = self.lock();
        if offset.checked_add(buffer.len() as u64).is_none_or(|end| end > inner.len) {
            let action = format!("read {} bytes at byte {offset} of", buffer.len());
            return Err(Error::io(action, &self.path, io::ErrorKind::UnexpectedEof.into()));
        }
        for (page, within, target) in pieces(offset, buffer.len()) {
            match inner.pages.get(&page) {
                Some(bytes) => buffer[target].copy_from_slice(&bytes[within]),
                None => buffer[target].fill(0),
            }
        }
        Ok(())
    }

    fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool> {
        self.read_at(buffer, offset).map(|()| true)
    }

    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        let inner = self.lock();
        let mut pages = inner.pages.range(offset / PAGE..).map(|(page, _)| *page);
        let Some(first) = pages.next().filter(|page| page * PAGE < inner.len && offset < inner.len) else {
            return Ok(None);
        };
        let mut end = first + 1;
        for page in pages {
            if page != end {
                break;
            }
            end += 1;
        }
        Ok(Some(offset.max(first * PAGE)..inner.len.min(end * PAGE)))
    }

    fn allocated(&self) -> Result<u64> {
        Ok(self.lock().pages.len() as u64 * PAGE)
    }
}

impl Storage for MemoryStorage {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        let mut inner = self.lock();
        for (page, within, source) in pieces(offset, bytes.len()) {
            let stored = inner.pages.entry(page).or_insert_with(|| Arc::new([0; PAGE as usize]));
            Arc::make_mut(stored)[within].copy_from_slice(&bytes[source]);
        }
        inner.len = inner.len.max(offset + bytes.len() as u64);
        Ok(())
    }

    fn set_len(&self, len: u64) -> Result<()> {
        let mut inner = self.lock();
        if len < inner.len {
            inner.pages.split_off(&len.div_ceil(PAGE));
            if let Some(last) = inner.pages.get_mut(&(len / PAGE)) {
                Arc::make_mut(last)[(len % PAGE) as usize..].fill(0);
            }
        }
        inner.len = len;
        Ok(())
    }

    fn sync(&self) -> Result<()> {
        Ok(())
    }

    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        let mut inner = self.lock();
        let end = offset.saturating_add(len).min(inner.len);
        if end <= offset {
            return Ok(());
        }
        let pages: Vec<u64> = inner.pages.range(offset / PAGE..end.div_ceil(PAGE)).map(|(page, _)| *page).collect();
        for page in pages {
            let from = offset.saturating_sub(page * PAGE).min(PAGE) as usize;
            let to = (end - page * PAGE).min(PAGE) as usize;
            if from == 0 && to == PAGE as usize {
                inner.pages.remove(&page);
            } else if let Some(bytes) = inner.pages.get_mut(&page) {
                Arc::make_mut(bytes)[from..to].fill(0);
            }
        }
        Ok(())
    }
}
