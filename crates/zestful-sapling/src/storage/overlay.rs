//! A file as it would be after changes that are kept in memory.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{ReadAt, Storage};
use crate::bytes::{Step, in_units, index, wide};
use crate::error::{Error, Refusal, Result};

const PAGE: u64 = 4096;
/// What is compared at the end is compared in units of this.
const GRAIN: usize = 512;
/// Changed pages that are kept in memory: 8 MiB.
const MOST_PAGES: usize = 2048;

/// Storage over another one, of which nothing is ever written: every change stays in memory, and can be told at the
/// end. It may grow, and never becomes shorter than what it stands over.
pub(crate) struct Overlay {
    inner: Arc<dyn ReadAt>,
    /// Of the inner storage.
    inner_len: u64,
    path: PathBuf,
    changed: Mutex<Changed>,
}

struct Changed {
    len: u64,
    pages: BTreeMap<u64, Box<[u8]>>,
    /// Whole pages that read as zero unless one of `pages` is there: start to end, never touching each other.
    zeros: BTreeMap<u64, u64>,
}

/// A range of the file that is another one than before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Edit {
    pub(crate) offset: u64,
    pub(crate) new: NewBytes,
}

/// What stands in such a range.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum NewBytes {
    Bytes(Vec<u8>),
    /// So many zeros.
    Zeros(u64),
}

impl Edit {
    pub(crate) fn len(&self) -> u64 {
        match &self.new {
            NewBytes::Bytes(bytes) => wide(bytes.len()),
            NewBytes::Zeros(len) => *len,
        }
    }
}

impl Overlay {
    /// The storage as it is, so far.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn new(inner: Arc<dyn ReadAt>) -> Result<Self> {
        let (len, path) = (inner.len()?, inner.path().to_owned());
        let changed = Changed { len, pages: BTreeMap::new(), zeros: BTreeMap::new() };
        Ok(Self { inner, inner_len: len, path, changed: Mutex::new(changed) })
    }

    fn lock(&self) -> MutexGuard<'_, Changed> {
        self.changed.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// More would change than is kept in memory.
    pub(crate) fn too_much(&self) -> Error {
        Error::refused(
            Refusal::TooMuchToMend { path: self.path.clone() },
            format!(
                "mending {} would change more than is kept in memory meanwhile, {} MiB",
                self.path.display(),
                wide(MOST_PAGES).saturating_mul(PAGE) >> 20
            ),
            "so much damage is not mended in place: save what can be read into a new image",
        )
    }

    /// The changes, in the order of the file, none of them behind its new end; what the old length alone accounts for
    /// is left out.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn edits(&self) -> Result<Vec<Edit>> {
        let changed = self.lock();
        let mut edits: Vec<Edit> = Vec::new();
        let (mut before, mut zero) = (vec![0; index(PAGE)], changed.zeros.iter().peekable());
        let mut pages = changed.pages.iter().peekable();
        let end = changed.len;
        loop {
            let page = pages.peek().map(|(page, _)| page.saturating_mul(PAGE));
            let hole = zero.peek().map(|(start, _)| **start);
            if let Some(at) = page.filter(|at| hole.is_none_or(|hole| *at < hole)) {
                if let Some((_, bytes)) = pages.next().filter(|_| at < end) {
                    let len = index(PAGE.min(end.saturating_sub(at)));
                    self.inner_at(&mut before[..len], at)?;
                    differing(&before[..len], &bytes[..len], at, &mut edits);
                }
            } else if let Some((start, stop)) = zero.next() {
                // Behind the old end there is nothing but zeros.
                let stop = (*stop).min(end).min(self.inner_len);
                let mut at = *start;
                while at < stop {
                    let page = changed.pages.range(at / PAGE..).next().map_or(u64::MAX, |(page, _)| *page);
                    let upto = stop.min(page.saturating_mul(PAGE));
                    if at < upto {
                        edits.push(Edit { offset: at, new: NewBytes::Zeros(upto.saturating_sub(at)) });
                    }
                    at = upto.max(at).saturating_add(if upto < stop { PAGE } else { 0 });
                }
            } else {
                break;
            }
        }
        edits.sort_by_key(|edit| edit.offset);
        Ok(edits)
    }

    /// What the inner storage holds, zeros behind its end.
    fn inner_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let there = index(self.inner_len.saturating_sub(offset).min(wide(buffer.len())));
        let (first, rest) = buffer.split_at_mut(there);
        if !first.is_empty() {
            self.inner.read_at(first, offset)?;
        }
        rest.fill(0);
        Ok(())
    }

    fn read_locked(&self, changed: &Changed, buffer: &mut [u8], offset: u64) -> Result<()> {
        let end = offset.saturating_add(wide(buffer.len()));
        self.inner_at(buffer, offset)?;
        let before = changed.zeros.range(..offset).next_back();
        for (start, stop) in before.into_iter().chain(changed.zeros.range(offset..end)) {
            let (from, to) = ((*start).max(offset), (*stop).min(end));
            if from < to {
                buffer[index(from.saturating_sub(offset))..index(to.saturating_sub(offset))].fill(0);
            }
        }
        for (page, bytes) in changed.pages.range(offset / PAGE..end.div_ceil(PAGE)) {
            let at = page.saturating_mul(PAGE);
            let (from, to) = (at.max(offset), at.saturating_add(PAGE).min(end));
            buffer[index(from.saturating_sub(offset))..index(to.saturating_sub(offset))]
                .copy_from_slice(&bytes[index(from.saturating_sub(at))..index(to.saturating_sub(at))]);
        }
        Ok(())
    }

    fn put(&self, changed: &mut Changed, step: Step, bytes: &[u8]) -> Result<()> {
        if !changed.pages.contains_key(&step.unit) {
            if changed.pages.len() >= MOST_PAGES {
                return Err(self.too_much());
            }
            let mut page = vec![0; index(PAGE)];
            self.read_locked(changed, &mut page, step.unit.saturating_mul(PAGE))?;
            changed.pages.insert(step.unit, page.into_boxed_slice());
        }
        if let Some(page) = changed.pages.get_mut(&step.unit) {
            page[index(step.within)..][..bytes.len()].copy_from_slice(bytes);
        }
        Ok(())
    }
}

/// Adds the runs of sectors that differ.
fn differing(before: &[u8], after: &[u8], at: u64, edits: &mut Vec<Edit>) {
    for (number, (old, new)) in before.chunks(GRAIN).zip(after.chunks(GRAIN)).enumerate() {
        if old == new {
            continue;
        }
        let offset = at.saturating_add(wide(number.saturating_mul(GRAIN)));
        match edits.last_mut() {
            Some(Edit { offset: start, new: NewBytes::Bytes(bytes) })
                if start.saturating_add(wide(bytes.len())) == offset && bytes.len() < 1 << 20 =>
            {
                bytes.extend_from_slice(new);
            }
            _ => edits.push(Edit { offset, new: NewBytes::Bytes(new.to_vec()) }),
        }
    }
}

impl ReadAt for Overlay {
    fn path(&self) -> &Path {
        &self.path
    }

    fn len(&self) -> Result<u64> {
        Ok(self.lock().len)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let changed = self.lock();
        if offset.checked_add(wide(buffer.len())).is_none_or(|end| end > changed.len) {
            let action = format!("read {} bytes at byte {offset} of", buffer.len());
            return Err(Error::io(action, &self.path, std::io::ErrorKind::UnexpectedEof.into()));
        }
        self.read_locked(&changed, buffer, offset)
    }

    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        let changed = self.lock();
        if offset >= changed.len {
            return Ok(None);
        }
        let in_file = self.inner.next_data(offset)?;
        let page = changed.pages.range(offset / PAGE..).next().map(|(page, _)| page.saturating_mul(PAGE));
        let in_memory = page.filter(|at| *at < changed.len).map(|at| at.max(offset)..at.saturating_add(PAGE));
        let found = match (in_file, in_memory) {
            (Some(file), Some(memory)) if memory.start < file.start => Some(memory),
            (Some(file), _) => Some(file),
            (None, memory) => memory,
        };
        Ok(found.map(|data| data.start..data.end.min(changed.len)))
    }

    fn allocated(&self) -> Result<u64> {
        self.inner.allocated()
    }

    fn stands_at(&self, path: &Path) -> Result<bool> {
        self.inner.stands_at(path)
    }
}

impl Storage for Overlay {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        let mut changed = self.lock();
        for step in in_units(offset, wide(bytes.len()), PAGE) {
            let part = &bytes[index(step.done)..][..index(step.len)];
            self.put(&mut changed, step, part)?;
        }
        changed.len = changed.len.max(offset.saturating_add(wide(bytes.len())));
        Ok(())
    }

    fn set_len(&self, len: u64) -> Result<()> {
        let mut changed = self.lock();
        if len < self.inner_len {
            return Err(Error::usage(
                format!("{} would lose its end at byte {len}", self.path.display()),
                "report this, it should not happen",
            ));
        }
        if len < changed.len {
            changed.pages.split_off(&len.div_ceil(PAGE));
            if let Some(last) = changed.pages.get_mut(&(len / PAGE)) {
                last[index(len % PAGE)..].fill(0);
            }
        }
        changed.len = len;
        Ok(())
    }

    fn sync(&self) -> Result<()> {
        Ok(())
    }

    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        let mut changed = self.lock();
        let end = offset.saturating_add(len).min(changed.len);
        let (first, last) = (offset.div_ceil(PAGE).saturating_mul(PAGE), (end / PAGE).saturating_mul(PAGE));
        let edges = if first < last { [(offset, first), (last, end)] } else { [(offset, end), (end, end)] };
        for (from, to) in edges {
            for step in in_units(from, to.saturating_sub(from), PAGE) {
                self.put(&mut changed, step, &vec![0; index(step.len)])?;
            }
        }
        if first < last {
            let gone: Vec<u64> = changed.pages.range(first / PAGE..last / PAGE).map(|(page, _)| *page).collect();
            gone.iter().for_each(|page| _ = changed.pages.remove(page));
            let (mut start, mut stop) = (first, last);
            let meets: Vec<(u64, u64)> = changed
                .zeros
                .range(..=last)
                .rev()
                .take_while(|(_, end)| **end >= first)
                .map(|(start, end)| (*start, *end))
                .collect();
            for (from, to) in meets {
                changed.zeros.remove(&from);
                (start, stop) = (start.min(from), stop.max(to));
            }
            changed.zeros.insert(start, stop);
        }
        Ok(())
    }

    fn write_zeros(&self, offset: u64, len: u64) -> Result<()> {
        self.punch_hole(offset, len)
    }
}
