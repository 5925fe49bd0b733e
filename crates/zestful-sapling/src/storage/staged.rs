//! New files appear whole or not at all.

use std::ffi::OsString;
use std::fs::{File, OpenOptions};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{CWD, RenameFlags, renameat_with};
use rustix::io::Errno;

use super::{FileStorage, ReadAt, Storage};
use crate::error::{Error, Refusal, Result};

/// A file under a temporary name beside its final one.
///
/// [`StagedFile::publish`] syncs it and gives it its final name without replacing anything; dropped before that, it is
/// removed. After a crash at most `NAME.partial-XXXXXXXX` is left, which nothing refers to and which may be deleted.
pub struct StagedFile {
    storage: Arc<FileStorage>,
    temporary: PathBuf,
    target: PathBuf,
    published: bool,
}

impl StagedFile {
    /// Creates the temporary file in the folder of `target`.
    ///
    /// # Errors
    /// `Refused` when something already stands at `target`; `Io` when the folder is missing or not writable.
    pub fn create(target: &Path) -> Result<Self> {
        refuse_existing(target)?;
        let mut name = OsString::from(target);
        name.push(format!(".partial-{:08x}", uuid::Uuid::new_v4().as_fields().0));
        let temporary = PathBuf::from(name);
        let file = OpenOptions::new()
            .read(true)
            .write(true)
            .create_new(true)
            .open(&temporary)
            .map_err(|e| Error::io("create", target, e))?;
        // Messages name the file that the user asked for.
        let storage = FileStorage::from_new(file, target.to_owned());
        let storage = storage.inspect_err(|_| _ = std::fs::remove_file(&temporary))?;
        Ok(Self { storage: Arc::new(storage), temporary, target: target.to_owned(), published: false })
    }

    /// The file's bytes. A sync through it does nothing: before [`StagedFile::publish`] the file counts as not there,
    /// so that there is nothing to protect, and `publish` syncs all of it.
    pub fn storage(&self) -> Arc<dyn Storage> {
        Arc::new(Unpublished(self.storage.clone()))
    }

    /// Has the host begin to make durable what was written so far, and waits for that part: called beside long
    /// writing, it leaves less for `publish` to wait for.
    ///
    /// # Errors
    /// `Io`; final, the file must be dropped.
    pub(crate) fn sync_so_far(&self) -> Result<()> {
        self.storage.sync()
    }

    /// Has the host set the space of a range aside; it reads as zero. Where the host cannot, zeros are written.
    ///
    /// # Errors
    /// `Io`, also when the host has too little.
    pub(crate) fn reserve(&self, range: Range<u64>) -> Result<()> {
        self.storage.reserve(range)
    }

    /// Where it will stand.
    pub fn target(&self) -> &Path {
        &self.target
    }

    /// Syncs the file, gives it its final name and syncs the folder: after a return it is there whole, also after a
    /// loss of power; before, nothing is there.
    ///
    /// # Errors
    /// `Io`; `Refused` when something appeared at the target meanwhile.
    pub fn publish(mut self) -> Result<()> {
        self.storage.sync()?;
        match renameat_with(CWD, &self.temporary, CWD, &self.target, RenameFlags::NOREPLACE) {
            Ok(()) => {}
            Err(Errno::EXIST) => return Err(exists(&self.target)),
            // Where the file system cannot rename without replacing, a second name for the file never replaces.
            Err(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => {
                std::fs::hard_link(&self.temporary, &self.target).map_err(|e| match e.kind() {
                    std::io::ErrorKind::AlreadyExists => exists(&self.target),
                    _ => Error::io("put into place", &self.target, e),
                })?;
                std::fs::remove_file(&self.temporary).map_err(|e| Error::io("remove", &self.temporary, e))?;
            }
            Err(error) => return Err(Error::io("put into place", &self.target, error.into())),
        }
        self.published = true;
        sync_folder(&self.target)
    }
}

/// A file that nobody counts on yet.
struct Unpublished(Arc<FileStorage>);

#[deny(clippy::missing_trait_methods)]
impl ReadAt for Unpublished {
    fn path(&self) -> &Path {
        self.0.path()
    }
    fn len(&self) -> Result<u64> {
        self.0.len()
    }
    fn is_empty(&self) -> Result<bool> {
        self.0.is_empty()
    }
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        self.0.read_at(buffer, offset)
    }
    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        self.0.next_data(offset)
    }
    fn allocated(&self) -> Result<u64> {
        self.0.allocated()
    }
}

#[deny(clippy::missing_trait_methods)]
impl Storage for Unpublished {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.0.write_at(bytes, offset)
    }
    fn set_len(&self, len: u64) -> Result<()> {
        self.0.set_len(len)
    }
    fn sync(&self) -> Result<()> {
        Ok(())
    }
    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        self.0.punch_hole(offset, len)
    }
    fn write_zeros(&self, offset: u64, len: u64) -> Result<()> {
        self.0.write_zeros(offset, len)
    }
}

impl Drop for StagedFile {
    fn drop(&mut self) {
        if !self.published {
            _ = std::fs::remove_file(&self.temporary);
        }
    }
}

/// Refuses a target where something, even a dangling link, already stands.
pub(crate) fn refuse_existing(target: &Path) -> Result<()> {
    match std::fs::symlink_metadata(target) {
        Ok(_) => Err(exists(target)),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(Error::io("look up", target, error)),
    }
}

fn exists(target: &Path) -> Error {
    Error::refused(
        Refusal::Exists,
        format!("{} already exists and is never overwritten", target.display()),
        "choose another name, or move that file away first",
    )
}

fn sync_folder(of: &Path) -> Result<()> {
    let folder = match of.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => Path::new("."),
    };
    File::open(folder).and_then(|f| f.sync_all()).map_err(|e| Error::io("sync the folder", folder, e))
}
