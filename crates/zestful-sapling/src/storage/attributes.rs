//! What a file has beside its content: owner, mode, extended attributes, and how the host keeps it. A file that takes
//! the place of another gets them, or a guest would not start.

use std::fs::File;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use rustix::fs::{IFlags, XattrFlags, getxattr, ioctl_getflags, ioctl_setflags, listxattr, setxattr};
use rustix::io::Errno;

use super::names::set_mode;
use crate::error::{Error, Result};

/// Attributes that speak of the content that a file had, and would be wrong of another.
const OF_CONTENT: [&[u8]; 2] = [b"security.ima", b"security.evm"];
/// Hosts keep no attribute, and no list of names, that is longer.
const MOST_BYTES: usize = 64 << 10;

/// Gives `file` the owner, the mode and the extended attributes of the one whose place it is to take; returns in words
/// what could not be given. Attributes that sign or measure the content are left out.
///
/// # Errors
/// `Io` when the host refuses for another reason than that we may not, or that it knows no such thing there.
pub(crate) fn inherit(from: &Path, file: &Path) -> Result<Vec<String>> {
    let act = || -> io::Result<Vec<String>> {
        let (theirs, own) = (std::fs::metadata(from)?, std::fs::metadata(file)?);
        let mut missing = Vec::new();
        if (theirs.uid(), theirs.gid()) != (own.uid(), own.gid()) {
            match std::os::unix::fs::chown(file, Some(theirs.uid()), Some(theirs.gid())) {
                Err(error) if error.kind() != io::ErrorKind::PermissionDenied => return Err(error),
                Err(_) => missing.push(format!("the owner {}:{}", theirs.uid(), theirs.gid())),
                Ok(()) => {}
            }
        }
        set_mode(file, theirs.permissions())?;
        missing.extend(copy_attributes(from, file)?);
        Ok(missing)
    };
    act().map_err(|e| Error::io("hand owner and mode on to", file, e))
}

fn copy_attributes(from: &Path, file: &Path) -> io::Result<Vec<String>> {
    let mut names = vec![0; MOST_BYTES];
    let Ok(len) = listxattr(from, &mut names) else { return Ok(Vec::new()) };
    let mut missing = Vec::new();
    let wanted = |name: &&[u8]| !name.is_empty() && !OF_CONTENT.contains(name);
    for name in names[..len].split(|byte| *byte == 0).filter(wanted) {
        let told = || format!("the extended attribute {}", String::from_utf8_lossy(name));
        let mut value = vec![0; MOST_BYTES];
        let Ok(len) = getxattr(from, name, &mut value) else {
            missing.push(told());
            continue;
        };
        match setxattr(file, name, &value[..len], XattrFlags::empty()) {
            Ok(()) => {}
            Err(Errno::PERM | Errno::ACCESS | Errno::OPNOTSUPP) => missing.push(told()),
            Err(error) => return Err(error.into()),
        }
    }
    Ok(missing)
}

/// Gives an empty file the other's mark that the host is to write in place, where that has one; returns in words what
/// could not be given.
///
/// # Errors
/// `Io` when one of them cannot be opened.
pub(crate) fn inherit_in_place_mark(from: &Path, file: &Path) -> Result<Option<String>> {
    let open = |path: &Path| File::open(path).map_err(|e| Error::io("open", path, e));
    let is_marked = |file: &File| ioctl_getflags(file).is_ok_and(|flags| flags.contains(IFlags::NOCOW));
    let (theirs, own) = (open(from)?, open(file)?);
    if !is_marked(&theirs) || is_marked(&own) {
        return Ok(None);
    }
    let set = || ioctl_setflags(&own, ioctl_getflags(&own)? | IFlags::NOCOW);
    Ok(set().err().map(|error| format!("the mark that the host writes it in place ({error})")))
}
