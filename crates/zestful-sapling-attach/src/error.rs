//! What can go wrong before anybody is served.

use std::io;
use std::path::{Path, PathBuf};

/// Why a server cannot begin.
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
