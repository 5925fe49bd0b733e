//! One image file that is open for writing: what each format offers, and what it promises.

use std::path::Path;
use std::sync::Arc;

use uuid::Uuid;

use super::placement::Arrangement;
use super::{Image, ParentRecord, Visit};
use crate::error::Result;
use crate::storage::{Latched, Storage};

/// An open image that can be written to, by any number of threads.
///
/// Writes are durable after [`ImageMut::flush`]; at every moment, also after a loss of power, the file is a valid image
/// that holds all that was flushed. Ranges are multiples of the logical sector and lie inside the virtual size.
///
/// Reads never wait for a flush, and writes into space that is already there run side by side; only what takes new
/// space, or marks sectors as present, takes turns. Of two writes at the same time to the same bytes each byte holds
/// what one of them wrote, and which of them may differ from byte to byte; a read at the same time sees old bytes or
/// new ones. What does not overlap does not touch.
///
/// A write that fails may have changed any part of its range, and nothing else; it may be tried again once its cause is
/// mended. A sync that fails is final: everything is refused from then on.
pub trait ImageMut: Image {
    /// Writes a range.
    ///
    /// # Errors
    /// `Usage` when the range is not aligned or outside; `Refused` after a failed sync; `Io`.
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()>;

    /// Writes a range if nothing has to be waited for but the host's own writing: neither a turn nor a commit. `false`
    /// when that is not so, and then nothing was written.
    ///
    /// # Errors
    /// As [`ImageMut::write_at`].
    fn write_at_once(&self, bytes: &[u8], offset: u64) -> Result<bool> {
        _ = (bytes, offset);
        Ok(false)
    }

    /// Whether zeroing a range is quicker than writing it.
    fn zeroes_quickly(&self) -> bool;

    /// Makes a range read as zero, taking no space for it where the format allows.
    ///
    /// # Errors
    /// As [`ImageMut::write_at`].
    fn zero_at(&self, offset: u64, len: u64) -> Result<()>;

    /// Gives back the blocks that lie wholly in a range: what they hold is what the parent holds there, as the caller
    /// has found out, or zero where there is no parent. So nothing changes for a reader.
    ///
    /// # Errors
    /// As [`ImageMut::write_at`].
    fn give_to_parent(&self, offset: u64, len: u64) -> Result<()> {
        _ = (offset, len);
        Ok(())
    }

    /// Gives back the host's space under a range, where the image's own file holds it: what stands there reads as zero
    /// already, as the caller has found out, or means nothing to anybody, and reads as zero from then on. No block and
    /// no table changes; a host that keeps no holes writes zeros.
    ///
    /// # Errors
    /// As [`ImageMut::write_at`].
    fn dig(&self, offset: u64, len: u64) -> Result<()>;

    /// While a visit lasts no place that [`Image::extent_at`] named during it is used for anything else, so that what
    /// is read there belongs to the range that was asked about.
    fn visit(&self) -> Visit<'_> {
        Visit::free()
    }

    /// Gives the image another identity, or this one, and another data identity; durable once the image is closed.
    ///
    /// The content stays; children that were grown from the image before no longer find their parent in it.
    ///
    /// # Errors
    /// `Usage` when the format has no identity; otherwise as [`ImageMut::flush`].
    fn set_identity(&mut self, identity: Uuid) -> Result<()>;

    /// Gives the image this data identity, and keeps it whatever is written in this session; durable on return. Called
    /// with the identity that the image has already, it makes sure that writes do not give it a new one: for changes
    /// that no child and no guest can see.
    ///
    /// # Errors
    /// `Usage` when the format has no identity; otherwise as [`ImageMut::flush`].
    fn set_data_identity(&mut self, identity: Uuid) -> Result<()>;

    /// Records another parent, or another path to it; durable on return. The image's own content and identities stay,
    /// so that its children find it as before. After a crash it names the old parent or the new one.
    ///
    /// # Errors
    /// `Usage` when the image has no parent; `Unsupported` when the file has no room for the record; otherwise as
    /// [`ImageMut::flush`].
    fn set_parent(&mut self, parent: &ParentRecord) -> Result<()>;

    /// Makes a differencing image one that stands alone; durable on return. Its identities stay.
    ///
    /// Whatever it does not hold itself must read as zero already, through the parent that it has: so nothing changes
    /// for a reader, neither at the end nor, after a crash, half-way.
    ///
    /// # Errors
    /// As [`ImageMut::set_parent`].
    fn remove_parent(&mut self) -> Result<()>;

    /// Makes the disk larger, to `size` bytes; what is new reads as zero, if no parent is larger. Durable on return;
    /// after a crash it has the old size or the new one.
    ///
    /// The file of a fixed image becomes longer, and the host sets nothing aside for it. A fixed VHD image has one
    /// footer only, and may end with none if the host fails while its file becomes longer; whoever grows one keeps a
    /// record of it.
    ///
    /// # Errors
    /// `Usage` when the size is no multiple of the sector, not larger, too large for the format, or the image is a
    /// device or a set of pieces; otherwise as [`ImageMut::flush`].
    fn grow(&mut self, size: u64) -> Result<()>;

    /// Makes the disk smaller, to `size` bytes, and forgets what it held from there on; nothing asks what that was.
    /// Durable on return; after a crash it has the old size and all that it held, or the new one. Called with the size
    /// that the disk has, it gives back what a crash may have kept a call before from giving back.
    ///
    /// # Errors
    /// `Usage` when the size is no multiple of the sector, zero, or larger, or the image is a device or a set of
    /// pieces; otherwise as [`ImageMut::flush`].
    fn shrink(&mut self, size: u64) -> Result<()>;

    /// Space that is given up from here on stays with the file until [`ImageMut::arrange`], for the blocks that move
    /// there: a host frees it only to set it aside again. What is not needed then goes back to the host at the end of
    /// that call, whatever became of it.
    ///
    /// # Errors
    /// As [`ImageMut::flush`].
    fn hold_space(&mut self) -> Result<()> {
        Ok(())
    }

    /// Moves blocks to other places in the file, and cuts the file behind the last of them. Content and data identity
    /// stay. At any moment each block is whole in a place that the image names, also after a loss of power; an error,
    /// also one that `watch` returns, ends the work with what was moved so far.
    ///
    /// What a session that was cut short gave up, and could not give back any more, is given back, too.
    ///
    /// At most `room` bytes, or one block, are in two places at once. `watch` hears of each number of bytes that were
    /// moved, once that is durable. An image without blocks stays as it is.
    ///
    /// # Errors
    /// As [`ImageMut::flush`], and what `watch` returns.
    fn arrange(&mut self, how: Arrangement, room: u64, watch: &mut dyn FnMut(u64) -> Result<()>) -> Result<()> {
        _ = (how, room, watch);
        Ok(())
    }

    /// The way in which another thread may have the host put what was written on its disk, beside the writing. When
    /// it fails there the image refuses further writes, too: the host has told of the loss once, and a later sync
    /// would not.
    fn syncer(&self) -> Syncer;

    /// Returns when all that was written before is durable. Flushes that are asked for at the same time share one
    /// commit.
    ///
    /// # Errors
    /// `Io`: after a failed sync the image refuses further writes and must be opened again; for want of space it may be
    /// tried again. `Refused` after a failed sync.
    fn flush(&self) -> Result<()>;

    /// Flushes and leaves the file in its tidy closed state; the next write begins a new session, with a new data
    /// identity.
    ///
    /// # Errors
    /// As [`ImageMut::flush`].
    fn settle(&mut self) -> Result<()>;

    /// The same at the end. An image dropped without it is valid, too.
    ///
    /// # Errors
    /// As [`ImageMut::flush`].
    fn close(mut self: Box<Self>) -> Result<()> {
        self.settle()
    }

    /// The bytes of the image's own file, for who opens it anew and keeps its lock.
    fn storage_mut(&self) -> Arc<dyn Storage>;

    /// Nothing is written through this handle any more: the file is changed, or opened anew, by others, of which it
    /// knows nothing.
    fn retire(&self);
}

/// Has the host put on its disk what was written into an image; see [`ImageMut::syncer`].
#[derive(Clone)]
pub struct Syncer(Arc<Latched>);

impl Syncer {
    pub(crate) fn new(storage: &Arc<Latched>) -> Self {
        Self(storage.clone())
    }

    /// Returns when everything written into the image's file so far is on the host's disk. What makes it visible may
    /// not be.
    ///
    /// # Errors
    /// `Io`, and then it is final for the image; `Refused` after an earlier failure.
    pub fn sync(&self) -> Result<()> {
        self.0.sync()
    }
}

/// Rejects a parent for an image that has none to change.
pub(crate) fn no_parent(path: &Path) -> crate::Error {
    crate::Error::usage(
        format!("{} has no parent", path.display()),
        "only a differencing image records one; grow one from a base",
    )
}
