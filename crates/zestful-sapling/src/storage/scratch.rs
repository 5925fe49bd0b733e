//! Space for what is forgotten in the end.

use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;

use rustix::fs::OFlags;

use super::Storage;
use super::file::FileStorage;
use super::staged::{Unpublished, temporary_name};
use crate::error::{Error, Result};

/// A file in this folder without a name, which is gone with its last handle, however the program ends. A sync of it
/// does nothing: there is nothing to protect.
///
/// # Errors
/// `Io` when the folder is missing or cannot be written to.
pub(crate) fn scratch_in(folder: &Path) -> Result<Arc<dyn Storage>> {
    let file = nameless(folder).map_err(|e| Error::io("make a scratch file in", folder, e))?;
    Ok(Arc::new(Unpublished(Arc::new(FileStorage::ours(file, &folder.join("(scratch)"))))))
}

fn nameless(folder: &Path) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.read(true).write(true).mode(0o600);
    match options.clone().custom_flags(OFlags::TMPFILE.bits().cast_signed()).open(folder) {
        // Not every file system has files without names.
        Err(error) if rustix::io::Errno::from_io_error(&error) == Some(rustix::io::Errno::OPNOTSUPP) => {
            let path = temporary_name(&folder.join("scratch"));
            let file = options.create_new(true).open(&path)?;
            std::fs::remove_file(&path).map(|()| file)
        }
        other => other,
    }
}
