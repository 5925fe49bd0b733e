//! A disk as files of this host, from the mount of their folder to its end.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use fuser::{Config, MountOption, Session, SessionACL};
use rustix::process::geteuid;
use zestful_sapling::guest::{Partition, Partitions};
use zestful_sapling::path_data::PathData;

use super::files::Files;
use super::filesystem::DiskFiles;
use super::holders::{holders_of, loop_devices};
use super::mounts::{helper, source_of, take_folder, unmount};
use crate::error::AttachError;
use crate::event::Event;
use crate::export::Export;
use crate::front::{Ending, Front, InUse, Moved, Place};

/// Threads that do what the kernel asks for. One that makes things durable keeps the others from nothing.
const THREADS: usize = 6;
/// Where file systems, and whatever else fills a partition, leave their first mark, in bytes.
const BEGINNING: usize = 128 << 10;
/// A program that has closed a file lets go of it a moment later.
const PATIENCE: Duration = Duration::from_millis(1500);
const BETWEEN_TRIES: Duration = Duration::from_millis(40);

/// A disk whose bytes are the file `disk.raw` in a folder of this host, and each of its partitions a file beside it,
/// `part1` and so on (FUSE). What is read and written goes past the page cache of these files, so that they never show
/// different bytes; two who write must not share a byte, and the second is refused as busy.
///
/// The partitions are those that the table had at the beginning.
pub struct Exposure {
    folder: PathBuf,
    export: Arc<Export>,
    files: Arc<Files>,
    table: Partitions,
    for_root: bool,
    session: Mutex<Option<Session<DiskFiles>>>,
    happened: Mutex<Receiver<Event>>,
}

impl Exposure {
    /// Shows a disk in an empty folder. `image` is told to whoever lists what is mounted.
    ///
    /// # Errors
    /// `MountFolder` when the folder cannot be used; `NoFuse` when the host does not let this user do it; `Disk` when
    /// the partition table cannot be read; `Io`.
    pub fn new(folder: &Path, image: &Path, export: Arc<Export>) -> Result<Self, AttachError> {
        Self::with_files(folder, image, export, |files| files)
    }

    /// The same for programs that are run one after the other, and for nobody else.
    pub(super) fn for_one(folder: &Path, image: &Path, export: Arc<Export>) -> Result<Self, AttachError> {
        Self::with_files(folder, image, export, Files::for_one)
    }

    fn with_files(
        folder: &Path,
        image: &Path,
        export: Arc<Export>,
        set_up: impl FnOnce(Files) -> Files,
    ) -> Result<Self, AttachError> {
        let folder = take_folder(folder)?;
        let table = export.partitions()?;
        let (sender, happened) = channel();
        let files = Arc::new(set_up(Files::new(export.clone(), table.clone(), sender)));
        let for_root = geteuid().is_root() || others_may_see();
        let mut config = Config::default();
        config.mount_options =
            vec![MountOption::FSName(source_of(image)), MountOption::DefaultPermissions, MountOption::NoExec];
        if export.writable().is_none() {
            config.mount_options.push(MountOption::RO);
        }
        config.acl = if !geteuid().is_root() && for_root { SessionACL::RootAndOwner } else { SessionACL::Owner };
        config.n_threads = Some(THREADS);
        let session = Session::new(DiskFiles::new(files.clone()), &folder.path, &config).map_err(no_fuse)?;
        let (session, happened) = (Mutex::new(Some(session)), Mutex::new(happened));
        Ok(Self { folder: folder.path, export, files, table, for_root, session, happened })
    }

    /// The folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The file that is the whole disk.
    pub fn disk(&self) -> PathBuf {
        self.folder.join(super::files::DISK)
    }

    /// The size of the disk, in bytes.
    pub fn size(&self) -> u64 {
        self.export.size()
    }

    /// The files that are partitions.
    pub fn partitions(&self) -> Vec<(PathBuf, &Partition)> {
        let parts = self.files.all().skip(1).map(|file| self.folder.join(self.files.name(file)));
        parts.zip(&self.table.usable).collect()
    }

    /// Whether nothing has been written yet to where file systems write first: the first 128 KiB of a partition, or of
    /// the disk where there is none.
    ///
    /// # Errors
    /// `Disk` when that cannot be read.
    pub fn is_blank(&self, part: Option<&Partition>) -> Result<bool, AttachError> {
        let (start, len) = part.map_or((0, self.size()), |part| (part.start, part.len));
        let mut bytes = vec![0; usize::try_from(len).unwrap_or(usize::MAX).min(BEGINNING)];
        self.export.read_at(&mut bytes, start)?;
        Ok(bytes.iter().all(|byte| *byte == 0))
    }

    /// The partition table as it was at the beginning, with what is wrong with it.
    pub fn table(&self) -> &Partitions {
        &self.table
    }

    /// Whether root, which alone may mount, sees the files.
    pub fn is_for_root(&self) -> bool {
        self.for_root
    }

    fn try_end(&self, lazily: bool, patience: Duration) -> Result<(), InUse> {
        let until = Instant::now() + patience;
        loop {
            match unmount(&self.folder, lazily) {
                Ok(()) => return Ok(()),
                // Somebody else has taken it away.
                Err(error) if matches!(error.kind(), ErrorKind::InvalidInput | ErrorKind::NotFound) => return Ok(()),
                Err(_) if Instant::now() < until => std::thread::sleep(BETWEEN_TRIES),
                Err(error) => {
                    let mut holders = holders_of(&self.folder);
                    if holders.is_empty() {
                        holders.push(format!("the host does not take the mount away: {error}"));
                    }
                    return Err(InUse { holders });
                }
            }
        }
    }
}

impl Front for Exposure {
    fn run(&self, events: &(dyn Fn(Event) + Sync)) -> Result<(), AttachError> {
        let session = self.session.lock().unwrap_or_else(PoisonError::into_inner).take();
        let Some(session) = session else { return Ok(()) };
        let happened = self.happened.lock().unwrap_or_else(PoisonError::into_inner);
        let running = std::thread::spawn(move || session.run());
        while !running.is_finished() && !self.files.is_taken_away() {
            if let Ok(event) = happened.recv_timeout(BETWEEN_TRIES) {
                events(event);
            }
        }
        happened.try_iter().for_each(events);
        if !running.is_finished() {
            // The kernel keeps what was taken from somebody until they let go, or this process ends.
            return Ok(());
        }
        match running.join() {
            Ok(Ok(())) => Ok(()),
            Ok(Err(error)) => Err(AttachError::io("take requests of the kernel", error)),
            Err(_) => Err(AttachError::io("take requests of the kernel", std::io::Error::other("a mistake of ours"))),
        }
    }

    /// A mount that somebody uses stays, unless it is to go at once: then what was written is durable, it is gone for
    /// all who come later, and those who use it get errors once this process ends.
    fn end(&self, ending: Ending) -> Result<(), InUse> {
        match ending {
            Ending::Asked => self.try_end(false, PATIENCE),
            Ending::Told => self.try_end(false, Duration::ZERO),
            Ending::AtOnce => {
                _ = self.export.flush();
                self.files.take_away();
                _ = self.try_end(true, Duration::ZERO);
                Ok(())
            }
        }
    }

    fn place(&self) -> Place {
        Place::Folder { folder: PathData::from(self.folder.as_path()) }
    }

    fn users(&self) -> usize {
        self.files.users()
    }

    fn moved(&self) -> Moved {
        self.files.counters.moved()
    }

    fn devices(&self) -> Vec<String> {
        loop_devices(&self.disk()).into_iter().map(|device| device.name).collect()
    }

    fn has_grown(&self) {
        // The kernel asks for the size when somebody looks, and loop devices go by what it remembers.
        _ = std::fs::metadata(self.disk());
    }
}

/// Whether the host lets a user's mount be seen by others, as root is one.
fn others_may_see() -> bool {
    let told = std::fs::read_to_string("/etc/fuse.conf").unwrap_or_default();
    told.lines().any(|line| line.trim() == "user_allow_other")
}

fn no_fuse(error: std::io::Error) -> AttachError {
    let reason = match error.kind() {
        ErrorKind::NotFound => "it has no /dev/fuse".to_owned(),
        _ if !geteuid().is_root() && helper().is_none() => {
            "only root may mount here, and the host's helper for others, fusermount3, is not installed".to_owned()
        }
        _ => error.to_string(),
    };
    AttachError::NoFuse { reason }
}
