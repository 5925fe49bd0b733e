//! A file of the host, with its holes.

use std::any::Any;
use std::collections::HashSet;
use std::fs::{File, OpenOptions};
use std::io::{self, IoSliceMut};
use std::ops::Range;
use std::os::fd::{AsRawFd, RawFd};
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

use jiff::Timestamp;
use rustix::fs::{FallocateFlags, OFlags, SeekFrom, fallocate, seek};
use rustix::io::{ReadWriteFlags, preadv2};

use super::changes::{self, FileChange, HostChange};
use super::names::set_mode;
use super::{Access, HostIdentity, ReadAt, Storage, lock};
use crate::error::{Error, Refusal, Result};

/// A regular file of the host, locked while open.
///
/// The lock is advisory (`flock`): it keeps programs apart that use this library, on one host. Where the file system
/// has no locks the file is opened without.
#[derive(Debug)]
pub struct FileStorage {
    file: File,
    path: PathBuf,
}

/// The handles of this process whose locks keep them apart.
static OURS: LazyLock<Mutex<HashSet<RawFd>>> = LazyLock::new(Mutex::default);

/// Whether a file descriptor of this process is one of ours, which locks keep apart.
pub(super) fn is_ours(number: RawFd) -> bool {
    OURS.lock().unwrap_or_else(PoisonError::into_inner).contains(&number)
}

impl Drop for FileStorage {
    fn drop(&mut self) {
        lock::release(&self.file);
        OURS.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.file.as_raw_fd());
    }
}

/// Opens what stands at `path` for reading, if it is a regular file; `None` when nothing is there. It never waits, as
/// the opening of a named pipe would.
///
/// # Errors
/// `Io`, also when something else stands there.
pub(crate) fn open_regular(path: &Path) -> Result<Option<File>> {
    let file = OpenOptions::new().read(true).custom_flags(OFlags::NONBLOCK.bits().cast_signed()).open(path);
    let file = match file {
        // Beside an image with the longest of names nothing can stand.
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::InvalidFilename) => {
            return Ok(None);
        }
        other => other.map_err(|e| Error::io("open", path, e))?,
    };
    let found = file.metadata().map_err(|e| Error::io("open", path, e))?;
    match found.is_file() {
        true => Ok(Some(file)),
        false => Err(Error::io("open", path, io::Error::other("it is not a regular file"))),
    }
}

impl FileStorage {
    /// A handle of ours on an open file.
    pub(super) fn ours(file: File, path: &Path) -> Self {
        OURS.lock().unwrap_or_else(PoisonError::into_inner).insert(file.as_raw_fd());
        Self { file, path: path.to_owned() }
    }

    /// Opens an existing regular file.
    ///
    /// # Errors
    /// `Io` when the host cannot open it; `Usage` when it is not a regular file; `Refused` when another process holds
    /// it (the message names it where the host tells), or when it is opened for writing and marked read-only.
    pub fn open(path: &Path, access: Access) -> Result<Self> {
        Self::open_with(path, access, true)
    }

    /// The same, without a moment's patience where somebody has it.
    pub(crate) fn open_at_once(path: &Path, access: Access) -> Result<Self> {
        Self::open_with(path, access, false)
    }

    fn open_with(path: &Path, access: Access, patient: bool) -> Result<Self> {
        loop {
            let storage = Self::open_once(path, access, patient)?;
            if access == Access::ReadUnlocked || storage.stands_at(path)? {
                return Ok(storage);
            }
        }
    }

    fn open_once(path: &Path, access: Access, patient: bool) -> Result<Self> {
        let write = matches!(access, Access::Write | Access::AmendMetadata);
        let action = if write { "open for writing" } else { "open" };
        let found = std::fs::metadata(path).map_err(|e| Error::io(action, path, e))?;
        check_regular(&found, path)?;
        let marked = found.permissions().readonly();
        if access == Access::Write && marked {
            return Err(Error::refused(
                Refusal::ReadOnly { path: path.to_owned(), marked: true },
                format!("{} is marked read-only on this host, as parents of other images are", path.display()),
                "write to a child of it instead, or unfreeze it once nothing depends on it",
            ));
        }
        let open = || {
            OpenOptions::new()
                .read(true)
                .write(write)
                // A named pipe put in the file's place must not hang us.
                .custom_flags(OFlags::NONBLOCK.bits().cast_signed())
                .open(path)
        };
        let file = match open() {
            // The owner may lift the mark for as long as it takes to open the file.
            Err(error)
                if error.kind() == io::ErrorKind::PermissionDenied && access == Access::AmendMetadata && marked =>
            {
                with_write_permission(path, found.permissions(), open)
            }
            other => other,
        };
        let file = file.map_err(|e| Error::io(action, path, e))?;
        let opened = Self::ours(file, path);
        check_regular(&opened.file.metadata().map_err(|e| Error::io(action, path, e))?, path)?;
        match access {
            Access::Read => lock::shared(&opened.file, path, patient)?,
            Access::Write | Access::AmendMetadata => lock::exclusive(&opened.file, path)?,
            Access::ReadUnlocked => {}
        }
        Ok(opened)
    }

    /// Says that the file was last changed then.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn set_modified(&self, time: Timestamp) -> Result<()> {
        self.file.set_modified(time.into()).map_err(|e| Error::io("set the time of", &self.path, e))
    }

    /// A file that was created for writing just now.
    pub(super) fn from_new(file: File, path: PathBuf) -> Result<Self> {
        lock::exclusive(&file, &path)?;
        Ok(Self::ours(file, &path))
    }

    fn metadata(&self) -> Result<std::fs::Metadata> {
        self.file.metadata().map_err(|e| self.error("look up", e))
    }

    /// The host's identity of this file, the same under every name.
    ///
    /// # Errors
    /// `Io` when the host cannot tell.
    pub fn host_identity(&self) -> Result<HostIdentity> {
        self.metadata().map(|m| (m.dev(), m.ino()))
    }

    pub(crate) fn forget_cached(&self) {
        _ = rustix::fs::fadvise(&self.file, 0, None, rustix::fs::Advice::DontNeed);
    }

    /// Whether two files of these file systems can share space: tried out on this one, which must still be empty.
    pub(super) fn can_share_with(&self, source: &File) -> bool {
        let shared = rustix::fs::ioctl_ficlone(&self.file, source).is_ok();
        shared && self.file.set_len(0).is_ok()
    }

    pub(super) fn copy_from(&self, source: &File, mut at: u64, mut target_at: u64, mut len: u64) -> Result<()> {
        while len > 0 {
            let step = usize::try_from(len).unwrap_or(usize::MAX).min(1 << 30);
            let copied = rustix::fs::copy_file_range(source, Some(&mut at), &self.file, Some(&mut target_at), step);
            match copied {
                Ok(0) => return Err(self.error("copy into", io::ErrorKind::UnexpectedEof.into())),
                Ok(done) => len -= done as u64,
                Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(self.error("copy into", error.into())),
            }
        }
        Ok(())
    }

    pub(crate) fn reserve(&self, range: Range<u64>) -> Result<()> {
        match fallocate(&self.file, FallocateFlags::empty(), range.start, range.end - range.start) {
            Ok(()) => Ok(()),
            Err(rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::NOSYS) => {
                self.write_zeros(range.start, range.end - range.start)
            }
            Err(error) => Err(self.error(&format!("reserve {} bytes for", range.end - range.start), error.into())),
        }
    }

    /// Has the host set so many bytes aside behind the end, which stays where it is. `false` where the host cannot.
    ///
    /// # Errors
    /// `Io` when it has no room, and then nothing is set aside.
    pub(crate) fn reserve_behind(&self, len: u64) -> Result<bool> {
        let end = self.len()?;
        let reserve = || fallocate(&self.file, FallocateFlags::KEEP_SIZE, end, len).map_err(io::Error::from);
        match self.change(|| FileChange::Reserve(end, len), reserve) {
            Ok(()) => Ok(true),
            Err(error) => match rustix::io::Errno::from_io_error(&error) {
                Some(rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::NOSYS) => Ok(false),
                _ => {
                    self.give_back_behind()?;
                    Err(self.error(&format!("reserve {len} bytes for"), error))
                }
            },
        }
    }

    /// Gives back what the host has set aside behind the end.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn give_back_behind(&self) -> Result<()> {
        self.set_len(self.len()?)
    }

    fn change(&self, what: impl FnOnce() -> FileChange, act: impl FnOnce() -> io::Result<()>) -> io::Result<()> {
        let noted = || {
            let found = self.file.metadata();
            let (file, time) = found.map_or((0, None), |found| (found.ino(), found.modified().ok()));
            HostChange::Content(file, what(), time)
        };
        changes::change(&self.path, noted, act)
    }

    fn error(&self, action: &str, source: io::Error) -> Error {
        Error::io(action, &self.path, source)
    }

    fn seek_to(&self, from: SeekFrom) -> Result<Option<u64>> {
        match seek(&self.file, from) {
            Ok(at) => Ok(Some(at)),
            Err(rustix::io::Errno::NXIO) => Ok(None),
            Err(error) => Err(self.error("look for holes in", error.into())),
        }
    }
}

fn with_write_permission(
    path: &Path,
    marked: std::fs::Permissions,
    open: impl Fn() -> io::Result<File>,
) -> io::Result<File> {
    let mut lifted = marked.clone();
    lifted.set_mode(lifted.mode() | 0o200);
    set_mode(path, lifted)?;
    let file = open();
    set_mode(path, marked)?;
    file
}

fn check_regular(found: &std::fs::Metadata, path: &Path) -> Result<()> {
    if found.is_file() {
        return Ok(());
    }
    let what = if found.is_dir() { "is a folder" } else { "is not a regular file" };
    Err(Error::usage(format!("{} {what}", path.display()), "name the file of an image"))
}

impl ReadAt for FileStorage {
    fn path(&self) -> &Path {
        &self.path
    }

    fn len(&self) -> Result<u64> {
        self.metadata().map(|m| m.len())
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        self.file.read_exact_at(buffer, offset).map_err(|error| {
            let error = match error.kind() {
                io::ErrorKind::UnexpectedEof => io::Error::new(error.kind(), "the file ends before"),
                _ => error,
            };
            self.error(&format!("read {} bytes at byte {offset} of", buffer.len()), error)
        })
    }

    fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool> {
        let wanted = buffer.len();
        match preadv2(&self.file, &mut [IoSliceMut::new(buffer)], offset, ReadWriteFlags::NOWAIT) {
            Ok(len) => Ok(len == wanted),
            // Where the host cannot tell, most of what is read often is in memory all the same.
            Err(rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::NOSYS) => self.read_at(buffer, offset).map(|()| true),
            Err(_) => Ok(false),
        }
    }

    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        let len = self.len()?;
        if offset >= len {
            return Ok(None);
        }
        let Some(start) = self.seek_to(SeekFrom::Data(offset))? else { return Ok(None) };
        let end = self.seek_to(SeekFrom::Hole(start))?.unwrap_or(len);
        Ok(Some(start..end.max(start + 1)))
    }

    fn allocated(&self) -> Result<u64> {
        self.metadata().map(|m| m.blocks() * 512)
    }

    /// A lock taken on a file that was swapped away meanwhile protects nothing.
    fn stands_at(&self, path: &Path) -> Result<bool> {
        let held = self.metadata()?;
        match std::fs::metadata(path) {
            Ok(there) => Ok((held.dev(), held.ino()) == (there.dev(), there.ino())),
            Err(error) => Err(Error::io("open", path, error)),
        }
    }
}

impl Storage for FileStorage {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.change(|| FileChange::Write(offset, bytes.to_vec()), || self.file.write_all_at(bytes, offset))
            .map_err(|e| self.error(&format!("write {} bytes at byte {offset} of", bytes.len()), e))
    }

    fn set_len(&self, len: u64) -> Result<()> {
        self.change(|| FileChange::SetLen(len), || self.file.set_len(len))
            .map_err(|e| self.error(&format!("set the length to {len} bytes of"), e))
    }

    fn sync(&self) -> Result<()> {
        self.change(|| FileChange::Sync, || self.file.sync_all()).map_err(|e| self.error("sync", e))
    }

    fn let_others_read(&self) -> Result<()> {
        lock::shared_at_last(&self.file, &self.path)
    }

    fn as_file(self: Arc<Self>) -> Option<Arc<dyn Any + Send + Sync>> {
        Some(self)
    }

    fn keeps_holes(&self) -> bool {
        let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        // Behind the end of the file there is nothing that could change.
        self.len().is_ok_and(|len| fallocate(&self.file, flags, len, 1).is_ok())
    }

    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        if len == 0 {
            return Ok(());
        }
        let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        let punch = || fallocate(&self.file, flags, offset, len).map_err(io::Error::from);
        match self.change(|| FileChange::Punch(offset, len), punch) {
            Ok(()) => Ok(()),
            Err(error) => match rustix::io::Errno::from_io_error(&error) {
                Some(rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::NOSYS) => self.write_zeros(offset, len),
                _ => Err(self.error("punch a hole in", error)),
            },
        }
    }
}
