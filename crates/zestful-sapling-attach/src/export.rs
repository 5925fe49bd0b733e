//! What is served: disks under names.

use std::path::Path;
use std::sync::atomic::{AtomicU8, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use zestful_sapling::Error;
use zestful_sapling::chain::{Disk, DiskStatus, SharedDisk};
use zestful_sapling::guest::{Partitions, partitions};
use zestful_sapling::size::format_size;
use zestful_sapling::storage::Attachment;

use crate::code::{Code, code_of};
use crate::event::Trouble;

/// How a disk is served.
#[derive(Clone)]
pub enum Backing {
    /// Nobody writes to it.
    ReadOnly(Arc<dyn Disk>),
    /// Clients write to it.
    Writable(Arc<SharedDisk>),
}

/// A disk under a name.
pub struct Export {
    name: String,
    description: String,
    backing: Backing,
    logical_sector: u32,
    /// Says that it is served, for as long as it is.
    attachment: Mutex<Option<Attachment>>,
    /// What was told already: one bit for each kind of trouble.
    told: AtomicU8,
}

impl Export {
    /// This disk, under a name that clients ask for.
    pub fn new(name: impl Into<String>, description: impl Into<String>, backing: Backing) -> Self {
        let logical_sector = match &backing {
            Backing::ReadOnly(disk) => disk.info().logical_sector,
            Backing::Writable(disk) => disk.info().logical_sector,
        };
        let (name, description) = (name.into(), description.into());
        Self { name, description, backing, logical_sector, attachment: Mutex::default(), told: AtomicU8::new(0) }
    }

    /// What looks at the image at `path` meanwhile is told that it is served.
    ///
    /// # Errors
    /// As [`Attachment::of`].
    pub fn with_image(self, path: &Path) -> Result<Self, Error> {
        self.say(path)?;
        Ok(self)
    }

    /// The image that stands there now is the one that is served.
    pub(crate) fn say(&self, path: &Path) -> Result<(), Error> {
        let said = Attachment::of(path)?;
        *self.attachment.lock().unwrap_or_else(PoisonError::into_inner) = Some(said);
        Ok(())
    }

    /// The name that clients ask for.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What people read about it.
    pub fn description(&self) -> &str {
        &self.description
    }

    /// The size that clients see, in bytes.
    pub fn size(&self) -> u64 {
        match &self.backing {
            Backing::ReadOnly(disk) => disk.virtual_size(),
            Backing::Writable(disk) => disk.virtual_size(),
        }
    }

    /// Bytes of a sector that clients see.
    pub fn logical_sector(&self) -> u32 {
        self.logical_sector
    }

    /// The disk, if clients may write to it.
    pub(crate) fn writable(&self) -> Option<&SharedDisk> {
        match &self.backing {
            Backing::ReadOnly(_) => None,
            Backing::Writable(disk) => Some(disk),
        }
    }

    pub(crate) fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<(), Error> {
        match &self.backing {
            Backing::ReadOnly(disk) => disk.read_at(buffer, offset),
            Backing::Writable(disk) => disk.read_at(buffer, offset),
        }
    }

    pub(crate) fn read_at_once(&self, buffer: &mut [u8], offset: u64) -> Result<bool, Error> {
        match &self.backing {
            Backing::ReadOnly(disk) => disk.read_at_once(buffer, offset),
            Backing::Writable(disk) => disk.read_at_once(buffer, offset),
        }
    }

    pub(crate) fn status_at(&self, offset: u64, len: u64) -> Result<DiskStatus, Error> {
        match &self.backing {
            Backing::ReadOnly(disk) => disk.status_at(offset, len),
            Backing::Writable(disk) => disk.status_at(offset, len),
        }
    }

    /// The partitions that it has now.
    ///
    /// # Errors
    /// As [`partitions`].
    pub fn partitions(&self) -> Result<Partitions, Error> {
        match &self.backing {
            Backing::ReadOnly(disk) => partitions(&**disk),
            Backing::Writable(disk) => disk.partitions(),
        }
    }

    pub(crate) fn flush(&self) -> Result<(), Error> {
        self.writable().map_or(Ok(()), SharedDisk::flush)
    }

    /// Notes how a request ended; trouble is returned when it is new, or over.
    pub(crate) fn note(&self, kind: RequestKind, result: Result<(), &Error>) -> Option<Trouble> {
        let bit = kind as u8;
        match result {
            Ok(()) if self.told.load(Ordering::Relaxed) & bit == 0 => None,
            Ok(()) => (self.told.fetch_and(!bit, Ordering::Relaxed) & bit != 0).then_some(Trouble::Over),
            Err(error) if code_of(error) != Code::Invalid => {
                let is_new = self.told.fetch_or(bit, Ordering::Relaxed) & bit == 0;
                is_new.then(|| Trouble::Began(error.with_causes()))
            }
            Err(_) => None,
        }
    }
}

/// Kinds of requests that fail for reasons of their own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum RequestKind {
    Read = 1,
    Write = 2,
    Flush = 4,
}

/// The disks of a server.
pub trait Catalogue: Send + Sync {
    /// The names, each with what people read about it.
    fn list(&self) -> Vec<(String, String)>;

    /// The disk of this name; the empty one is that of the only disk, if there is only one.
    ///
    /// # Errors
    /// Why there is none, or it cannot be opened, for the client and for the operator.
    fn open(&self, name: &str) -> Result<Arc<Export>, String>;
}

impl Catalogue for Vec<Arc<Export>> {
    fn list(&self) -> Vec<(String, String)> {
        self.iter().map(|export| (export.name.clone(), export.description.clone())).collect()
    }

    fn open(&self, name: &str) -> Result<Arc<Export>, String> {
        let only = if self.len() == 1 && name.is_empty() { self.first() } else { None };
        let found = only.or_else(|| self.iter().find(|export| export.name == name));
        found.cloned().ok_or_else(|| format!("nothing is served under the name {name:?}"))
    }
}

/// What people read about a disk: its size, its format, how many layers it has.
pub fn describe(disk: &dyn Disk) -> String {
    let info = disk.info();
    let layers = (0..).take_while(|number| disk.layer(*number).is_some()).count();
    let layers = if layers == 1 { String::new() } else { format!(", {layers} layers") };
    format!("{}, {} {}{layers}", format_size(info.virtual_size), info.format, info.kind)
}
