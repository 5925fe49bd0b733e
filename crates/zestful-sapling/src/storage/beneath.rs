//! A folder of the host in which things are made that somebody else has named: by handles, never by paths, so that no
//! name and no link leads out of it, whatever others do there meanwhile.

use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags, ResolveFlags, Timespec, Timestamps, UTIME_OMIT};
use rustix::io::Errno;

use super::changes::{self, HostChange};
use crate::bytes::data_runs;
use crate::error::{Error, Result};

/// Zeros of this length, at places that are multiples of it, become holes.
const GRAIN: usize = 4096;
/// A path that the host takes in one call.
const MOST_PATH: usize = 4000;
const FOLDER: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

/// A folder, held open.
#[derive(Debug)]
pub(crate) struct Beneath {
    handle: OwnedFd,
    path: PathBuf,
}

fn beneath() -> ResolveFlags {
    ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS
}

impl Beneath {
    /// The folder at a path that the user has named, which may lead through links.
    pub(crate) fn open(path: &Path) -> Result<Self> {
        let handle = rustix::fs::open(path, FOLDER, Mode::empty());
        let handle = handle.map_err(|e| Error::io("open the folder", path, e.into()))?;
        Ok(Self { handle, path: path.to_owned() })
    }

    /// The folder that these names lead to.
    pub(crate) fn descend<'a>(&self, names: impl Iterator<Item = &'a [u8]>) -> Result<Self> {
        let mut here = self.again()?;
        let mut step: Vec<u8> = Vec::new();
        for name in names {
            if step.len() + name.len() + 1 > MOST_PATH {
                here = here.step(&step)?;
                step.clear();
            }
            if !step.is_empty() {
                step.push(b'/');
            }
            step.extend(name);
        }
        if step.is_empty() { Ok(here) } else { here.step(&step) }
    }

    /// A name of something in this folder itself. Calls that make something take any path for a name, and follow it.
    fn own<'n>(&self, name: &'n [u8]) -> Result<&'n [u8]> {
        let is_one = !name.is_empty() && name != b"." && name != b".." && !name.contains(&b'/') && !name.contains(&0);
        match is_one {
            true => Ok(name),
            false => Err(Error::io("create", &self.path_of(name), ErrorKind::InvalidFilename.into())),
        }
    }

    fn again(&self) -> Result<Self> {
        let handle = self.handle.try_clone().map_err(|e| Error::io("open the folder", &self.path, e))?;
        Ok(Self { handle, path: self.path.clone() })
    }

    fn step(&self, step: &[u8]) -> Result<Self> {
        let path = self.path_of(step);
        let handle = rustix::fs::openat2(&self.handle, step, FOLDER, Mode::empty(), beneath());
        let handle = handle.map_err(|e| Error::io("open the folder", &path, e.into()))?;
        Ok(Self { handle, path })
    }

    /// For messages.
    pub(crate) fn path_of(&self, name: &[u8]) -> PathBuf {
        self.path.join(OsStr::from_bytes(name))
    }

    /// Whether anything has this name.
    pub(crate) fn has(&self, name: &[u8]) -> Result<bool> {
        match rustix::fs::statat(&self.handle, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(_) => Ok(true),
            Err(Errno::NOENT) => Ok(false),
            Err(error) => Err(Error::io("look up", &self.path_of(name), error.into())),
        }
    }

    /// A new folder in it, last changed then. Its owner can always work in it.
    pub(crate) fn make_folder(&self, name: &[u8], permissions: u16, modified: Option<Timestamp>) -> Result<()> {
        let (name, path) = (self.own(name)?, self.path_of(name));
        let mode = Mode::from_raw_mode(u32::from(permissions & 0o777 | 0o700));
        let make = || Ok(rustix::fs::mkdirat(&self.handle, name, mode)?);
        changes::change(&path, || changes::created_folder(&path), make).map_err(|e| Error::io("create", &path, e))?;
        match modified {
            Some(time) => self.step(name)?.set_modified(time),
            None => Ok(()),
        }
    }

    /// A new link in it, last changed then; what it leads to is not looked at.
    pub(crate) fn make_link(&self, name: &[u8], target: &[u8], modified: Option<Timestamp>) -> Result<()> {
        let (name, path) = (self.own(name)?, self.path_of(name));
        let make = || Ok(rustix::fs::symlinkat(target, &self.handle, name)?);
        changes::change(&path, || changes::created(&path), make).map_err(|e| Error::io("create", &path, e))?;
        if let Some(time) = modified {
            let set = rustix::fs::utimensat(&self.handle, name, &times(time), AtFlags::SYMLINK_NOFOLLOW);
            set.map_err(|e| Error::io("set the time of", &path, e.into()))?;
        }
        Ok(())
    }

    /// A new file in it, which has no name yet.
    pub(crate) fn begin_file(&self, name: &[u8], permissions: u16) -> Result<NewFile> {
        let (name, path) = (self.own(name)?, self.path_of(name));
        let mode = Mode::from_raw_mode(u32::from(permissions & 0o777));
        let nameless = OFlags::RDWR | OFlags::TMPFILE | OFlags::CLOEXEC;
        let again = self.again()?;
        let (file, temporary) = match rustix::fs::openat(&self.handle, ".", nameless, mode) {
            Ok(file) => (file, None),
            // Not every file system has files without names.
            Err(Errno::OPNOTSUPP | Errno::ISDIR | Errno::INVAL | Errno::NOENT) => {
                let temporary = format!(".partial-{}", uuid::Uuid::new_v4().simple());
                let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                let file = rustix::fs::openat(&self.handle, &*temporary, flags, mode);
                (file.map_err(|e| Error::io("create", &path, e.into()))?, Some(temporary))
            }
            Err(error) => return Err(Error::io("create", &path, error.into())),
        };
        Ok(NewFile { file: file.into(), folder: again, name: name.to_vec(), path, temporary })
    }

    /// When it was last changed.
    pub(crate) fn modified(&self) -> Result<Timestamp> {
        let found = rustix::fs::fstat(&self.handle).map_err(|e| Error::io("look up", &self.path, e.into()))?;
        let time = Timestamp::new(found.st_mtime, i32::try_from(found.st_mtime_nsec).unwrap_or(0));
        Ok(time.unwrap_or_default())
    }

    pub(crate) fn set_modified(&self, time: Timestamp) -> Result<()> {
        let set = rustix::fs::futimens(&self.handle, &times(time));
        set.map_err(|e| Error::io("set the time of", &self.path, e.into()))
    }

    /// Has the host put on its disk all that was made on this file system.
    pub(crate) fn sync_all(&self) -> Result<()> {
        rustix::fs::syncfs(self.handle.as_fd()).map_err(|e| Error::io("sync what was written to", &self.path, e.into()))
    }
}

fn times(modified: Timestamp) -> Timestamps {
    let seconds = modified.as_nanosecond().div_euclid(1_000_000_000);
    let rest = modified.as_nanosecond().rem_euclid(1_000_000_000);
    Timestamps {
        last_access: Timespec { tv_sec: 0, tv_nsec: UTIME_OMIT },
        last_modification: Timespec {
            tv_sec: i64::try_from(seconds).unwrap_or(0),
            tv_nsec: i64::try_from(rest).unwrap_or(0),
        },
    }
}

/// A file that is not there yet: dropped before [`NewFile::publish`], nothing is left of it.
#[derive(Debug)]
pub(crate) struct NewFile {
    file: File,
    folder: Beneath,
    name: Vec<u8>,
    path: PathBuf,
    /// Its name until then, where the file system has no files without one.
    temporary: Option<String>,
}

impl NewFile {
    /// Writes what is not zero.
    pub(crate) fn write_at(&self, bytes: &[u8], at: u64) -> Result<()> {
        for run in data_runs(bytes, GRAIN) {
            let place = at + run.start as u64;
            self.file.write_all_at(&bytes[run], place).map_err(|e| Error::io("write to", &self.path, e))?;
        }
        Ok(())
    }

    /// Has the host put on its disk what was written so far.
    pub(crate) fn sync_so_far(&self) -> Result<()> {
        self.file.sync_data().map_err(|e| Error::io("sync", &self.path, e))
    }

    /// Gives it its length, its time and its name, which nothing may have.
    pub(crate) fn publish(mut self, len: u64, modified: Option<Timestamp>) -> Result<()> {
        self.file.set_len(len).map_err(|e| Error::io("set the length of", &self.path, e))?;
        if let Some(time) = modified {
            let set = rustix::fs::futimens(&self.file, &times(time));
            set.map_err(|e| Error::io("set the time of", &self.path, e.into()))?;
        }
        let name = &self.name[..];
        let give = || -> io::Result<()> {
            match &self.temporary {
                None => {
                    let file = format!("/proc/self/fd/{}", self.file.as_raw_fd());
                    let follow = AtFlags::SYMLINK_FOLLOW;
                    Ok(rustix::fs::linkat(rustix::fs::CWD, file, &self.folder.handle, name, follow)?)
                }
                Some(temporary) => {
                    let (folder, alone) = (&self.folder.handle, RenameFlags::NOREPLACE);
                    Ok(rustix::fs::renameat_with(folder, &**temporary, folder, name, alone)?)
                }
            }
        };
        let path = self.path.clone();
        changes::change(&path, || HostChange::Create(path.clone(), 0), give)
            .map_err(|e| Error::io("create", &path, e))?;
        self.temporary = None;
        Ok(())
    }
}

impl Drop for NewFile {
    fn drop(&mut self) {
        if let Some(temporary) = &self.temporary {
            _ = rustix::fs::unlinkat(&self.folder.handle, &**temporary, AtFlags::empty());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_made_outside() {
        let outer = tempfile::tempdir().unwrap();
        let (inner, away) = (outer.path().join("in"), outer.path().join("away"));
        std::fs::create_dir(&inner).unwrap();
        std::fs::create_dir(&away).unwrap();
        std::os::unix::fs::symlink(&away, inner.join("link")).unwrap();
        std::os::unix::fs::symlink("nowhere", inner.join("loose")).unwrap();
        let folder = Beneath::open(&inner).unwrap();
        for name in [&b"../x"[..], b"..", b".", b"", b"a/b", b"/x", b"link/x", b"a\0b"] {
            let made = [
                folder.make_folder(name, 0o755, None),
                folder.make_link(name, b"x", None),
                folder.begin_file(name, 0o644).and_then(|file| file.publish(0, None)),
            ];
            assert!(made.iter().all(Result::is_err), "{name:?}");
        }
        // A link in its place is neither followed nor overwritten, and no way leads through one.
        assert!(folder.begin_file(b"loose", 0o644).unwrap().publish(0, None).is_err());
        for way in [&[&b"link"[..]][..], &[b".."], &[b"link", b".."]] {
            assert!(folder.descend(way.iter().copied()).is_err(), "{way:?}");
        }
        assert_eq!(std::fs::read_dir(&away).unwrap().count(), 0);
        assert_eq!(std::fs::read_dir(outer.path()).unwrap().count(), 2);
        assert_eq!(std::fs::read_dir(&inner).unwrap().count(), 2, "nothing is left of what was begun");
    }
}
