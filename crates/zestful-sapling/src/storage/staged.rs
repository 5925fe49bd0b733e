//! New files appear whole or not at all.

use std::any::Any;
use std::ffi::OsString;
use std::fs::{File, OpenOptions};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::file::FileStorage;
use super::file_id::FileId;
use super::names::{refuse_existing, remove, rename_new, rename_over, sync_folder};
use super::{ReadAt, Storage, changes};
use crate::error::{Error, Result};

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
        Self::create_beside(target)
    }

    /// Creates the temporary file, whatever stands at `target`.
    pub(crate) fn create_beside(target: &Path) -> Result<Self> {
        let temporary = temporary_name(target);
        let create = || OpenOptions::new().read(true).write(true).create_new(true).open(&temporary);
        let file = changes::change(&temporary, || changes::created(&temporary), create)
            .map_err(|e| Error::io("create", target, e))?;
        // Messages name the file that the user asked for.
        let storage = FileStorage::from_new(file, target.to_owned());
        let storage = storage.inspect_err(|_| _ = remove(&temporary))?;
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

    /// Has the host forget what it keeps of the file in memory, so that what is read next comes from its disk. A hint:
    /// where the host keeps it all the same, only speed tells.
    pub(crate) fn forget_cached(&self) {
        self.storage.forget_cached();
    }

    /// Makes the file durable under its temporary name, for others to be found by what it says.
    pub(crate) fn settle(&self) -> Result<()> {
        self.storage.sync()?;
        sync_folder(&self.temporary)
    }

    /// Lets a range of the new file share the space of a range of `source`, where the file system can do that for any
    /// file of its own; otherwise the kernel copies.
    ///
    /// # Errors
    /// `Io`, also when `source` ends before.
    pub(crate) fn copy_from(&self, source: &File, at: u64, target_at: u64, len: u64) -> Result<()> {
        self.storage.copy_from(source, at, target_at, len)
    }

    /// Whether this file can share the space of `source`.
    pub(crate) fn can_share_with(&self, source: &File) -> bool {
        self.storage.can_share_with(source)
    }

    /// Has the host set the space of a range aside; it reads as zero. Where the host cannot, zeros are written.
    ///
    /// # Errors
    /// `Io`, also when the host has too little.
    pub(crate) fn reserve(&self, range: Range<u64>) -> Result<()> {
        self.storage.reserve(range)
    }

    /// What the file is known by, also once it has its name.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn file_id(&self) -> Result<FileId> {
        FileId::of(&self.temporary)
    }

    /// Where it stands until then.
    pub(crate) fn temporary(&self) -> &Path {
        &self.temporary
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
    pub fn publish(self) -> Result<()> {
        self.publish_open().map(|_| ())
    }

    /// The same; the file stays open, and locked as it was from its beginning.
    pub(crate) fn publish_open(mut self) -> Result<Arc<FileStorage>> {
        self.storage.sync()?;
        rename_new(&self.temporary, &self.target)?;
        self.published = true;
        sync_folder(&self.target)?;
        Ok(self.storage.clone())
    }

    /// The same in the place of a file that stands there already, or of none: after a crash one of them is there whole.
    pub(crate) fn replace(self) -> Result<()> {
        self.replace_open().map(|_| ())
    }

    /// The same; the file stays open, and locked as it was from its beginning.
    pub(crate) fn replace_open(mut self) -> Result<Arc<FileStorage>> {
        self.storage.sync()?;
        rename_over(&self.temporary, &self.target)?;
        self.published = true;
        sync_folder(&self.target)?;
        Ok(self.storage.clone())
    }
}

/// The longest name that file systems take.
const MOST_IN_NAME: usize = 255;

/// A name beside `target` for what is not complete yet; of a long one only the beginning is in it.
pub(crate) fn temporary_name(target: &Path) -> PathBuf {
    let end = format!(".partial-{:08x}", uuid::Uuid::new_v4().as_fields().0);
    let name = target.file_name().unwrap_or_default();
    let mut temporary = match name.len() + end.len() <= MOST_IN_NAME {
        true => name.to_owned(),
        false => {
            let text = name.to_string_lossy();
            OsString::from(&text[..text.floor_char_boundary(MOST_IN_NAME - end.len())])
        }
    };
    temporary.push(end);
    target.with_file_name(temporary)
}

/// Whether a name is one that [`temporary_name`] gives.
pub(crate) fn is_temporary_name(path: &Path) -> bool {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    name.rsplit_once(".partial-").is_some_and(|(_, end)| end.len() == 8 && end.bytes().all(|c| c.is_ascii_hexdigit()))
}

/// A file that nobody counts on, yet or ever.
pub(super) struct Unpublished(pub(super) Arc<FileStorage>);

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
    fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool> {
        self.0.read_at_once(buffer, offset)
    }
    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        self.0.next_data(offset)
    }
    fn allocated(&self) -> Result<u64> {
        self.0.allocated()
    }
    fn medium(&self) -> super::Medium {
        self.0.medium()
    }
    fn stands_at(&self, path: &Path) -> Result<bool> {
        self.0.stands_at(path)
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
    fn let_others_read(&self) -> Result<()> {
        self.0.let_others_read()
    }
    fn as_file(self: Arc<Self>) -> Option<Arc<dyn Any + Send + Sync>> {
        None
    }
    fn keeps_holes(&self) -> bool {
        self.0.keeps_holes()
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
            _ = remove(&self.temporary);
        }
    }
}
