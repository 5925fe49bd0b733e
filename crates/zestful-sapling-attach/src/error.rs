//! What can go wrong before anybody has the disk, and at its end.

use std::io;
use std::path::{Path, PathBuf};

/// Why a disk cannot be attached, or not go on to be.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AttachError {
    /// Somebody answers at this socket already.
    #[error("{holder} serves at {} already; end that first, or choose another socket", path.display())]
    SocketInUse {
        /// The socket.
        path: PathBuf,
        /// Who answers there.
        holder: String,
    },
    /// Something else than a socket stands there.
    #[error("{} is there already and is no socket, so it stays; choose another name", path.display())]
    NotASocket {
        /// What stands there.
        path: PathBuf,
    },
    /// A certificate or a key cannot be used.
    #[error("{} is of no use for TLS: {reason}", path.display())]
    Certificate {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        reason: String,
    },
    /// A folder in which nothing can be shown.
    #[error("{} {problem}", path.display())]
    MountFolder {
        /// The folder.
        path: PathBuf,
        /// What is wrong with it, and what to do.
        problem: MountProblem,
    },
    /// The host has no files in user space, or gives them to root alone.
    #[error(
        "this host does not let the disk be shown as a file: {reason}; serve it instead, to a client of the \
             network block device protocol"
    )]
    NoFuse {
        /// Why, in words.
        reason: String,
    },
    /// Another user made what should be ours.
    #[error("{} belongs to user {owner}, so nothing there is trusted", path.display())]
    NotOurs {
        /// What it is.
        path: PathBuf,
        /// Whose it is.
        owner: u32,
    },
    /// The disk itself.
    #[error(transparent)]
    Disk(#[from] zestful_sapling::Error),
    /// The host refuses.
    #[error("cannot {action}: {source}")]
    Io {
        /// What was tried.
        action: String,
        /// What the host says.
        #[source]
        source: io::Error,
    },
}

impl AttachError {
    pub(crate) fn io(action: impl Into<String>, source: impl Into<io::Error>) -> Self {
        Self::Io { action: action.into(), source: source.into() }
    }

    pub(crate) fn certificate(path: &Path, reason: impl std::fmt::Display) -> Self {
        Self::Certificate { path: path.to_owned(), reason: reason.to_string() }
    }
}

/// What is wrong with a folder in which a disk is to be shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum MountProblem {
    /// Nothing is there.
    #[error("is not there; make the folder first")]
    Missing,
    /// Something else is there.
    #[error("is no folder")]
    NotAFolder,
    /// What is in it would be hidden.
    #[error("is not empty, and what is in it would be hidden; name an empty folder")]
    NotEmpty,
    /// What is mounted there would be hidden.
    #[error("has something mounted on it already; name another folder")]
    Mounted,
    /// Two would hide each other.
    #[error("is being mounted on by another process at this moment; name another folder")]
    Wanted,
    /// The process that showed something there is gone.
    #[error("is the dead mount of a process that was killed; detach it first")]
    Dead,
}
