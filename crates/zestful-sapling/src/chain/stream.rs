//! A disk, or a part of it, as a stream: for crates that want to read, write and seek.

use std::io::{self, Read, Seek, SeekFrom, Write};

use super::{ChainMut, Disk};
use crate::bytes::wide;

/// A window on a disk that reads, writes and seeks like a file.
pub struct DiskStream<'a, D: ?Sized> {
    disk: &'a mut D,
    start: u64,
    len: u64,
    position: u64,
}

impl<'a, D: Disk + ?Sized> DiskStream<'a, D> {
    /// The whole disk.
    pub fn new(disk: &'a mut D) -> Self {
        let len = disk.virtual_size();
        Self { disk, start: 0, len, position: 0 }
    }

    /// `len` bytes from `start` on, such as a partition; cut at the end of the disk.
    pub fn window(disk: &'a mut D, start: u64, len: u64) -> Self {
        let room = disk.virtual_size().saturating_sub(start);
        Self { disk, start, len: len.min(room), position: 0 }
    }

    fn room(&self, wanted: usize) -> usize {
        usize::try_from(self.len.saturating_sub(self.position)).map_or(wanted, |left| left.min(wanted))
    }
}

impl<D: Disk + ?Sized> std::fmt::Debug for DiskStream<'_, D> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("DiskStream").field("start", &self.start).field("len", &self.len).finish_non_exhaustive()
    }
}

impl<D: Disk + ?Sized> Read for DiskStream<'_, D> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self.room(buffer.len());
        self.disk.read_at(&mut buffer[..len], self.start.saturating_add(self.position)).map_err(io::Error::other)?;
        self.position = self.position.saturating_add(wide(len));
        Ok(len)
    }
}

impl Write for DiskStream<'_, ChainMut> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let len = self.room(bytes.len());
        self.disk.write_at(&bytes[..len], self.start.saturating_add(self.position)).map_err(io::Error::other)?;
        self.position = self.position.saturating_add(wide(len));
        Ok(len)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.disk.flush().map_err(io::Error::other)
    }
}

impl<D: Disk + ?Sized> Seek for DiskStream<'_, D> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let target = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.len.checked_add_signed(by),
            SeekFrom::Current(by) => self.position.checked_add_signed(by),
        };
        self.position = target.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.position)
    }
}
