//! A block device of the host: a disk, a partition, a loop device.
//!
//! It has no name of its own to be published under, no length to be changed, and old content everywhere.

use std::any::Any;
use std::fs::{File, OpenOptions};
use std::io::{self, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{FallocateFlags, OFlags, fallocate, ioctl_blkpbszget, ioctl_blksszget};

use super::{Access, HostIdentity, Medium, ReadAt, Storage};
use crate::error::{Error, Hold, Holder, Refusal, Result};

/// Bytes that are zeroed by one call at most, so that long work can be stopped in between.
const ZERO_STEP: u64 = 64 << 20;

/// A block device, alone as long as it is open (except for [`Access::ReadUnlocked`]).
#[derive(Debug)]
pub struct BlockDevice {
    file: File,
    path: PathBuf,
    len: u64,
    logical_sector: u32,
    physical_sector: u32,
    number: u64,
}

impl BlockDevice {
    /// Whether a block device stands at `path`.
    pub fn is_at(path: &Path) -> bool {
        std::fs::metadata(path).is_ok_and(|found| found.file_type().is_block_device())
    }

    /// Opens a device. For reading and for writing the kernel is asked for it exclusively (`O_EXCL`), which it
    /// refuses while the device, or a part of it, is mounted, used as swap, or held by another program that asks so.
    ///
    /// # Errors
    /// `Refused` when it is in use, with what uses it where the host tells; `Usage` when it is no block device; `Io`.
    pub fn open(path: &Path, access: Access) -> Result<Self> {
        let (write, alone) = (matches!(access, Access::Write | Access::AmendMetadata), access != Access::ReadUnlocked);
        let action = if write { "open for writing" } else { "open" };
        let error = |e: io::Error| Error::io(action, path, e);
        let flags = if alone { OFlags::EXCL | OFlags::NONBLOCK } else { OFlags::NONBLOCK };
        let opened = OpenOptions::new().read(true).write(write).custom_flags(flags.bits().cast_signed()).open(path);
        let mut file = match opened {
            Err(busy) if busy.kind() == io::ErrorKind::ResourceBusy => return Err(in_use(path)),
            other => other.map_err(error)?,
        };
        let found = file.metadata().map_err(error)?;
        if !found.file_type().is_block_device() {
            return Err(Error::usage(format!("{} is not a block device", path.display()), "name one, or a file"));
        }
        let marked = std::fs::read_to_string(system_folder(found.rdev()).join("ro")).unwrap_or_default();
        if write && marked.trim() == "1" {
            return Err(Error::refused(
                Refusal::ReadOnly { path: path.to_owned(), marked: false },
                format!("{} is a read-only device", path.display()),
                "choose another one, or make it writable on this host first",
            ));
        }
        let len = file.seek(SeekFrom::End(0)).map_err(error)?;
        let sector = |size: rustix::io::Result<u32>| size.map_err(|e| error(e.into()));
        let (logical_sector, physical_sector) = (sector(ioctl_blksszget(&file))?, sector(ioctl_blkpbszget(&file))?);
        Ok(Self { file, path: path.to_owned(), len, logical_sector, physical_sector, number: found.rdev() })
    }

    /// The device itself, the same under every name.
    pub fn host_identity(&self) -> HostIdentity {
        (self.number, u64::MAX)
    }

    /// Whether the first and the last MiB hold nothing but zeros, as on a new device or a cleared one.
    ///
    /// # Errors
    /// `Io`.
    pub fn looks_blank(&self) -> Result<bool> {
        let mut bytes = vec![0; self.len.min(1 << 20) as usize];
        for at in [0, self.len - bytes.len() as u64] {
            self.read_at(&mut bytes, at)?;
            if !crate::bytes::is_zero(&bytes) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn error(&self, action: &str, source: io::Error) -> Error {
        Error::io(action, &self.path, source)
    }
}

fn in_use(path: &Path) -> Error {
    let holder = user_of(path);
    let user = holder.as_ref().map_or("held by another program", |holder| &holder.name);
    Error::refused(
        Refusal::InUse { path: path.to_owned(), holder: holder.clone().map(Box::new) },
        format!("{} is in use: {user}", path.display()),
        "unmount it, or end what uses it, first; a disk in use is neither copied nor written to",
    )
}

fn name_of(number: u64) -> String {
    format!("{}:{}", rustix::fs::major(number), rustix::fs::minor(number))
}

/// Where the host tells of a device.
fn system_folder(number: u64) -> PathBuf {
    PathBuf::from("/sys/dev/block").join(name_of(number))
}

/// What uses a device, as far as the host tells.
pub(super) fn user_of(path: &Path) -> Option<Holder> {
    let number = std::fs::metadata(path).ok()?.rdev();
    let folder = system_folder(number);
    let mut wanted = vec![name_of(number)];
    // The parts of a disk are folders in the disk's own.
    for part in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
        let part = part.path();
        if part.join("partition").exists() {
            wanted.extend(std::fs::read_to_string(part.join("dev")).ok().map(|dev| dev.trim().to_owned()));
        }
    }
    let mounts = std::fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let mounted = mounts.lines().find_map(|line| {
        let words: Vec<&str> = line.split(' ').collect();
        let device = words.get(2).filter(|device| wanted.iter().any(|wanted| wanted == *device))?;
        let part = if **device == wanted[0] { "" } else { "a part of it is " };
        words.get(4).map(|place| format!("{part}mounted at {place}"))
    });
    let swapped = || {
        let swaps = std::fs::read_to_string("/proc/swaps").ok()?;
        let real = std::fs::canonicalize(path).ok()?;
        let used = swaps.lines().any(|line| line.split(' ').next() == real.to_str());
        used.then(|| "the host swaps to it".to_owned())
    };
    let held = || {
        let holder = std::fs::read_dir(folder.join("holders")).ok()?.flatten().next()?;
        Some(format!("the device {} stands on it", holder.file_name().to_string_lossy()))
    };
    let name = mounted.or_else(swapped).or_else(held)?;
    Some(Holder { name, process: None, since: None, how: Hold::Device })
}

impl ReadAt for BlockDevice {
    fn path(&self) -> &Path {
        &self.path
    }

    fn len(&self) -> Result<u64> {
        Ok(self.len)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        self.file
            .read_exact_at(buffer, offset)
            .map_err(|e| self.error(&format!("read {} bytes at byte {offset} of", buffer.len()), e))
    }

    fn medium(&self) -> Medium {
        Medium::Device { logical_sector: self.logical_sector, physical_sector: self.physical_sector }
    }
}

impl Storage for BlockDevice {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.file
            .write_all_at(bytes, offset)
            .map_err(|e| self.error(&format!("write {} bytes at byte {offset} of", bytes.len()), e))
    }

    fn set_len(&self, len: u64) -> Result<()> {
        match len == self.len {
            true => Ok(()),
            false => Err(Error::usage(
                format!("{} has {} bytes, and cannot have {len}", self.path.display(), self.len),
                "a device keeps its length",
            )),
        }
    }

    fn sync(&self) -> Result<()> {
        self.file.sync_all().map_err(|e| self.error("sync", e))
    }

    /// The kernel zeroes the range, through the device itself where that can; it reads as zero in any case.
    fn write_zeros(&self, mut offset: u64, mut len: u64) -> Result<()> {
        use rustix::io::Errno;
        while len > 0 {
            let step = len.min(ZERO_STEP);
            match fallocate(&self.file, FallocateFlags::ZERO_RANGE | FallocateFlags::KEEP_SIZE, offset, step) {
                Ok(()) => {}
                Err(Errno::OPNOTSUPP | Errno::NOSYS | Errno::INVAL | Errno::NODEV) => {
                    super::write_plain_zeros(self, offset, step)?;
                }
                Err(error) => return Err(self.error("write zeros to", error.into())),
            }
            offset += step;
            len -= step;
        }
        Ok(())
    }
}

/// A device whose whole content is being replaced.
///
/// Its first MiB is cleared before anything else and written last, so that a device that was half-written when the
/// power went shows no partition table and no file system, and is not taken for a whole disk.
pub struct StagedDevice {
    device: std::sync::Arc<Headless>,
}

const HEAD: u64 = 1 << 20;

impl StagedDevice {
    /// Opens the device alone and clears its beginning.
    ///
    /// # Errors
    /// As [`BlockDevice::open`], and then nothing has changed; `Unfinished` when its beginning cannot be cleared.
    pub fn begin(path: &Path) -> Result<Self> {
        let device = BlockDevice::open(path, Access::Write)?;
        let head = vec![0; HEAD.min(device.len) as usize];
        let cleared = device.write_zeros(0, head.len() as u64).and_then(|()| device.sync());
        cleared.map_err(|error| error.on_device(path))?;
        Ok(Self { device: std::sync::Arc::new(Headless { device, head: std::sync::Mutex::new(head) }) })
    }

    /// The device's bytes, its first MiB held back until [`StagedDevice::publish`].
    pub fn storage(&self) -> std::sync::Arc<dyn Storage> {
        self.device.clone()
    }

    pub(crate) fn sync_so_far(&self) -> Result<()> {
        self.device.sync()
    }

    pub(crate) fn forget_cached(&self) {
        _ = rustix::fs::fadvise(&self.device.device.file, 0, None, rustix::fs::Advice::DontNeed);
    }

    /// Makes everything durable, then the first MiB.
    ///
    /// # Errors
    /// `Io`; the device then shows no disk.
    pub fn publish(self) -> Result<()> {
        let Headless { device, head } = &*self.device;
        device.sync()?;
        device.write_at(&head.lock().unwrap_or_else(std::sync::PoisonError::into_inner), 0)?;
        device.sync()
    }
}

/// A device whose first MiB stands in memory.
struct Headless {
    device: BlockDevice,
    head: std::sync::Mutex<Vec<u8>>,
}

impl Headless {
    /// Calls `act` on the part of a range that is held in memory; returns the length of that part.
    fn in_head(&self, offset: u64, len: u64, act: impl FnOnce(&mut [u8])) -> usize {
        let mut head = self.head.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let end = offset.saturating_add(len).min(head.len() as u64);
        if offset >= end {
            return 0;
        }
        let part = &mut head[offset as usize..end as usize];
        let len = part.len();
        act(part);
        len
    }
}

#[deny(clippy::missing_trait_methods)]
impl ReadAt for Headless {
    fn path(&self) -> &Path {
        self.device.path()
    }
    fn len(&self) -> Result<u64> {
        self.device.len()
    }
    fn is_empty(&self) -> Result<bool> {
        self.device.is_empty()
    }
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let len = buffer.len() as u64;
        let done = self.in_head(offset, len, |part| buffer[..part.len()].copy_from_slice(part));
        self.device.read_at(&mut buffer[done..], offset + done as u64)
    }
    fn read_at_once(&self, _: &mut [u8], _: u64) -> Result<bool> {
        Ok(false)
    }
    fn next_data(&self, offset: u64) -> Result<Option<std::ops::Range<u64>>> {
        self.device.next_data(offset)
    }
    fn allocated(&self) -> Result<u64> {
        self.device.allocated()
    }
    fn medium(&self) -> Medium {
        self.device.medium()
    }
    fn stands_at(&self, path: &Path) -> Result<bool> {
        self.device.stands_at(path)
    }
}

#[deny(clippy::missing_trait_methods)]
impl Storage for Headless {
    fn as_file(self: Arc<Self>) -> Option<Arc<dyn Any + Send + Sync>> {
        None
    }
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        let done = self.in_head(offset, bytes.len() as u64, |part| part.copy_from_slice(&bytes[..part.len()]));
        self.device.write_at(&bytes[done..], offset + done as u64)
    }
    fn set_len(&self, len: u64) -> Result<()> {
        self.device.set_len(len)
    }
    fn sync(&self) -> Result<()> {
        self.device.sync()
    }
    fn let_others_read(&self) -> Result<()> {
        self.device.let_others_read()
    }
    fn keeps_holes(&self) -> bool {
        false
    }
    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        self.write_zeros(offset, len)
    }
    fn write_zeros(&self, offset: u64, len: u64) -> Result<()> {
        let done = self.in_head(offset, len, |part| part.fill(0)) as u64;
        self.device.write_zeros(offset + done, len - done)
    }
}
