//! A disk as the guest sees it: an image and all its parents.
//!
//! [`Chain`] reads; [`ChainMut`] writes to the current image, over parents that it holds as read-only types. There is
//! no call that writes to a parent through its child:
//!
//! ```compile_fail
//! # fn never(chain: &mut zestful_sapling::chain::ChainMut) {
//! chain.parents()[0].write_at(b"never", 0);
//! # }
//! ```

mod companion;
mod digests;
mod intent;
mod journal;
mod locate;
mod pair;
mod resolve;
mod resolved;
mod stream;
mod stretch;
mod walk;

use std::path::Path;
use std::sync::Arc;

use crate::error::{Error, Result};
use crate::finding::Finding;
use crate::image::{Format, Image, ImageInfo, ImageMut, Place, Source, is_single_file, open_image, open_place};
use crate::storage::{Access, FileStorage, Held};
use resolved::Resolved;

pub(crate) use companion::{
    ChildrenChange, NewChild, child_at, is_lone, lone_companions, modified, refuse_device, refuse_pinned, touched_since,
};
pub use companion::{Companion, Digest, ImageMark, KnownChild, Pin, PinnedRun};
pub(crate) use digests::{PIECE, changed_since, digest_pieces};
pub(crate) use intent::image_of_journal;
pub use intent::{Grandchild, Intent, Member, Work, journal_of};
pub use journal::intent_of;
pub(crate) use journal::{Journal, Mark, Stamp, clear_copies, read as read_journal, refuse_under_way, stamp_of};
pub(crate) use locate::{candidates, identity_of, record_of, records_absolute};
pub(crate) use pair::{Pair, Side};
pub(crate) use resolve::{judge_pair, open_parents, parent_of};
pub use stream::DiskStream;
pub(crate) use stretch::{Part, Stretch, data_len, for_each_part, for_each_stretch, split_by_holes};
pub(crate) use walk::{Origin, Walk};

/// More layers than any sound chain has.
pub const MAX_DEPTH: usize = 4096;

/// How to open a chain.
#[derive(Clone, Debug, Default)]
pub struct OpenOptions {
    format: Option<Format>,
    parent: Option<std::path::PathBuf>,
    look: bool,
    held: Option<Arc<Held>>,
}

impl OpenOptions {
    /// The format comes from signature and name, the parents from the recorded paths.
    pub fn new() -> Self {
        Self::default()
    }

    /// The format of the image itself (not of its parents), whatever its signature says.
    pub fn with_format(mut self, format: Option<Format>) -> Self {
        self.format = format;
        self
    }

    /// The image's parent is this file, wherever the image says it is. Its identity must match all the same.
    pub fn with_parent(mut self, parent: impl Into<std::path::PathBuf>) -> Self {
        self.parent = Some(parent.into());
        self
    }

    /// Take no locks: for a look at images that another process writes to.
    pub fn with_look(mut self, look: bool) -> Self {
        self.look = look;
        self
    }

    /// Files are opened through these, and what is not among them yet is kept there, locked for reading.
    pub(crate) fn with_held(mut self, held: &Arc<Held>) -> Self {
        self.held = Some(held.clone());
        self
    }

    pub(crate) fn format(&self) -> Option<Format> {
        self.format
    }

    /// Opens what stands at `path` for reading.
    fn open_place(&self, path: &Path) -> Result<Place> {
        if self.held.is_none() || !is_single_file(path) {
            return open_place(path, self.access());
        }
        let file = self.open_file(path)?;
        Ok(Place { identity: file.host_identity()?, storage: file, pieces: None })
    }

    /// Opens the regular file at `path` for reading.
    pub(crate) fn open_file(&self, path: &Path) -> Result<Arc<FileStorage>> {
        match &self.held {
            Some(held) => held.take(path, Access::Read),
            None => FileStorage::open(path, self.access()).map(Arc::new),
        }
    }

    fn access(&self) -> Access {
        if self.look { Access::Look } else { Access::Read }
    }
}

/// A range of a disk that comes from one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DiskExtent {
    /// Its length in bytes, never zero.
    pub len: u64,
    /// The layer (0 is the current image) and the byte in its file, or `None` for zeros.
    pub data: Option<(usize, u64)>,
}

/// What a guest sees, whatever lies behind it.
pub trait Disk: Send + Sync {
    /// The layers, the current image first.
    fn layer(&self, number: usize) -> Option<&dyn Image>;

    /// What the current image says of itself; its size is the disk's.
    fn info(&self) -> &ImageInfo;

    /// The size that a guest sees, in bytes.
    fn virtual_size(&self) -> u64 {
        self.info().virtual_size
    }

    /// Where the bytes from `offset` on come from; at least one byte, at most `len`, inside the virtual size.
    ///
    /// # Errors
    /// `Usage` when the range is not inside the disk; `Damaged`, `Io`.
    fn extent_at(&self, offset: u64, len: u64) -> Result<DiskExtent> {
        check_extent(self.virtual_size(), offset, len)?;
        let mut len = len;
        let mut number = 0;
        while let Some(layer) = self.layer(number) {
            // Past the end of a smaller parent there are zeros.
            let room = layer.info().virtual_size.saturating_sub(offset);
            if room == 0 {
                break;
            }
            let extent = layer.extent_at(offset, len.min(room))?;
            len = extent.len;
            match extent.source {
                Source::Data(at) => return Ok(DiskExtent { len, data: Some((number, at)) }),
                Source::Zero => break,
                Source::Parent => number += 1,
            }
        }
        Ok(DiskExtent { len, data: None })
    }

    /// Reads any range of bytes.
    ///
    /// # Errors
    /// As [`Disk::extent_at`].
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let mut done = 0;
        while done < buffer.len() {
            let at = offset + done as u64;
            let extent = self.extent_at(at, (buffer.len() - done) as u64)?;
            let part = &mut buffer[done..done + extent.len as usize];
            match extent.data.and_then(|(number, at)| self.layer(number).map(|layer| (layer, at))) {
                Some((layer, at)) => layer.read_data(part, at)?,
                None => part.fill(0),
            }
            done += extent.len as usize;
        }
        Ok(())
    }
}

fn check_extent(size: u64, offset: u64, len: u64) -> Result<()> {
    if len > 0 && offset.checked_add(len).is_some_and(|end| end <= size) {
        return Ok(());
    }
    Err(Error::usage(
        format!("{len} bytes at byte {offset} do not lie inside the disk"),
        format!("the disk has {size} bytes"),
    ))
}

/// A chain of images, all open for reading.
pub struct Chain {
    layers: Vec<Box<dyn Image>>,
    resolved: Resolved,
    warnings: Vec<Finding>,
}

impl Chain {
    /// Opens an image and all its parents, each locked against writers (or, with [`OpenOptions::with_look`], not).
    ///
    /// # Errors
    /// `Parent` with what is wrong with which file; otherwise as [`open_image`] and
    /// [`FileStorage::open`](crate::storage::FileStorage::open).
    pub fn open(path: &Path, options: &OpenOptions) -> Result<Self> {
        let place = options.open_place(path)?;
        let current = open_image(place.storage, options.format)?;
        let (parents, warnings) = resolve::open_parents(&*current, place.identity, options)?;
        let layers = std::iter::once(current).chain(parents).collect();
        Ok(Self { layers, resolved: Resolved::default(), warnings })
    }

    /// A disk of images that are open already, the current one first.
    ///
    /// The caller answers for each being the parent of the one before; there is at least one.
    pub(crate) fn from_layers(layers: Vec<Box<dyn Image>>) -> Self {
        Self { layers, resolved: Resolved::default(), warnings: Vec::new() }
    }

    /// The images, the current one first, the base last.
    pub fn layers(&self) -> &[Box<dyn Image>] {
        &self.layers
    }

    /// What is unusual about the chain, beside what each image says of itself.
    pub fn warnings(&self) -> &[Finding] {
        &self.warnings
    }
}

impl Disk for Chain {
    fn layer(&self, number: usize) -> Option<&dyn Image> {
        self.layers.get(number).map(|layer| &**layer)
    }

    fn info(&self) -> &ImageInfo {
        self.layers[0].info()
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<DiskExtent> {
        check_extent(self.virtual_size(), offset, len)?;
        self.resolved.extent_at(&self.layers, offset, len)
    }
}

/// A chain whose current image can be written to.
pub struct ChainMut {
    current: Box<dyn ImageMut>,
    parents: Vec<Box<dyn Image>>,
    /// Of the parents; the current image changes.
    resolved: Resolved,
}

impl ChainMut {
    /// A disk over an image that is open already and parents that it reads through, nearest first.
    ///
    /// The caller answers for the parents being the right ones.
    pub fn from_parts(current: Box<dyn ImageMut>, parents: Vec<Box<dyn Image>>) -> Self {
        Self { current, parents, resolved: Resolved::default() }
    }

    /// The frozen layers, nearest first. They have no write calls.
    pub fn parents(&self) -> &[Box<dyn Image>] {
        &self.parents
    }

    /// Writes any range of bytes; where it does not fill whole sectors the rest of them is read first.
    ///
    /// # Errors
    /// `Usage` when the range is not inside the disk; otherwise as [`ImageMut::write_at`].
    pub fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        self.check_inside(offset, bytes.len() as u64)?;
        let sector = u64::from(self.info().logical_sector);
        let mut done = 0;
        while done < bytes.len() {
            let at = offset + done as u64;
            let left = bytes.len() - done;
            let whole = left - left % sector as usize;
            if at.is_multiple_of(sector) && whole > 0 {
                self.current.write_at(&bytes[done..done + whole], at)?;
                done += whole;
                continue;
            }
            let (start, within) = (at - at % sector, (at % sector) as usize);
            let step = left.min(sector as usize - within);
            let mut buffer = vec![0; sector as usize];
            self.read_at(&mut buffer, start)?;
            buffer[within..within + step].copy_from_slice(&bytes[done..done + step]);
            self.current.write_at(&buffer, start)?;
            done += step;
        }
        Ok(())
    }

    /// Makes any range of bytes read as zero, taking no space for it where the format allows.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn zero_at(&mut self, offset: u64, len: u64) -> Result<()> {
        self.check_inside(offset, len)?;
        let sector = u64::from(self.info().logical_sector);
        let end = offset + len;
        let (first, last) = (offset.next_multiple_of(sector), end - end % sector);
        if first >= last {
            return self.write_at(&vec![0; len as usize], offset);
        }
        self.write_at(&vec![0; (first - offset) as usize], offset)?;
        self.current.zero_at(first, last - first)?;
        self.write_at(&vec![0; (end - last) as usize], last)
    }

    /// Gives the current image another identity.
    ///
    /// # Errors
    /// As [`ImageMut::set_identity`].
    pub fn set_identity(&mut self, identity: uuid::Uuid) -> Result<()> {
        self.current.set_identity(identity)
    }

    /// Returns when all that was written before is durable.
    ///
    /// # Errors
    /// As [`ImageMut::flush`].
    pub fn flush(&mut self) -> Result<()> {
        self.current.flush()
    }

    /// Flushes and closes.
    ///
    /// # Errors
    /// As [`ImageMut::close`].
    pub fn close(self) -> Result<()> {
        self.current.close()
    }

    fn check_inside(&self, offset: u64, len: u64) -> Result<()> {
        match offset.checked_add(len) {
            Some(end) if end <= self.virtual_size() => Ok(()),
            _ => Err(Error::usage(
                format!("{len} bytes at byte {offset} reach past the end of {}", self.current.path().display()),
                format!("the disk has {} bytes", self.virtual_size()),
            )),
        }
    }
}

impl Disk for ChainMut {
    fn layer(&self, number: usize) -> Option<&dyn Image> {
        match number.checked_sub(1) {
            None => Some(&*self.current),
            Some(parent) => self.parents.get(parent).map(|layer| &**layer),
        }
    }

    fn info(&self) -> &ImageInfo {
        self.current.info()
    }

    fn extent_at(&self, offset: u64, len: u64) -> Result<DiskExtent> {
        check_extent(self.virtual_size(), offset, len)?;
        let own = self.current.extent_at(offset, len)?;
        let data = match own.source {
            Source::Data(at) => Some((0, at)),
            Source::Zero => None,
            Source::Parent => {
                // Past the end of a smaller parent there are zeros.
                let room = self.parents.first().map_or(0, |parent| parent.info().virtual_size.saturating_sub(offset));
                if room > 0 {
                    let below = self.resolved.extent_at(&self.parents, offset, own.len.min(room))?;
                    return Ok(DiskExtent { len: below.len, data: below.data.map(|(layer, at)| (layer + 1, at)) });
                }
                None
            }
        };
        Ok(DiskExtent { len: own.len, data })
    }
}
