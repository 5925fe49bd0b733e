//! A disk that many use at once, and whose chain may change under them.

use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard, TryLockError};

use super::disk::{Disk, DiskExtent, DiskStatus};
use super::gate::Gate;
use super::write::ChainMut;
use crate::error::Result;
use crate::image::{Image, ImageInfo, ImageMut, Source, Space, open_image};
use crate::storage::{Access, FileStorage, ReadAt, Storage, swapped};

/// A disk that any number of threads read and write at the same time, while its current image may be frozen and another
/// one take its place.
///
/// What [`ImageMut`] promises of requests at the same time holds. A change of the chain itself happens between two
/// requests: it waits for those that are under way, and those that come meanwhile wait for it.
///
/// ```
/// use zestful_sapling::chain::{ChainMut, OpenOptions, SharedDisk};
/// # use zestful_sapling::ops::{Make, Operation, Planned};
/// # use zestful_sapling::progress::Progress;
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let folder = tempfile::tempdir()?;
/// # let path = folder.path().join("germination-01.vhdx");
/// # Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
/// let disk = SharedDisk::new(ChainMut::open(&path, &OpenOptions::new())?);
/// std::thread::scope(|scope| {
///     for number in 0..4u8 {
///         let disk = &disk;
///         scope.spawn(move || disk.write_at(&[number; 4096], u64::from(number) << 20));
///     }
/// });
/// disk.flush()?;
/// let mut found = [0; 4096];
/// disk.read_at(&mut found, 3 << 20)?;
/// assert_eq!(found, [3; 4096]);
/// disk.close()?;
/// # Ok(())
/// # }
/// ```
pub struct SharedDisk {
    chain: RwLock<ChainMut>,
    gate: Gate,
}

impl SharedDisk {
    /// The disk of this chain.
    pub fn new(chain: ChainMut) -> Self {
        Self { chain: RwLock::new(chain), gate: Gate::default() }
    }

    fn chain(&self) -> RwLockReadGuard<'_, ChainMut> {
        self.gate.pass();
        self.chain.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn chain_mut(&self) -> RwLockWriteGuard<'_, ChainMut> {
        self.gate.pass();
        self.chain.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// The chain, if nobody has to be waited for.
    fn at_once(&self) -> Option<RwLockReadGuard<'_, ChainMut>> {
        self.chain.try_read().ok().filter(|_| self.gate.is_open())
    }

    /// The chain for who has it alone this moment, if nobody has it; those who have passed the gate come first.
    pub(super) fn try_chain_mut(&self) -> Option<RwLockWriteGuard<'_, ChainMut>> {
        match self.chain.try_write() {
            Ok(chain) => Some(chain),
            Err(TryLockError::Poisoned(poisoned)) => Some(poisoned.into_inner()),
            Err(TryLockError::WouldBlock) => None,
        }
    }

    pub(super) fn gate(&self) -> &Gate {
        &self.gate
    }

    /// Whether the current image is the file that stands at `path`.
    pub(crate) fn stands_at(&self, path: &Path) -> bool {
        self.chain().stands_at(path)
    }

    /// Others may read the image that was frozen last, which stands at `path` by now. Requests go on.
    pub(crate) fn let_others_read_below(&self, path: &Path) -> Result<()> {
        let (frozen, format) = (self.chain().frozen(), self.chain().info().format);
        let Some(frozen) = frozen else { return Ok(()) };
        if !frozen.stands_at(path)? {
            return Err(swapped(path));
        }
        frozen.let_others_read()?;
        // Known by its new place from now on, and no longer open for writing.
        let image = open_image(Arc::new(FileStorage::open(path, Access::Read)?), Some(format))?;
        self.chain_mut().read_frozen_as(image);
        Ok(())
    }

    /// The size that a guest sees, in bytes.
    pub fn virtual_size(&self) -> u64 {
        self.chain().virtual_size()
    }

    /// What the current image says of itself now.
    pub fn info(&self) -> ImageInfo {
        self.chain().info().clone()
    }

    /// How many layers the disk has.
    pub fn layers(&self) -> usize {
        self.chain().parents().len().saturating_add(1)
    }

    /// Reads any range of bytes.
    ///
    /// # Errors
    /// As [`Disk::read_at`].
    pub fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        self.chain().read_at(buffer, offset)
    }

    /// Where the bytes from `offset` on come from now; at least one byte, at most `len`. What stands at that place may
    /// be something else as soon as this returns.
    ///
    /// # Errors
    /// As [`Disk::extent_at`].
    pub fn extent_at(&self, offset: u64, len: u64) -> Result<DiskExtent> {
        self.chain().extent_at(offset, len)
    }

    /// What the bytes from `offset` on are now; at least one, at most `len`.
    ///
    /// # Errors
    /// As [`Disk::status_at`].
    pub fn status_at(&self, offset: u64, len: u64) -> Result<DiskStatus> {
        self.chain().status_at(offset, len)
    }

    /// Reads any range of bytes if nothing has to be waited for; `false` when something would have to be, and then the
    /// buffer may hold anything.
    ///
    /// # Errors
    /// As [`Disk::read_at`].
    pub fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool> {
        self.at_once().map_or(Ok(false), |chain| chain.read_at_once(buffer, offset))
    }

    /// Writes any range of bytes.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.chain().write_at(bytes, offset)
    }

    /// Writes whole sectors if nothing has to be waited for; `false` when something would have to be, and then nothing
    /// was written.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn write_at_once(&self, bytes: &[u8], offset: u64) -> Result<bool> {
        self.at_once().map_or(Ok(false), |chain| chain.write_at_once(bytes, offset))
    }

    /// Whether zeroing is quicker than writing.
    pub fn zeroes_quickly(&self) -> bool {
        self.chain().zeroes_quickly()
    }

    /// Gives back what the current image holds of a range, as [`ChainMut::discard_at`] does.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn discard_at(&self, offset: u64, len: u64) -> Result<()> {
        self.chain().discard_at(offset, len)
    }

    /// Makes any range of bytes read as zero, taking no space for it where the format allows.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn zero_at(&self, offset: u64, len: u64) -> Result<()> {
        self.chain().zero_at(offset, len)
    }

    /// Calls `act` with each part of a range that the current image holds itself, in order; nobody may write meanwhile.
    pub(crate) fn for_each_own(&self, range: Range<u64>, act: &mut dyn FnMut(Range<u64>) -> Result<()>) -> Result<()> {
        let (mut at, end) = (range.start, range.end);
        while at < end {
            let own = {
                let chain = self.chain();
                let Some(own) = chain.layer(0) else { return Ok(()) };
                own.extent_at(at, end.saturating_sub(at))?
            };
            let next = at.saturating_add(own.len);
            if own.source != Source::Parent {
                act(at..next)?;
            }
            at = next;
        }
        Ok(())
    }

    /// Makes the disk larger, between two requests, as [`ChainMut::grow`] does.
    ///
    /// # Errors
    /// As [`ChainMut::grow`].
    pub fn grow(&self, size: u64, space: Space) -> Result<()> {
        self.flush()?;
        self.chain_mut().grow(size, space)
    }

    /// Returns when all that was written before is durable. Flushes that are asked for at the same time share one
    /// commit.
    ///
    /// # Errors
    /// As [`ImageMut::flush`].
    pub fn flush(&self) -> Result<()> {
        self.chain().flush()
    }

    /// Flushes, and leaves the image tidy: as one that nobody writes to. The next write begins anew.
    ///
    /// # Errors
    /// As [`ImageMut::settle`].
    pub fn settle(&self) -> Result<()> {
        // Most of the work is done while requests go on.
        self.flush()?;
        self.chain_mut().settle()
    }

    /// Flushes and closes. A disk dropped without it is valid, too.
    ///
    /// # Errors
    /// As [`ImageMut::close`].
    pub fn close(self) -> Result<()> {
        self.chain.into_inner().unwrap_or_else(PoisonError::into_inner).close()
    }

    /// Freezes the current image and goes on in the child that `grow` makes of it, as
    /// [`ChainMut::grow_child`] does.
    pub(crate) fn grow_child(&self, grow: impl FnOnce(&dyn Image) -> Result<Box<dyn ImageMut>>) -> Result<()> {
        // Most of the work is done while requests go on.
        self.flush()?;
        self.chain_mut().grow_child(grow)
    }
}
