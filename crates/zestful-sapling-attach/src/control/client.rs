//! What is attached on this host, and its end.

use std::ffi::OsStr;
use std::io::{self, ErrorKind, Write};
use std::os::unix::fs::MetadataExt;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use rustix::net::sockopt::socket_peercred;
use rustix::process::geteuid;
use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::path_data::PathData;

use super::protocol::{Answer, Ask, Description, MOST_ANSWERED, PROTOCOL, Question, read_line};
use super::runtime::all_folders;
use super::server::ENDING;
use crate::error::AttachError;
use crate::front::{InUse, Mode, Place};
use crate::fuse::{Mount, holders_of, mounts, unmount};

/// How long a process may take to tell of itself.
const PATIENCE: Duration = Duration::from_secs(5);
/// How long it may take to make a disk durable and tidy.
const LONG_PATIENCE: Duration = Duration::from_secs(3600);

/// A loop device lets go of its file a moment after the end of its mount.
const LETTING_GO: Duration = Duration::from_millis(1500);
/// Of one user so many are looked at.
const MOST_SOCKETS: usize = 256;

/// How somebody who should have a disk attached is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum AttachedState {
    /// It is there.
    Live,
    /// The process is gone and has left its mount; [`detach`] clears it.
    Dead,
    /// The process is there and does not answer.
    Silent,
}

/// A disk, or a folder of images, that is attached.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Attached {
    /// How it is.
    pub state: AttachedState,
    /// The image, or the folder of images, as far as it is known.
    pub path: Option<PathData>,
    /// How others may use it.
    pub mode: Option<Mode>,
    /// Where others find it.
    pub place: Option<Place>,
    /// What people read about it.
    pub description: Option<String>,
    /// The process that has it attached.
    pub process: Option<u32>,
    /// The user of that process.
    pub user: Option<u32>,
    /// Since when.
    #[schemars(with = "Option<String>")]
    pub since: Option<Timestamp>,
    /// Clients of a server, or open files of a folder.
    pub users: Option<usize>,
    /// Bytes that were read so far.
    pub bytes_read: Option<u64>,
    /// Bytes that were written so far, or zeroed.
    pub bytes_written: Option<u64>,
    /// The images that are open for it all the time.
    #[serde(skip)]
    pub(super) images: Vec<PathData>,
    /// The control socket.
    #[serde(skip)]
    pub(super) control: Option<PathBuf>,
}

/// What is attached on this host now: by this user, or for root by every user. Sockets that a killed process left are
/// cleared on the way; its mounts are told as dead.
///
/// # Errors
/// `Io` when the host does not tell what is mounted.
pub fn attachments() -> Result<Vec<Attached>, AttachError> {
    let mut sockets: Vec<(PathBuf, u32)> = Vec::new();
    for (folder, owner) in all_folders() {
        let entries = std::fs::read_dir(&folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let ours = entries.filter(|path| path.extension() == Some(OsStr::new(ENDING)));
        sockets.extend(ours.take(MOST_SOCKETS).map(|path| (path, owner)));
    }
    sockets.sort();
    // Whoever takes his time keeps nobody from being told of the others.
    let mut found: Vec<Attached> = std::thread::scope(|scope| {
        let looks: Vec<_> =
            sockets.into_iter().map(|(socket, owner)| scope.spawn(move || look(socket, owner))).collect();
        looks.into_iter().filter_map(|look| look.join().ok().flatten()).collect()
    });
    let mounts = mounts().map_err(|error| AttachError::io("read what is mounted", error))?;
    found.extend(mounts.iter().filter(|mount| mount.is_dead()).map(dead));
    Ok(found)
}

/// Who answers at a socket; nothing when nobody is left, and then it is cleared.
fn look(socket: PathBuf, owner: u32) -> Option<Attached> {
    let connected = UnixStream::connect(&socket);
    let peer = connected.as_ref().ok().and_then(|stream| socket_peercred(stream).ok());
    let silent = Attached {
        state: AttachedState::Silent,
        path: None,
        mode: None,
        place: None,
        description: None,
        process: peer.map(|peer| peer.pid.as_raw_nonzero().get().unsigned_abs()),
        user: Some(peer.map_or(owner, |peer| peer.uid.as_raw())),
        since: None,
        users: None,
        bytes_read: None,
        bytes_written: None,
        images: Vec::new(),
        control: Some(socket.clone()),
    };
    match connected {
        Ok(stream) => match ask(&stream, Ask::Describe, PATIENCE) {
            Ok(Answer::Description(told)) => Some(silent.described(*told)),
            Ok(Answer::Ending) => None,
            _ => Some(silent),
        },
        Err(error) if error.kind() == ErrorKind::ConnectionRefused => {
            // Of another user's folder nothing is removed: names there may become others.
            if owner == geteuid().as_raw() {
                _ = std::fs::remove_file(&socket);
            }
            None
        }
        // It went this moment.
        Err(error) if error.kind() == ErrorKind::NotFound => None,
        Err(_) => Some(silent),
    }
}

impl Attached {
    fn described(self, told: Description) -> Self {
        Self {
            state: AttachedState::Live,
            path: Some(told.path),
            images: told.images,
            mode: Some(told.mode),
            place: Some(told.place),
            description: Some(told.description),
            since: Some(told.since),
            users: Some(told.users),
            bytes_read: Some(told.bytes_read),
            bytes_written: Some(told.bytes_written),
            ..self
        }
    }

    /// Whether this is what somebody means by a path, or by an address.
    fn is_at(&self, target: &Path) -> bool {
        let same = |other: &PathData| is_same(&other.to_path(), target);
        let is_place = match &self.place {
            Some(Place::Socket { socket }) => same(socket),
            Some(Place::Folder { folder }) => same(folder),
            Some(Place::Address { address }) => Path::new(address) == target,
            None => false,
        };
        is_place || self.path.as_ref().is_some_and(same)
    }
}

fn dead(mount: &Mount) -> Attached {
    Attached {
        state: AttachedState::Dead,
        path: Some(PathData::from(mount.image().as_path())),
        mode: None,
        place: Some(Place::Folder { folder: PathData::from(mount.point.as_path()) }),
        description: None,
        process: None,
        user: mount.user,
        since: None,
        users: None,
        bytes_read: None,
        bytes_written: None,
        images: Vec::new(),
        control: None,
    }
}

/// Two names of one thing. What cannot be looked at, such as a dead mount, is compared by its name.
pub(crate) fn is_same(one: &Path, other: &Path) -> bool {
    let identity = |path: &Path| std::fs::metadata(path).ok().map(|found| (found.dev(), found.ino()));
    let name = |path: &Path| {
        let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        match (absolute.parent().and_then(|parent| parent.canonicalize().ok()), absolute.file_name()) {
            (Some(parent), Some(name)) => parent.join(name),
            _ => absolute,
        }
    };
    name(one) == name(other) || identity(one).is_some_and(|one| identity(other) == Some(one))
}

/// Why something stays attached.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DetachError {
    /// Nothing is attached there.
    #[error("nothing of the name {} is attached on this host by this user", target.display())]
    NotAttached {
        /// What was named.
        target: PathBuf,
    },
    /// It could be either of several.
    #[error(
        "{} is attached more than once: name the socket or the folder of one, {}",
        target.display(),
        places.join(" or ")
    )]
    Several {
        /// What was named.
        target: PathBuf,
        /// Where each is found.
        places: Vec<String>,
    },
    /// Somebody uses it.
    #[error("{} is in use: {}", target.display(), holders.join("; "))]
    InUse {
        /// What was named.
        target: PathBuf,
        /// Who, and what would let go.
        holders: Vec<String>,
    },
    /// The process does not answer, or fails.
    #[error("{} stays attached: {reason}", target.display())]
    Failed {
        /// What was named.
        target: PathBuf,
        /// Why.
        reason: String,
    },
    /// The host refuses.
    #[error(transparent)]
    Attach(#[from] AttachError),
}

/// Ends what is attached under this name, an image, a folder or a socket, and returns when the disk is durable and free
/// for others. With `force` it is ended whoever uses it: what was written is made durable, and they get errors. Of a
/// process that was killed the mount is cleared.
///
/// # Errors
/// [`DetachError`]; nothing has changed then, but for `Failed`.
pub fn detach(target: &Path, force: bool) -> Result<Attached, DetachError> {
    let all = attachments()?;
    let owned = || target.to_owned();
    let mut found: Vec<Attached> = all.into_iter().filter(|attached| attached.is_at(target)).collect();
    // Others may say what they like of themselves.
    let own = |attached: &Attached| attached.user == Some(geteuid().as_raw());
    if found.iter().any(own) {
        found.retain(own);
    }
    if found.len() > 1 {
        return Err(DetachError::Several {
            target: owned(),
            places: found.iter().filter_map(|attached| attached.place.as_ref()).map(told).collect(),
        });
    }
    let Some(attached) = found.pop() else { return Err(DetachError::NotAttached { target: owned() }) };
    let in_use = |used: InUse| DetachError::InUse { target: owned(), holders: used.holders };
    let failed = |reason: String| DetachError::Failed { target: owned(), reason };
    let Some(control) = &attached.control else {
        let Some(Place::Folder { folder }) = &attached.place else {
            return Err(DetachError::NotAttached { target: owned() });
        };
        let folder = folder.to_path();
        let holders = if force { Vec::new() } else { holders_after_a_moment(&folder) };
        if !holders.is_empty() {
            return Err(in_use(InUse { holders }));
        }
        unmount(&folder, force).map_err(|error| failed(error.to_string()))?;
        return Ok(attached);
    };
    let stream = UnixStream::connect(control).map_err(|error| failed(error.to_string()))?;
    match ask(&stream, Ask::Detach { force }, LONG_PATIENCE) {
        Ok(Answer::Detached) => Ok(attached),
        Ok(Answer::InUse { holders }) => Err(in_use(InUse { holders })),
        Ok(Answer::Failed { message }) => Err(failed(message)),
        Ok(_) => Err(failed("its process gave no answer that is known here".to_owned())),
        Err(error) => Err(failed(format!("its process gave no answer: {error}"))),
    }
}

/// Who uses a folder, and still does when they have had the time to let go.
fn holders_after_a_moment(folder: &Path) -> Vec<String> {
    let until = Instant::now() + LETTING_GO;
    loop {
        let holders = holders_of(folder);
        if holders.is_empty() || Instant::now() > until {
            return holders;
        }
        std::thread::sleep(LETTING_GO / 30);
    }
}

/// A place, as it is named when it is to be ended.
fn told(place: &Place) -> String {
    match place {
        Place::Socket { socket: path } | Place::Folder { folder: path } => path.to_path().display().to_string(),
        Place::Address { address } => address.clone(),
    }
}

pub(super) fn ask(stream: &UnixStream, ask: Ask, patience: Duration) -> io::Result<Answer> {
    stream.set_write_timeout(Some(PATIENCE))?;
    let mut line = serde_json::to_vec(&Question { protocol: PROTOCOL, ask })?;
    line.push(b'\n');
    let mut asker = stream;
    asker.write_all(&line)?;
    Ok(serde_json::from_slice(&read_line(stream, MOST_ANSWERED, patience)?)?)
}
