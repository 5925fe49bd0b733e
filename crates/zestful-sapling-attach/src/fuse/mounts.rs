//! What is mounted on this host, as far as our folders are concerned.

use std::ffi::{OsStr, OsString};
use std::fs::{File, TryLockError};
use std::io;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::process::Command;

use rustix::fs::{Mode, OFlags, open};
use rustix::io::Errno;
use rustix::mount::UnmountFlags;
use rustix::process::geteuid;

use crate::error::{AttachError, MountProblem};

/// How our mounts are told from others: before the image's name, in their source.
const SOURCE: &str = "zsap:";

/// Something that is mounted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Mount {
    pub(crate) point: PathBuf,
    /// The device number, as the host writes it.
    pub(super) device: String,
    kind: String,
    source: OsString,
    /// Who mounted it, if it is one of a user.
    pub(crate) user: Option<u32>,
}

impl Mount {
    /// Whether it is one of ours whose process is gone.
    pub(crate) fn is_dead(&self) -> bool {
        let is_ours = self.kind.starts_with("fuse") && self.source.as_bytes().starts_with(SOURCE.as_bytes());
        is_ours && is_dead(&self.point)
    }

    /// The image, of one of ours.
    pub(crate) fn image(&self) -> PathBuf {
        PathBuf::from(OsStr::from_bytes(self.source.as_bytes().strip_prefix(SOURCE.as_bytes()).unwrap_or_default()))
    }
}

/// The source of a mount for this image. The helper of the host divides its options at commas.
pub(super) fn source_of(image: &Path) -> String {
    let path = std::path::absolute(image).unwrap_or_else(|_| image.to_owned());
    format!("{SOURCE}{}", path.to_string_lossy().replace([',', '\\'], "_"))
}

fn is_dead(folder: &Path) -> bool {
    std::fs::metadata(folder).is_err_and(|error| error.raw_os_error() == Some(Errno::NOTCONN.raw_os_error()))
}

/// All that is mounted, in the order in which it was.
///
/// # Errors
/// What the host says.
pub(crate) fn mounts() -> io::Result<Vec<Mount>> {
    let told = std::fs::read("/proc/self/mountinfo")?;
    Ok(told.split(|byte| *byte == b'\n').filter_map(parse).collect())
}

/// Number, parent, device, root, point, options, then fields up to a dash, then kind, source, options of the kind.
fn parse(line: &[u8]) -> Option<Mount> {
    let mut words = line.split(|byte| *byte == b' ');
    let device = String::from_utf8_lossy(words.nth(2)?).into_owned();
    let point = PathBuf::from(plain(words.nth(1)?));
    let mut rest = words.skip_while(|word| *word != b"-").skip(1);
    let kind = String::from_utf8_lossy(rest.next()?).into_owned();
    let source = plain(rest.next()?);
    let options = String::from_utf8_lossy(rest.next()?).into_owned();
    let user = options.split(',').find_map(|option| option.strip_prefix("user_id=")?.parse().ok());
    Some(Mount { point, device, kind, source, user })
}

/// Spaces and other signs that divide are written as three octal digits.
fn plain(word: &[u8]) -> OsString {
    let (mut bytes, mut at) = (Vec::with_capacity(word.len()), 0);
    while let Some(byte) = word.get(at) {
        let digits =
            word.get(at + 1..at + 4).filter(|_| *byte == b'\\').and_then(|digits| std::str::from_utf8(digits).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(meant) => {
                bytes.push(meant);
                at += 4;
            }
            None => {
                bytes.push(*byte);
                at += 1;
            }
        }
    }
    OsString::from_vec(bytes)
}

/// A folder in which a disk can be shown. Until this is dropped, nobody else gets it: two who look at the same moment
/// would mount one over the other.
pub(super) struct Wanted {
    pub(super) path: PathBuf,
    _lock: Option<File>,
}

/// Takes a folder, if a disk can be shown in it.
///
/// # Errors
/// `MountFolder`; `Io`.
pub(super) fn take_folder(folder: &Path) -> Result<Wanted, AttachError> {
    // What cannot be opened is told by the look that follows; it also finds what was mounted before the lock was had.
    let lock = open(folder, OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty()).ok().map(File::from);
    // Where a file system has no locks for folders, nobody can tell, and it is taken without.
    if lock.as_ref().is_some_and(|lock| matches!(lock.try_lock(), Err(TryLockError::WouldBlock))) {
        return Err(AttachError::MountFolder { path: folder.to_owned(), problem: MountProblem::Wanted });
    }
    Ok(Wanted { path: check_folder(folder)?, _lock: lock })
}

fn check_folder(folder: &Path) -> Result<PathBuf, AttachError> {
    let wrong = |problem| AttachError::MountFolder { path: folder.to_owned(), problem };
    if is_dead(folder) {
        return Err(wrong(MountProblem::Dead));
    }
    let real = match folder.canonicalize() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(wrong(MountProblem::Missing)),
        other => other.map_err(|error| AttachError::io(format!("look at {}", folder.display()), error))?,
    };
    if !real.is_dir() {
        return Err(wrong(MountProblem::NotAFolder));
    }
    let mounts = mounts().map_err(|error| AttachError::io("read what is mounted", error))?;
    if mounts.iter().any(|mount| mount.point == real) {
        return Err(wrong(MountProblem::Mounted));
    }
    let mut entries =
        std::fs::read_dir(&real).map_err(|error| AttachError::io(format!("list {}", folder.display()), error))?;
    match entries.next() {
        Some(_) => Err(wrong(MountProblem::NotEmpty)),
        None => Ok(real),
    }
}

/// Takes a mount away; `lazily` whoever uses it, and then it is gone for all who come later.
///
/// # Errors
/// What the host says: `ResourceBusy` when somebody uses it.
pub(crate) fn unmount(folder: &Path, lazily: bool) -> io::Result<()> {
    if geteuid().is_root() {
        let flags = if lazily { UnmountFlags::DETACH } else { UnmountFlags::empty() };
        return rustix::mount::unmount(folder, flags | UnmountFlags::NOFOLLOW).map_err(io::Error::from);
    }
    // The host's helper may what a user may not.
    let helper = if helper().is_some() { "fusermount3" } else { "fusermount" };
    let output =
        Command::new(helper).args(if lazily { &["-u", "-z"][..] } else { &["-u"] }).arg("--").arg(folder).output()?;
    if output.status.success() {
        return Ok(());
    }
    let told = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    let kind = if told.contains("busy") { io::ErrorKind::ResourceBusy } else { io::ErrorKind::Other };
    Err(io::Error::new(kind, told))
}

/// The helper with which the host lets users who are not root mount.
pub(super) fn helper() -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let folders = std::env::split_paths(&path).chain(["/bin", "/usr/bin"].map(PathBuf::from));
    folders.map(|folder| folder.join("fusermount3")).find(|program| program.is_file())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_is_taken_by_one() {
        let folder = tempfile::tempdir().unwrap();
        let first = take_folder(folder.path()).unwrap();
        let is_wanted = |result: Result<Wanted, AttachError>| {
            matches!(result, Err(AttachError::MountFolder { problem: MountProblem::Wanted, .. }))
        };
        assert!(is_wanted(take_folder(folder.path())));
        drop(first);
        assert_eq!(take_folder(folder.path()).unwrap().path, folder.path().canonicalize().unwrap());
    }

    #[test]
    fn what_the_host_tells_of_mounts_is_read() {
        let lines =
            b"36 35 98:0 / /mnt/fen\\040seeds rw master:1 - fuse zsap:/srv/a\\134b.vhdx rw,user_id=7,group_id=0\n\
                      37 35 7:3 / /mnt/herbarium rw - ext4 /dev/loop3 rw\nnonsense\n";
        let found: Vec<Mount> = lines.split(|byte| *byte == b'\n').filter_map(parse).collect();
        assert_eq!(found.len(), 2);
        assert_eq!(found[0].point, Path::new("/mnt/fen seeds"));
        assert_eq!((found[0].image(), found[0].user), (PathBuf::from("/srv/a\\b.vhdx"), Some(7)));
        assert_eq!((&*found[1].device, found[1].source.as_os_str()), ("7:3", OsStr::new("/dev/loop3")));
        assert!(!found[1].is_dead());
        assert_eq!(source_of(Path::new("/srv/a,b.vhdx")), "zsap:/srv/a_b.vhdx");
    }
}
