//! What tells a file of the host from a copy of it.

use std::path::Path;

use jiff::Timestamp;
use rustix::fs::{AtFlags, CWD, StatxFlags, statx};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::error::{Error, Result};

/// The number of a file or folder in its file system, and when it came to be, where the host knows.
///
/// It stays the same when the file is renamed and when the host restarts; a copy has another one. The device is left
/// out on purpose: its number may change at each start of the host.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
#[non_exhaustive]
pub struct FileId {
    /// The inode.
    pub inode: u64,
    /// When it was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub born: Option<Timestamp>,
}

impl FileId {
    /// The identity of what stands at `path`, links followed.
    ///
    /// # Errors
    /// `Io` when nothing is there.
    pub fn of(path: &Path) -> Result<Self> {
        let wanted = StatxFlags::INO | StatxFlags::BTIME;
        let found = statx(CWD, path, AtFlags::empty(), wanted).map_err(|e| Error::io("look up", path, e.into()))?;
        let has_birth = found.stx_mask & StatxFlags::BTIME.bits() != 0;
        let born = has_birth.then(|| {
            let nanoseconds = i32::try_from(found.stx_btime.tv_nsec).unwrap_or(0);
            Timestamp::new(found.stx_btime.tv_sec, nanoseconds).ok()
        });
        Ok(Self { inode: found.stx_ino, born: born.flatten() })
    }
}
