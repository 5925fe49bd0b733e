//! A disk, or a part of it, as those see it who look at its structures.

use crate::bytes::index;
use crate::chain::{Disk, SharedDisk};
use crate::error::Result;

/// A disk, or a volume on it. Places count from its beginning.
#[derive(Clone, Copy)]
pub(super) struct View<'a> {
    /// Its length in bytes.
    pub(super) size: u64,
    /// The disk's logical sector size in bytes.
    pub(super) sector: u64,
    start: u64,
    read: &'a dyn Fn(&mut [u8], u64) -> Result<()>,
}

impl<'a> View<'a> {
    /// All of a disk, read by `read`.
    pub(super) fn new(size: u64, sector: u32, read: &'a dyn Fn(&mut [u8], u64) -> Result<()>) -> Self {
        Self { size, sector: u64::from(sector), start: 0, read }
    }

    /// A part of it, cut at its end.
    pub(super) fn part(&self, start: u64, len: u64) -> Self {
        let size = len.min(self.size.saturating_sub(start));
        Self { size, start: self.start.saturating_add(start), ..*self }
    }

    /// So many bytes from a place on; `None` when they do not all lie inside.
    pub(super) fn bytes(&self, at: u64, len: u64) -> Result<Option<Vec<u8>>> {
        if at.checked_add(len).is_none_or(|end| end > self.size) {
            return Ok(None);
        }
        let mut bytes = vec![0; index(len)];
        (self.read)(&mut bytes, self.start.saturating_add(at))?;
        Ok(Some(bytes))
    }

    /// As many bytes from the beginning on as there are, at most `len`.
    pub(super) fn beginning(&self, len: u64) -> Result<Vec<u8>> {
        self.bytes(0, len.min(self.size)).map(Option::unwrap_or_default)
    }

    pub(super) fn sector_at(&self, number: u64) -> Result<Option<Vec<u8>>> {
        number.checked_mul(self.sector).map_or(Ok(None), |at| self.bytes(at, self.sector))
    }
}

/// Lets `look` see a disk.
pub(super) fn of_disk<T>(disk: &dyn Disk, look: impl FnOnce(&View<'_>) -> Result<T>) -> Result<T> {
    let read = |buffer: &mut [u8], at: u64| disk.read_at(buffer, at);
    look(&View::new(disk.virtual_size(), disk.info().logical_sector, &read))
}

/// Lets `look` see a disk that several use at once.
pub(super) fn of_shared<T>(disk: &SharedDisk, look: impl FnOnce(&View<'_>) -> Result<T>) -> Result<T> {
    let read = |buffer: &mut [u8], at: u64| disk.read_at(buffer, at);
    look(&View::new(disk.virtual_size(), disk.info().logical_sector, &read))
}
