//! A disk, or a part of it, as a stream: for crates that want to read, write and seek.

use std::io::{self, Read, Seek, SeekFrom, Write};

use super::{ChainMut, Disk};
use crate::bytes::{sought, wide};

/// A part of a disk, and a place in it.
#[derive(Debug)]
struct Cursor {
    start: u64,
    len: u64,
    position: u64,
}

impl Cursor {
    /// The part from `start` on, cut at the end of the disk.
    fn new(disk: &(impl Disk + ?Sized), start: u64, len: u64) -> Self {
        Self { start, len: len.min(disk.virtual_size().saturating_sub(start)), position: 0 }
    }

    /// The byte of the disk, and how many of so many bytes there are behind it.
    fn next(&self, wanted: usize) -> (u64, usize) {
        let left = self.len.saturating_sub(self.position);
        (self.start.saturating_add(self.position), usize::try_from(left).map_or(wanted, |left| left.min(wanted)))
    }

    fn advance(&mut self, len: usize) {
        self.position = self.position.saturating_add(wide(len));
    }

    fn read(&mut self, disk: &(impl Disk + ?Sized), buffer: &mut [u8]) -> io::Result<usize> {
        let (at, len) = self.next(buffer.len());
        disk.read_at(&mut buffer[..len], at).map_err(io::Error::other)?;
        self.advance(len);
        Ok(len)
    }

    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.position = sought(to, self.position, self.len)?;
        Ok(self.position)
    }
}

/// A part of a disk that reads and seeks like a file, and cannot be written to.
///
/// ```
/// use std::io::{Read, Seek, SeekFrom};
/// use zestful_sapling::chain::{Chain, DiskWindow, OpenOptions};
/// use zestful_sapling::ops::{Make, Operation, Planned};
/// use zestful_sapling::progress::Progress;
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let folder = tempfile::tempdir()?;
/// let path = folder.path().join("fen-base.vhdx");
/// Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
/// let disk = Chain::open(&path, &OpenOptions::new())?;
/// // A partition that begins at 1 MiB and has 16 MiB.
/// let mut partition = DiskWindow::new(&disk, 1 << 20, 16 << 20);
/// assert_eq!(partition.seek(SeekFrom::End(0))?, 16 << 20);
/// partition.seek(SeekFrom::Start(0))?;
/// let mut sector = [1; 512];
/// partition.read_exact(&mut sector)?;
/// assert_eq!(sector, [0; 512]);
/// # Ok(())
/// # }
/// ```
pub struct DiskWindow<'a, D: ?Sized> {
    disk: &'a D,
    cursor: Cursor,
}

impl<'a, D: Disk + ?Sized> DiskWindow<'a, D> {
    /// `len` bytes from `start` on, such as a partition; cut at the end of the disk.
    pub fn new(disk: &'a D, start: u64, len: u64) -> Self {
        Self { disk, cursor: Cursor::new(disk, start, len) }
    }
}

/// A disk, or a part of it, that reads, writes and seeks like a file.
pub struct DiskStream<'a, D: ?Sized> {
    disk: &'a mut D,
    cursor: Cursor,
}

impl<'a, D: Disk + ?Sized> DiskStream<'a, D> {
    /// The whole disk.
    pub fn new(disk: &'a mut D) -> Self {
        Self::window(disk, 0, u64::MAX)
    }

    /// `len` bytes from `start` on, such as a partition; cut at the end of the disk.
    pub fn window(disk: &'a mut D, start: u64, len: u64) -> Self {
        let cursor = Cursor::new(disk, start, len);
        Self { disk, cursor }
    }
}

impl<D: ?Sized> std::fmt::Debug for DiskWindow<'_, D> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("DiskWindow").field("cursor", &self.cursor).finish_non_exhaustive()
    }
}

impl<D: ?Sized> std::fmt::Debug for DiskStream<'_, D> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("DiskStream").field("cursor", &self.cursor).finish_non_exhaustive()
    }
}

impl<D: Disk + ?Sized> Read for DiskWindow<'_, D> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.cursor.read(self.disk, buffer)
    }
}

impl<D: Disk + ?Sized> Read for DiskStream<'_, D> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.cursor.read(self.disk, buffer)
    }
}

impl Write for DiskStream<'_, ChainMut> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let (at, len) = self.cursor.next(bytes.len());
        self.disk.write_at(&bytes[..len], at).map_err(io::Error::other)?;
        self.cursor.advance(len);
        Ok(len)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.disk.flush().map_err(io::Error::other)
    }
}

impl<D: Disk + ?Sized> Seek for DiskWindow<'_, D> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.cursor.seek(to)
    }
}

impl<D: Disk + ?Sized> Seek for DiskStream<'_, D> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.cursor.seek(to)
    }
}
