//! Which process has handed an image on to others.
//!
//! A lock tells who has a file, and nothing of what for: every layer below a disk is locked, and every command that
//! looks at one. Whoever serves a disk to others therefore says so, in a place that needs no cleaning up after a kill:
//! in the name of a file in memory that the process keeps open.

use std::fs::Metadata;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use rustix::fs::{MemfdFlags, memfd_create};

use crate::error::{Error, Result};

/// What is said for as long as it lives: this process serves an image to others. `show`, `tree` and `status` then tell
/// it, also of an image that is only read.
#[derive(Debug)]
pub struct Attachment {
    _said: Option<OwnedFd>,
}

impl Attachment {
    /// Of what stands at `path`. A host that has no files in memory is not told.
    ///
    /// # Errors
    /// `Io` when nothing is there.
    pub fn of(path: &Path) -> Result<Self> {
        let found = std::fs::metadata(path).map_err(|e| Error::io("look up", path, e))?;
        Ok(Self { _said: memfd_create(name_of(&found), MemfdFlags::CLOEXEC).ok() })
    }
}

fn name_of(found: &Metadata) -> String {
    format!("attached-disk-{}-{}", found.dev(), found.ino())
}

/// Whether a process says so of this file. Of the processes of other users only root sees it.
pub(super) fn is_attached_by(process: u32, found: &Metadata) -> bool {
    let wanted = format!("/memfd:{} (deleted)", name_of(found));
    let files = std::fs::read_dir(format!("/proc/{process}/fd")).into_iter().flatten().flatten();
    files.filter_map(|file| std::fs::read_link(file.path()).ok()).any(|name| name == Path::new(&wanted))
}
