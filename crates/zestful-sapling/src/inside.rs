//! What can be wrong with what lies inside a disk.

use std::path::PathBuf;

/// Why something inside a disk could not be had.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InsideProblem {
    /// The current image of the disk.
    pub disk: PathBuf,
    /// The volume, counted from 1 in the order of the table.
    pub volume: u32,
    /// The path inside the volume, if it is about one.
    pub path: Option<String>,
    /// What it is.
    pub kind: InsideProblemKind,
}

/// What it is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum InsideProblemKind {
    /// Nothing has that name.
    #[error(
        "there is nothing of that name in {inside}; it may have another name there, or another volume or checkpoint \
         may have it"
    )]
    NotFound {
        /// The folder that was looked through last.
        inside: String,
    },
    /// A part of the path is no folder.
    #[error("{0} is no folder")]
    NotAFolder(String),
    /// A folder where a file was asked for.
    #[error("it is a folder, where one file was asked for")]
    IsAFolder,
    /// A part of the path is a link, which is not followed.
    #[error("{0} is a link to {1}, and links are not followed: name what it leads to")]
    IsALink(String, String),
    /// No file: a device, a pipe, a socket, or what only its guest can read.
    #[error("it is no file that has a content")]
    NotAFile,
    /// The file system is one whose files are not read.
    #[error("the files of {0} are not read here: mount the volume on this host, or read it in its guest")]
    NotRead(String),
    /// Nothing is known of what the volume holds.
    #[error("it holds no file system that is known: it may be empty, or encrypted")]
    Unknown,
    /// It needs something that is not known here.
    #[error("{0}: read it in its guest, or mount the volume on this host")]
    Unsupported(String),
    /// A deleted file of which nothing is left.
    #[error("it was deleted, and is lost: {0}; an older copy of the disk may hold it")]
    Lost(&'static str),
    /// What its bitmap marks as free may be in use.
    #[error(
        "what is free in it is not certain: {0}; shut the guest down in order, or have its own checker look at the \
         volume"
    )]
    NotTrusted(String),
    /// It breaks the rules of its file system.
    #[error("damaged: {0}; what can be read can still be taken out, and the guest's own checker may mend it")]
    Damaged(String),
}

impl std::fmt::Display for InsideProblem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if let Some(path) = &self.path {
            write!(f, "{path} in ")?;
        }
        write!(f, "volume {} of {}: {}", self.volume, self.disk.display(), self.kind)
    }
}
