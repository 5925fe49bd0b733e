//! Where the bytes of an image live.
//!
//! Storage is positioned and shared: every call takes `&self`, an offset and a buffer. Reading and writing are two
//! traits, so that a parent layer can be held by a type that has no write call at all.

mod attached;
mod attributes;
mod beneath;
mod changes;
mod device;
mod file;
mod file_id;
mod folder_lock;
mod held;
mod host;
mod latched;
mod lenient;
mod listing;
mod lock;
mod memory;
mod names;
mod overlay;
mod paths;
mod scratch;
mod staged;
mod staged_folder;
#[cfg(feature = "testing")]
pub mod testing;
mod turn;
mod writers;

use std::any::Any;
use std::path::Path;
use std::sync::Arc;

use crate::error::Result;

pub use attached::Attachment;
pub(crate) use attributes::{inherit, inherit_in_place_mark};
pub(crate) use beneath::{Beneath, NewFile};
pub use device::{BlockDevice, StagedDevice};
pub use file::FileStorage;
pub(crate) use file::open_regular;
pub use file_id::FileId;
pub(crate) use folder_lock::FolderLock;
pub(crate) use held::{Held, swapped};
pub(crate) use host::host_pieces;
pub(crate) use host::{allocated_at, is_writable_folder, unmark_read_only};
pub use host::{free_space, is_marked_read_only, mark_read_only};
pub(crate) use latched::Latched;
pub(crate) use lenient::Lenient;
pub(crate) use listing::{entries_in, files_in};
pub use lock::{server_of, user_of};
pub use memory::MemoryStorage;
pub(crate) use names::{
    create_folder, is_same_file, link, refuse_existing, remove, remove_empty_folder, rename_new, rename_over,
    sync_folder,
};
pub(crate) use overlay::{Edit, NewBytes, Overlay};
pub(crate) use paths::{entry, folder_of, real, relative_path, tidy};
pub(crate) use scratch::scratch_in;
pub use staged::StagedFile;
pub(crate) use staged::{is_temporary_name, temporary_name};
pub(crate) use staged_folder::StagedFolder;
pub(crate) use turn::Turn;
pub(crate) use writers::{Writers, users_of, writers_of};

/// The host's identity of a file or device, the same under every name.
pub type HostIdentity = (u64, u64);

/// How a file is opened and which lock is taken for as long as it is open.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Access {
    /// Read, shared with other readers.
    Read,
    /// Read without any lock, for a look at a file that another process writes to; what is read may be halfway
    /// between two states.
    ReadUnlocked,
    /// Read and write, alone.
    Write,
    /// Read and write, alone, also where the file is marked read-only: for changes that leave a parent's content as it
    /// is, such as the path of its own parent.
    AmendMetadata,
}

/// What kind of place bytes live in, as far as it changes what may be done with them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Medium {
    /// A file, or memory that stands in for one.
    File,
    /// A block device: a raw disk with sectors of its own, and old content everywhere. Sizes in bytes.
    Device {
        /// The smallest unit that can be addressed.
        logical_sector: u32,
        /// The unit that the device writes in.
        physical_sector: u32,
    },
    /// A raw disk that a descriptor puts together from several files.
    Pieces {
        /// The smallest unit that its guest addresses.
        logical_sector: u32,
    },
}

/// Bytes that can be read at any position.
pub trait ReadAt: Send + Sync {
    /// The file, or a made-up name for storage without one; used in messages and to find parents.
    fn path(&self) -> &Path;

    /// The length in bytes.
    ///
    /// # Errors
    /// `Io` when the host cannot tell.
    fn len(&self) -> Result<u64>;

    /// Whether the length is zero.
    ///
    /// # Errors
    /// As [`ReadAt::len`].
    fn is_empty(&self) -> Result<bool> {
        Ok(self.len()? == 0)
    }

    /// Fills the whole buffer from `offset`.
    ///
    /// # Errors
    /// `Io`, also when the file ends before the buffer is full.
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()>;

    /// Fills the whole buffer from `offset` if nothing has to be waited for; `false` when a disk would have to be
    /// asked, or that cannot be told, and then the buffer may hold anything.
    ///
    /// # Errors
    /// As [`ReadAt::read_at`].
    fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool> {
        _ = (buffer, offset);
        Ok(false)
    }

    /// The first range at or after `offset` that may hold anything but zeros, or `None` up to the end.
    ///
    /// What is left out certainly reads as zero; what is named may still be zeros.
    ///
    /// # Errors
    /// `Io` when the host cannot tell.
    fn next_data(&self, offset: u64) -> Result<Option<std::ops::Range<u64>>> {
        let len = self.len()?;
        Ok((offset < len).then_some(offset..len))
    }

    /// Bytes that the host has really set aside.
    ///
    /// # Errors
    /// `Io` when the host cannot tell.
    fn allocated(&self) -> Result<u64> {
        self.len()
    }

    /// What kind of place this is.
    fn medium(&self) -> Medium {
        Medium::File
    }

    /// Whether these bytes are what stands at `path`, as far as the host tells: another file may have been put there.
    ///
    /// # Errors
    /// `Io` when nothing is there.
    fn stands_at(&self, path: &Path) -> Result<bool> {
        _ = path;
        Ok(true)
    }
}

/// Bytes that can be written at any position as well.
pub trait Storage: ReadAt {
    /// Writes the whole buffer at `offset`; beyond the end the file grows, a gap reads as zero.
    ///
    /// # Errors
    /// `Io`; then any part of the range may have been written.
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()>;

    /// Makes the file that long; new space reads as zero.
    ///
    /// # Errors
    /// `Io`.
    fn set_len(&self, len: u64) -> Result<()>;

    /// Returns when everything written before will survive a loss of power.
    ///
    /// # Errors
    /// `Io`; final for this handle, since no later success proves that the earlier writes are safe.
    fn sync(&self) -> Result<()>;

    /// From now on others may read what was open for writing alone; nothing is to be written any more.
    ///
    /// # Errors
    /// `Refused` when somebody took the file meanwhile, and keeps it; `Io`.
    fn let_others_read(&self) -> Result<()> {
        Ok(())
    }

    /// The [`FileStorage`] that this is, if it is one, for who has other work to do with the file under its lock.
    fn as_file(self: Arc<Self>) -> Option<Arc<dyn Any + Send + Sync>> {
        None
    }

    /// Makes a range inside the file read as zero, giving its space back to the host where it can.
    ///
    /// # Errors
    /// `Io`; then any part of the range may have been zeroed.
    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        self.write_zeros(offset, len)
    }

    /// Whether the host takes back the space of a part of a file; to ask may set the time of its last change.
    fn keeps_holes(&self) -> bool {
        false
    }

    /// Writes zeros and keeps the space.
    ///
    /// # Errors
    /// As [`Storage::write_at`].
    fn write_zeros(&self, offset: u64, len: u64) -> Result<()> {
        write_plain_zeros(self, offset, len)
    }
}

/// Zeros, written as any other bytes.
fn write_plain_zeros<S: Storage + ?Sized>(storage: &S, mut offset: u64, mut len: u64) -> Result<()> {
    static ZEROS: [u8; 64 << 10] = [0; 64 << 10];
    while len > 0 {
        let step = len.min(ZEROS.len() as u64);
        storage.write_at(&ZEROS[..step as usize], offset)?;
        offset += step;
        len -= step;
    }
    Ok(())
}

impl<T: ReadAt + ?Sized> ReadAt for Arc<T> {
    fn path(&self) -> &Path {
        (**self).path()
    }
    fn len(&self) -> Result<u64> {
        (**self).len()
    }
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        (**self).read_at(buffer, offset)
    }
    fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool> {
        (**self).read_at_once(buffer, offset)
    }
    fn next_data(&self, offset: u64) -> Result<Option<std::ops::Range<u64>>> {
        (**self).next_data(offset)
    }
    fn allocated(&self) -> Result<u64> {
        (**self).allocated()
    }
    fn medium(&self) -> Medium {
        (**self).medium()
    }
    fn stands_at(&self, path: &Path) -> Result<bool> {
        (**self).stands_at(path)
    }
}

impl<T: Storage + ?Sized> Storage for Arc<T> {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        (**self).write_at(bytes, offset)
    }
    fn set_len(&self, len: u64) -> Result<()> {
        (**self).set_len(len)
    }
    fn sync(&self) -> Result<()> {
        (**self).sync()
    }
    fn let_others_read(&self) -> Result<()> {
        (**self).let_others_read()
    }
    fn as_file(self: Arc<Self>) -> Option<Arc<dyn Any + Send + Sync>> {
        T::as_file((*self).clone())
    }
    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        (**self).punch_hole(offset, len)
    }
    fn keeps_holes(&self) -> bool {
        (**self).keeps_holes()
    }
    fn write_zeros(&self, offset: u64, len: u64) -> Result<()> {
        (**self).write_zeros(offset, len)
    }
}
