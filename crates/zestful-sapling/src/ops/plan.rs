//! What a change would do, as plain data.

use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::error::{Error, Refusal, Result};
use crate::size::format_size;
use crate::storage::{folder_of, free_space};

/// What an operation would do. Sizes are in bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Plan {
    /// The operation's name.
    pub operation: &'static str,
    /// What happens, in order.
    pub steps: Vec<String>,
    /// The files it touches.
    pub files: FileChanges,
    /// Bytes that will be read at most.
    pub bytes_read: u64,
    /// Bytes that will be written at most.
    pub bytes_written: u64,
    /// Space that the host must have for it at the worst moment.
    pub peak_extra_space: u64,
    /// What the user should know before.
    pub warnings: Vec<String>,
}

/// The files that an operation touches.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct FileChanges {
    /// New files.
    #[serde(serialize_with = "crate::lossy::text")]
    pub create: Vec<PathBuf>,
    /// Files whose content or mode changes.
    #[serde(serialize_with = "crate::lossy::text")]
    pub change: Vec<PathBuf>,
    /// Files that get another name: from, to.
    #[serde(serialize_with = "crate::lossy::text")]
    pub rename: Vec<(PathBuf, PathBuf)>,
    /// Files that vanish.
    #[serde(serialize_with = "crate::lossy::text")]
    pub remove: Vec<PathBuf>,
}

impl Plan {
    /// Refuses when the folder of `target` cannot hold `needed` more bytes.
    pub(super) fn require_space(target: &Path, needed: u64) -> Result<()> {
        let free = free_space(&folder_of(target))?;
        if needed <= free {
            return Ok(());
        }
        Err(Error::refused(
            Refusal::NoSpace { path: target.to_owned(), needed, free },
            format!(
                "{} may need {}, but the host has {} free there",
                target.display(),
                format_size(needed),
                format_size(free)
            ),
            "make room, or choose a folder on another file system",
        ))
    }

    /// Warns when new disks of this size could outgrow the host together.
    pub(super) fn warn_of_growth(&mut self, target: &Path, virtual_size: u64, disks: usize) -> Result<()> {
        let free = free_space(&folder_of(target))?;
        let most = virtual_size.saturating_mul(disks as u64);
        if most > free {
            let what = if disks == 1 { "the disk".to_owned() } else { format!("the {disks} disks together") };
            self.warnings.push(format!(
                "{what} can grow to {}, the host has {} free: watch it, or make it smaller",
                format_size(most),
                format_size(free)
            ));
        }
        Ok(())
    }
}
