//! A disk is opened for others, whichever way they will use it.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::Error;
use zestful_sapling::chain::{Chain, ChainMut, OpenOptions, SharedDisk};
use zestful_sapling::family::{Guard, inspect};
use zestful_sapling::image::{Format, Space};
use zestful_sapling::storage::free_space;

use crate::export::{Backing, Export, describe};
use crate::front::Mode;

/// What is to be opened, and how others may use it.
pub struct Opening {
    path: PathBuf,
    name: Option<String>,
    mode: Mode,
    format: Option<Format>,
    guard: Guard,
    scratch: PathBuf,
}

impl Opening {
    /// The image at `path`, with all that it reads through.
    pub fn new(path: impl Into<PathBuf>, mode: Mode) -> Self {
        let (path, guard, scratch) = (path.into(), Guard::new(), PathBuf::from("/var/tmp"));
        Self { path, name: None, mode, format: None, guard, scratch }
    }

    /// Under this name, instead of that of its file.
    pub fn with_name(mut self, name: impl Into<String>) -> Self {
        self.name = Some(name.into());
        self
    }

    /// It has this format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// What is asked before it may be written to.
    pub fn with_guard(mut self, guard: Guard) -> Self {
        self.guard = guard;
        self
    }

    /// The folder in which is kept what will be forgotten; `/var/tmp` unless told otherwise.
    pub fn with_scratch(mut self, folder: impl Into<PathBuf>) -> Self {
        self.scratch = folder.into();
        self
    }

    /// Opens and locks it: for [`Mode::Writable`] against everybody, otherwise against writers. Who looks at the image
    /// meanwhile is told that it is attached.
    ///
    /// # Errors
    /// As [`ChainMut::open_guarded`], [`Chain::open`] and [`ChainMut::over_scratch`].
    pub fn open(&self) -> Result<Opened, Error> {
        let options = self.format.into_iter().fold(OpenOptions::new(), OpenOptions::with_format);
        let read_only = || Chain::open(&self.path, &options);
        let shared = |chain: ChainMut| Arc::new(SharedDisk::new(chain));
        let (description, backing, disk) = match self.mode {
            Mode::ReadOnly => {
                let chain = read_only()?;
                (describe(&chain), Backing::ReadOnly(Arc::new(chain)), None)
            }
            Mode::Writable => {
                let chain = ChainMut::open_guarded(&self.path, &options, &self.guard)?;
                let (description, disk) = (describe(&chain), shared(chain));
                (description, Backing::Writable(disk.clone()), Some(disk))
            }
            Mode::Throwaway => {
                let chain = read_only()?;
                let description = format!("{}, changes forgotten at the end", describe(&chain));
                let disk = shared(ChainMut::over_scratch(chain, &self.scratch)?);
                (description, Backing::Writable(disk.clone()), Some(disk))
            }
        };
        let of_file = || self.path.file_name().unwrap_or(self.path.as_os_str()).to_string_lossy().into_owned();
        let name = self.name.clone().unwrap_or_else(of_file);
        let export = Export::new(name, description, backing).with_image(&self.path)?;
        let scratch = (self.mode == Mode::Throwaway).then(|| self.scratch.clone());
        Ok(Opened {
            export: Arc::new(export),
            disk,
            mode: self.mode,
            path: self.path.clone(),
            format: self.format,
            scratch,
        })
    }
}

/// A disk that is open for others.
pub struct Opened {
    export: Arc<Export>,
    disk: Option<Arc<SharedDisk>>,
    mode: Mode,
    path: PathBuf,
    format: Option<Format>,
    scratch: Option<PathBuf>,
}

/// What may be written, and the room that there is for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Room {
    /// Bytes that writes may take at most.
    pub most: u64,
    /// Bytes that are free where they go.
    pub free: u64,
    /// Where they go.
    pub place: PathBuf,
}

impl Opened {
    /// The disk under its file name.
    pub fn export(&self) -> &Arc<Export> {
        &self.export
    }

    /// How others may use it.
    pub fn mode(&self) -> Mode {
        self.mode
    }

    /// The image.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The disk that others write to, if what they write stays.
    pub(crate) fn kept(&self) -> Option<&Arc<SharedDisk>> {
        self.disk.as_ref().filter(|_| self.mode == Mode::Writable)
    }

    /// The image was frozen, and another one has its name now.
    pub(crate) fn has_switched(&self) {
        // Who looks is told a little less then.
        _ = self.export.say(&self.path);
    }

    /// Where what will be forgotten is kept.
    pub fn scratch(&self) -> Option<&Path> {
        self.scratch.as_deref()
    }

    /// What others may write, and the room for it; none for what is only read.
    pub fn room(&self) -> Option<Room> {
        let disk = self.disk.as_ref()?;
        if let Some(place) = self.scratch.clone() {
            let free = free_space(&place).unwrap_or(u64::MAX);
            return Some(Room { most: disk.virtual_size(), free, place });
        }
        let report = inspect(&self.path, self.format).ok()?;
        Some(Room { most: report.most_growth, free: report.host_free, place: self.path.clone() })
    }

    /// Makes the disk larger, to `size` bytes; the host sets the space of a fixed one aside.
    ///
    /// # Errors
    /// As [`SharedDisk::grow`]; `Usage` for what is only read.
    pub fn grow(&self, size: u64) -> Result<(), Error> {
        match &self.disk {
            Some(disk) => disk.grow(size, Space::Reserved),
            None => Err(Error::usage(
                format!("{} is attached for reading only", self.path.display()),
                "attach it for writing first",
            )),
        }
    }

    /// Makes all that was written durable, and the image tidy. What is to be forgotten need not be either, or have room
    /// for that.
    ///
    /// # Errors
    /// As [`SharedDisk::settle`].
    pub fn settle(&self) -> Result<(), Error> {
        match (&self.disk, self.mode) {
            (Some(disk), Mode::Writable) => disk.settle(),
            _ => Ok(()),
        }
    }
}
