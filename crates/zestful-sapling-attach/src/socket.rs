//! A Unix socket at a path.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};

use rustix::fs::{Gid, Mode, Uid, chmod, chown};
use rustix::net::sockopt::socket_peercred;
use rustix::net::{AddressFamily, SocketAddrUnix, SocketFlags, SocketType, bind, listen, socket_with};

use crate::error::AttachError;

/// A socket that we made, and that goes with us.
#[derive(Debug)]
pub struct UnixSocket {
    pub(crate) listener: UnixListener,
    path: PathBuf,
    /// The host's identity of it, so that nobody else's is removed.
    identity: Option<(u64, u64)>,
}

impl UnixSocket {
    /// Makes a socket that only its owner may open: this user, or the one named (and its group). One that a server left
    /// behind is replaced; where somebody answers, or where something else stands, nothing is touched.
    ///
    /// # Errors
    /// `SocketInUse`, `NotASocket`; `Io`, also when another owner cannot be given.
    pub fn bind(path: &Path, owner: Option<(u32, Option<u32>)>) -> Result<Self, AttachError> {
        let failed = |action: &str, error: io::Error| AttachError::io(format!("{action} {}", path.display()), error);
        // Two servers that find the same dead socket must not both replace it.
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let turn = File::open(folder).map_err(|e| AttachError::io(format!("open {}", folder.display()), e))?;
        _ = turn.lock();
        match std::fs::symlink_metadata(path) {
            Ok(found) if !found.file_type().is_socket() => {
                return Err(AttachError::NotASocket { path: path.to_owned() });
            }
            Ok(_) => match UnixStream::connect(path) {
                Ok(answer) => {
                    return Err(AttachError::SocketInUse { path: path.to_owned(), holder: peer_of(&answer) });
                }
                Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => {
                    std::fs::remove_file(path).map_err(|e| failed("replace", e))?;
                }
                Err(error) => return Err(failed("find out who serves at", error)),
            },
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(failed("look at", error)),
        }
        let address = SocketAddrUnix::new(path).map_err(|e| failed("name a socket", e.into()))?;
        let socket: OwnedFd = socket_with(AddressFamily::UNIX, SocketType::STREAM, SocketFlags::CLOEXEC, None)
            .map_err(|e| failed("make", e.into()))?;
        bind(&socket, &address).map_err(|e| failed("make", e.into()))?;
        let found = std::fs::symlink_metadata(path).map_err(|e| failed("look at", e))?;
        let own = Self {
            listener: UnixListener::from(socket),
            path: path.to_owned(),
            identity: Some((found.dev(), found.ino())),
        };
        // Nobody can connect before it listens: by then it is ours alone.
        chmod(path, Mode::RUSR | Mode::WUSR).map_err(|e| failed("close to others", e.into()))?;
        if let Some((user, group)) = owner {
            chown(path, Some(Uid::from_raw(user)), group.map(Gid::from_raw))
                .map_err(|e| failed("give away", e.into()))?;
        }
        listen(&own.listener, 128).map_err(|e| failed("listen at", e.into()))?;
        Ok(own)
    }

    /// A socket that somebody else made, such as a service manager, and takes away.
    pub fn from_listener(listener: UnixListener) -> Self {
        let path = listener.local_addr().ok().and_then(|address| address.as_pathname().map(Path::to_owned));
        Self { listener, path: path.unwrap_or_default(), identity: None }
    }

    /// Where it stands.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

impl Drop for UnixSocket {
    fn drop(&mut self) {
        let Some(own) = self.identity else { return };
        if std::fs::symlink_metadata(&self.path).is_ok_and(|found| (found.dev(), found.ino()) == own) {
            _ = std::fs::remove_file(&self.path);
        }
    }
}

/// Who is at the other end, for people.
pub(crate) fn peer_of(socket: &UnixStream) -> String {
    let Ok(peer) = socket_peercred(socket) else { return "a process of this host".to_owned() };
    let process = peer.pid.as_raw_nonzero();
    let program = std::fs::read_to_string(format!("/proc/{process}/comm"));
    let program = program.map(|name| format!(" ({})", name.trim())).unwrap_or_default();
    format!("process {process}{program} of user {}", peer.uid.as_raw())
}
