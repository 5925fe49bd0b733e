//! A chain whose current image is written to.

use std::path::Path;
use std::sync::{Arc, PoisonError, RwLock};

use super::cache::Resolved;
use super::disk::{Disk, DiskExtent, check_extent};
use crate::bytes::{in_units, index, split, wide};
use crate::error::{Error, Result};
use crate::image::{
    Arrangement, Format, Image, ImageInfo, ImageMut, Kind, Source, Space, Visit, open_image, open_image_mut,
};
use crate::storage::{FileStorage, Storage, swapped};

const ZEROS_AT_ONCE: u64 = 1 << 20;

/// A chain whose current image can be written to, by any number of threads.
///
/// What [`ImageMut`] promises of reads and writes at the same time holds here for any range of bytes: requests that do
/// not overlap do not touch, though they share a sector. [`SharedDisk`](super::SharedDisk) adds what changes the chain
/// itself under those who use it.
pub struct ChainMut {
    current: Box<dyn ImageMut>,
    parents: Vec<Box<dyn Image>>,
    /// The file of the nearest parent, for as long as it is locked against everybody.
    frozen: Option<Arc<FileStorage>>,
    /// Of the parents; the current image changes.
    resolved: Resolved,
    /// Held alone for what reads the rest of a sector and writes it back, shared for all other changes.
    edges: RwLock<()>,
}

impl ChainMut {
    /// A disk over an image that is open already and parents that it reads through, nearest first.
    ///
    /// The caller answers for the parents being the right ones.
    pub fn from_parts(current: Box<dyn ImageMut>, parents: Vec<Box<dyn Image>>) -> Self {
        Self { current, parents, frozen: None, resolved: Resolved::default(), edges: RwLock::new(()) }
    }

    /// The frozen layers, nearest first. They have no write calls.
    pub fn parents(&self) -> &[Box<dyn Image>] {
        &self.parents
    }

    /// Writes any range of bytes; where it does not fill whole sectors the rest of them is read first.
    ///
    /// # Errors
    /// `Usage` when the range is not inside the disk; otherwise as [`ImageMut::write_at`].
    pub fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.check_inside(offset, wide(bytes.len()))?;
        let sector = u64::from(self.info().logical_sector);
        let (mut rest, mut at) = (bytes, offset);
        while !rest.is_empty() {
            let (sectors, _) = split(wide(rest.len()), sector);
            let (number, within) = split(at, sector);
            let len = match within {
                0 if sectors > 0 => sectors.saturating_mul(sector),
                _ => sector.saturating_sub(within),
            };
            let (part, behind) = rest.split_at(index(len).min(rest.len()));
            if within == 0 && sectors > 0 {
                let _shared = self.edges.read().unwrap_or_else(PoisonError::into_inner);
                self.current.write_at(part, at)?;
            } else {
                let (start, mut whole) = (number.saturating_mul(sector), vec![0; index(sector)]);
                let _alone = self.edges.write().unwrap_or_else(PoisonError::into_inner);
                self.read_at(&mut whole, start)?;
                whole[index(within)..][..part.len()].copy_from_slice(part);
                self.current.write_at(&whole, start)?;
            }
            (rest, at) = (behind, at.saturating_add(wide(part.len())));
        }
        Ok(())
    }

    /// Makes any range of bytes read as zero, taking no space for it where the format allows.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn zero_at(&self, offset: u64, len: u64) -> Result<()> {
        self.check_inside(offset, len)?;
        let sector = u64::from(self.info().logical_sector);
        let end = offset.saturating_add(len);
        let first = offset.div_ceil(sector).saturating_mul(sector);
        let last = split(end, sector).0.saturating_mul(sector);
        if first >= last {
            return self.write_at(&vec![0; index(len)], offset);
        }
        self.write_at(&vec![0; index(first.saturating_sub(offset))], offset)?;
        self.zero_sectors(first, last)?;
        self.write_at(&vec![0; index(end.saturating_sub(last))], last)
    }

    /// Zeros whole sectors. A block of which the current image holds nothing, and the parents none but zeros, stays as
    /// it is: saying so once more would take space where a format has no word for it.
    fn zero_sectors(&self, first: u64, last: u64) -> Result<()> {
        let _shared = self.edges.read().unwrap_or_else(PoisonError::into_inner);
        let whole = last.saturating_sub(first);
        let Some(block) = self.info().block_size.filter(|_| !self.parents.is_empty()) else {
            return self.current.zero_at(first, whole);
        };
        // What lies together is zeroed together.
        let mut from = first;
        for step in in_units(first, whole, block) {
            let at = first.saturating_add(step.done);
            if self.reads_zero_anyway(at, step.len)? {
                self.current.zero_at(from, at.saturating_sub(from))?;
                from = at.saturating_add(step.len);
            }
        }
        self.current.zero_at(from, last.saturating_sub(from))
    }

    /// Whether the current image holds nothing of a range, and its parents only zeros.
    fn reads_zero_anyway(&self, offset: u64, len: u64) -> Result<bool> {
        let (mut at, end) = (offset, offset.saturating_add(len));
        while at < end {
            let own = self.current.extent_at(at, end.saturating_sub(at))?;
            let extent = self.extent_at(at, own.len)?;
            if own.source != Source::Parent || extent.data.is_some() {
                return Ok(false);
            }
            at = at.saturating_add(extent.len);
        }
        Ok(true)
    }

    /// Writes whole sectors if nothing has to be waited for; `false` when something would have to be, and then nothing
    /// was written.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn write_at_once(&self, bytes: &[u8], offset: u64) -> Result<bool> {
        let (len, sector) = (wide(bytes.len()), u64::from(self.info().logical_sector));
        self.check_inside(offset, len)?;
        match self.edges.try_read() {
            Ok(_shared) if split(offset, sector).1 == 0 && split(len, sector).1 == 0 => {
                self.current.write_at_once(bytes, offset)
            }
            _ => Ok(false),
        }
    }

    /// Whether zeroing is quicker than writing.
    pub fn zeroes_quickly(&self) -> bool {
        self.current.zeroes_quickly()
    }

    /// Gives back what the current image holds of a range and need not hold any more: that reads as zero afterwards.
    /// What parents hold, and parts of sectors, stay as they are, so that nothing is taken for what was to be given. Of
    /// a fixed image everything stays.
    ///
    /// # Errors
    /// As [`ChainMut::write_at`].
    pub fn discard_at(&self, offset: u64, len: u64) -> Result<()> {
        self.check_inside(offset, len)?;
        let sector = u64::from(self.info().logical_sector);
        if self.info().kind == Kind::Fixed && self.info().format != Format::Raw {
            return Ok(());
        }
        let mut at = offset.div_ceil(sector).saturating_mul(sector);
        let end = split(offset.saturating_add(len), sector).0.saturating_mul(sector);
        let _shared = self.edges.read().unwrap_or_else(PoisonError::into_inner);
        while at < end {
            let rest = end.saturating_sub(at);
            // A whole block is given back at once, whatever it holds.
            let (step, whole) = match self.info().block_size {
                None => (rest, true),
                Some(block) => {
                    let (_, within) = split(at, block);
                    let visible = block.min(self.virtual_size().saturating_sub(at));
                    (rest.min(block.saturating_sub(within)), within == 0 && rest >= visible)
                }
            };
            let extent = self.current.extent_at(at, step)?;
            let is_mixed = extent.len < step;
            let step = if whole { step } else { extent.len };
            if whole && is_mixed || matches!(extent.source, Source::Data(_)) {
                self.current.zero_at(at, step)?;
            }
            at = at.saturating_add(step);
        }
        Ok(())
    }

    /// Gives the current image another identity.
    ///
    /// # Errors
    /// As [`ImageMut::set_identity`].
    pub fn set_identity(&mut self, identity: uuid::Uuid) -> Result<()> {
        self.current.set_identity(identity)
    }

    /// Returns when all that was written before is durable. Flushes that are asked for at the same time share one
    /// commit.
    ///
    /// # Errors
    /// As [`ImageMut::flush`].
    pub fn flush(&self) -> Result<()> {
        self.current.flush()
    }

    /// Flushes, and leaves the current image as one that nobody writes to.
    ///
    /// # Errors
    /// As [`ImageMut::settle`].
    pub(crate) fn settle(&mut self) -> Result<()> {
        self.current.settle()
    }

    /// Flushes and closes.
    ///
    /// # Errors
    /// As [`ImageMut::close`].
    pub fn close(self) -> Result<()> {
        self.current.close()
    }

    /// Makes the disk larger, to `size` bytes; what is new reads as zero. Durable on return; after a crash it has the
    /// old size or the new one. `space` is how a fixed disk gets its new space; where the host cannot set any aside,
    /// it is written.
    ///
    /// # Errors
    /// As [`ImageMut::grow`]; `Io`, with the disk as it was, when the host cannot set the space aside; `Usage` also
    /// when a parent is larger than the disk, whose content would show.
    pub fn grow(&mut self, size: u64, space: Space) -> Result<()> {
        if let Some(parent) = self.parents.iter().find(|parent| parent.info().virtual_size > self.info().virtual_size) {
            return Err(Error::usage(
                format!("{} is larger than the disk, and would show in its new part", parent.path().display()),
                "copy the disk into a larger one",
            ));
        }
        let (old, is_fixed) = (self.virtual_size(), self.info().kind == Kind::Fixed);
        // What of a device, or of pieces, cannot be resized is refused by the image.
        let file = self.file().filter(|_| is_fixed && size > old && space != Space::Sparse);
        let is_reserved = match &file {
            Some(file) => file.reserve_behind(size.saturating_sub(old).saturating_add(self.most_beside(size)))?,
            None => true,
        };
        let grown = self.current.grow(size);
        if let Some(file) = &file {
            // What was too much; what cannot be given back now is given back when the file is changed the next time.
            _ = file.give_back_behind();
        }
        grown?;
        match is_reserved && space != Space::Written {
            true => Ok(()),
            false => self.write_new_part(old, &mut |_| Ok(())),
        }
    }

    /// What a fixed image may take beside its content at most when it grows: a table that has to move, the rest of
    /// the last block, and the ends of what is aligned.
    fn most_beside(&self, size: u64) -> u64 {
        const ENDS: u64 = 3 << 20;
        const ENTRY: u64 = 9;
        self.info()
            .block_size
            .map_or(ENDS, |block| split(size, block).0.saturating_mul(ENTRY).saturating_add(block).saturating_add(ENDS))
    }

    /// Writes zeros into the part of a fixed disk that is new, from this byte on; durable on return. `step` is called
    /// before each piece, with its length.
    pub(crate) fn write_new_part(&self, from: u64, step: &mut dyn FnMut(u64) -> Result<()>) -> Result<()> {
        if self.info().kind != Kind::Fixed {
            return Ok(());
        }
        let zeros = vec![0; index(ZEROS_AT_ONCE)];
        for piece in in_units(from, self.virtual_size().saturating_sub(from), ZEROS_AT_ONCE) {
            step(piece.len)?;
            self.current.write_at(&zeros[..index(piece.len)], from.saturating_add(piece.done))?;
        }
        self.current.flush()
    }

    /// Makes the disk smaller, to `size` bytes, and forgets what it held from there on; nothing asks what that was.
    /// Durable on return; after a crash it has the old size with all its content, or the new one.
    ///
    /// # Errors
    /// As [`ImageMut::shrink`].
    pub fn shrink(&mut self, size: u64) -> Result<()> {
        self.current.shrink(size)
    }

    /// Gives back the blocks of the current image that lie wholly in a range, which the parent holds as well.
    ///
    /// # Errors
    /// As [`ImageMut::give_to_parent`].
    pub(crate) fn give_to_parent(&self, offset: u64, len: u64) -> Result<()> {
        self.current.give_to_parent(offset, len)
    }

    /// Gives back the host's space under a range, where the current image holds it.
    ///
    /// # Errors
    /// As [`ImageMut::dig`].
    pub(crate) fn dig(&self, offset: u64, len: u64) -> Result<()> {
        self.current.dig(offset, len)
    }

    /// Nothing that a guest or a child reads changes in this session, and the data identity stays.
    ///
    /// # Errors
    /// As [`ImageMut::set_data_identity`].
    pub(crate) fn keep_data_identity(&mut self) -> Result<()> {
        match self.info().data_identity {
            Some(identity) => self.current.set_data_identity(identity),
            None => Ok(()),
        }
    }

    /// Space that is given up is held for the blocks that move next.
    ///
    /// # Errors
    /// As [`ImageMut::hold_space`].
    pub(crate) fn hold_space(&mut self) -> Result<()> {
        self.current.hold_space()
    }

    /// Moves the blocks of the current image to other places in its file; the disk reads as before at every moment.
    ///
    /// # Errors
    /// As [`ImageMut::arrange`].
    pub fn arrange(&mut self, how: Arrangement, room: u64, watch: &mut dyn FnMut(u64) -> Result<()>) -> Result<()> {
        self.current.arrange(how, room, watch)
    }

    /// Freezes the current image, tidy and durable, and goes on in the child of it that `grow` makes. The frozen image
    /// stays open, and locked so that others may read it and nobody may write to it. When anything fails the disk goes
    /// on in the image that it had.
    ///
    /// # Errors
    /// As [`ImageMut::settle`] and `grow`.
    pub(crate) fn grow_child(&mut self, grow: impl FnOnce(&dyn Image) -> Result<Box<dyn ImageMut>>) -> Result<()> {
        self.current.settle()?;
        let storage = self.current.storage_mut();
        let frozen = open_image(storage.clone(), Some(self.info().format))?;
        self.current = grow(&*frozen)?;
        self.parents.insert(0, frozen);
        storage.let_others_read()
    }

    /// The current image, tidy and durable, is given to others: nothing is written through this chain any more until
    /// [`ChainMut::take_up`] or [`ChainMut::go_on_over`].
    pub(crate) fn hand_over(&mut self) -> Result<Arc<FileStorage>> {
        self.current.settle()?;
        let file = self.file().ok_or_else(|| {
            Error::usage(format!("{} is no regular file", self.current.path().display()), "copy the disk into one")
        })?;
        self.current.retire();
        Ok(file)
    }

    /// Goes on in the image that was handed over, of which others have written what the chain does not know.
    pub(crate) fn take_up(&mut self, file: Arc<FileStorage>) -> Result<()> {
        self.current = open_image_mut(file, Some(self.info().format))?;
        Ok(())
    }

    /// The current image, which was handed over and is frozen now, and the child of it that `new` holds, both open.
    pub(crate) fn next_layer(&self, frozen: Arc<FileStorage>, new: Arc<FileStorage>) -> Result<NextLayer> {
        let (format, identity) = (Some(self.info().format), self.info().data_identity);
        let current = open_image_mut(new, format)?;
        let accepted = current.info().parent.iter().flat_map(|parent| &parent.accepted);
        match accepted.copied().any(|accepted| Some(accepted) == identity) {
            true => Ok(NextLayer { image: open_image(frozen.clone(), format)?, frozen, current }),
            false => Err(swapped(current.path())),
        }
    }

    /// Goes on in the child. The frozen image stays locked against everybody until
    /// [`SharedDisk::let_others_read_below`](super::SharedDisk::let_others_read_below).
    pub(crate) fn go_on_over(&mut self, next: NextLayer) {
        self.current = next.current;
        self.parents.insert(0, next.image);
        self.frozen = Some(next.frozen);
    }

    /// The file of the image that was frozen last, for as long as it is locked against everybody.
    pub(super) fn frozen(&self) -> Option<Arc<FileStorage>> {
        self.frozen.clone()
    }

    /// The image that was frozen last is open for reading only, as this, from now on.
    pub(super) fn read_frozen_as(&mut self, image: Box<dyn Image>) {
        if let Some(first) = self.parents.first_mut() {
            *first = image;
        }
        self.frozen = None;
    }

    /// Whether the current image is the file that stands at `path`.
    pub(crate) fn stands_at(&self, path: &Path) -> bool {
        self.current.storage_mut().stands_at(path).unwrap_or(false)
    }

    /// The files that are locked against everybody: of the current image, and of one that was frozen just now.
    pub(crate) fn files(&self) -> impl Iterator<Item = Arc<FileStorage>> {
        self.file().into_iter().chain(self.frozen.clone())
    }

    /// The file of the current image, if it is a regular one.
    fn file(&self) -> Option<Arc<FileStorage>> {
        self.current.storage_mut().as_file()?.downcast().ok()
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

/// What a chain goes on in: a child of its current image.
pub(crate) struct NextLayer {
    current: Box<dyn ImageMut>,
    image: Box<dyn Image>,
    frozen: Arc<FileStorage>,
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

    fn visit(&self) -> Visit<'_> {
        self.current.visit()
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
                    return Ok(DiskExtent {
                        len: below.len,
                        data: below.data.map(|(layer, at)| (layer.saturating_add(1), at)),
                    });
                }
                None
            }
        };
        Ok(DiskExtent { len: own.len, data })
    }
}
