//! Requests of the kernel for the files of a disk.

use std::cell::RefCell;
use std::ffi::OsStr;
use std::io;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use fuser::{
    BsdFileFlags, Errno, FileAttr, FileHandle, FileType, Filesystem, FopenFlags, Generation, INodeNo, InitFlags,
    KernelConfig, LockOwner, OpenAccMode, OpenFlags, RenameFlags, ReplyAttr, ReplyData, ReplyDirectory, ReplyEmpty,
    ReplyEntry, ReplyLseek, ReplyOpen, ReplyStatfs, ReplyWrite, Request, TimeOrNow, WriteFlags,
};
use rustix::process::{getegid, geteuid};

use super::files::{Failed, File, Files};

/// What the kernel remembers of names; sizes it asks for each time, since a disk may grow.
const NAMES: Duration = Duration::from_secs(3600);
const SIZES: Duration = Duration::ZERO;
/// Reads and writes are at most this long, in bytes: more takes memory and saves nothing.
const LONGEST: u32 = 1 << 20;
/// Requests that the kernel sends ahead.
const AHEAD: u16 = 64;
/// The first number behind that of the folder.
const FIRST: u64 = 2;

/// What a hole that is punched, and a range that is zeroed, say of themselves.
const KEEP_SIZE: i32 = 1;
const PUNCH_HOLE: i32 = 2;
const ZERO_RANGE: i32 = 0x10;
const SEEK_DATA: i32 = 3;
const SEEK_HOLE: i32 = 4;

/// Past the page cache, so that the disk and its partitions never show different bytes; writes side by side, and no
/// request when a file is closed.
const OPENED: FopenFlags =
    FopenFlags::FOPEN_DIRECT_IO.union(FopenFlags::FOPEN_PARALLEL_DIRECT_WRITES).union(FopenFlags::FOPEN_NOFLUSH);

thread_local! {
    /// Memory for reads that is not asked for and given back each time.
    static BUFFER: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

pub(super) struct DiskFiles {
    files: Arc<Files>,
    since: SystemTime,
}

impl DiskFiles {
    pub(super) fn new(files: Arc<Files>) -> Self {
        Self { files, since: SystemTime::now() }
    }

    fn file(&self, number: INodeNo) -> Option<File> {
        let at = number.0.checked_sub(FIRST)?;
        self.files.all().nth(usize::try_from(at).ok()?)
    }

    fn attributes(&self, number: INodeNo) -> Option<FileAttr> {
        let file = self.file(number);
        if file.is_none() && number != INodeNo::ROOT {
            return None;
        }
        let size = file.map_or(0, |file| self.files.len(file));
        let may_write = self.files.may_be_written();
        Some(FileAttr {
            ino: number,
            size,
            blocks: size.div_ceil(512),
            atime: self.since,
            mtime: self.since,
            ctime: self.since,
            crtime: self.since,
            kind: if file.is_some() { FileType::RegularFile } else { FileType::Directory },
            perm: match (file, may_write) {
                (None, _) => 0o500,
                (Some(_), true) => 0o600,
                (Some(_), false) => 0o400,
            },
            nlink: if file.is_some() { 1 } else { 2 },
            uid: geteuid().as_raw(),
            gid: getegid().as_raw(),
            rdev: 0,
            blksize: 4096,
            flags: 0,
        })
    }
}

fn errno(failed: Failed) -> Errno {
    Errno::from_i32(failed as i32)
}

impl Filesystem for DiskFiles {
    fn init(&mut self, _: &Request, config: &mut KernelConfig) -> io::Result<()> {
        // Where the kernel allows less, less is asked for.
        _ = config.set_max_write(LONGEST);
        _ = config.set_max_background(AHEAD);
        // An opening that cuts a file off is told as such, and cuts nothing off, as with a block device.
        _ = config.add_capabilities(InitFlags::FUSE_ATOMIC_O_TRUNC);
        _ = config.add_capabilities(InitFlags::FUSE_ASYNC_DIO);
        _ = config.add_capabilities(InitFlags::FUSE_PARALLEL_DIROPS);
        Ok(())
    }

    fn lookup(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        let place = self.files.all().position(|file| OsStr::new(&self.files.name(file)) == name);
        let number = place.filter(|_| parent == INodeNo::ROOT).map(|at| INodeNo(at as u64 + FIRST));
        match number.and_then(|number| self.attributes(number)) {
            Some(found) => reply.entry_with_ttls(&SIZES, &NAMES, &found, Generation(0)),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn getattr(&self, _: &Request, number: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        match self.attributes(number) {
            Some(found) => reply.attr(&SIZES, &found),
            None => reply.error(Errno::ENOENT),
        }
    }

    /// A disk has one size, and its files one owner: only times may be set, and are not kept.
    fn setattr(
        &self,
        _: &Request,
        number: INodeNo,
        mode: Option<u32>,
        uid: Option<u32>,
        gid: Option<u32>,
        size: Option<u64>,
        _: Option<TimeOrNow>,
        _: Option<TimeOrNow>,
        _: Option<SystemTime>,
        _: Option<FileHandle>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        let Some(found) = self.attributes(number) else { return reply.error(Errno::ENOENT) };
        match (size, mode.is_some() || uid.is_some() || gid.is_some()) {
            (Some(size), _) if size != found.size => reply.error(Errno::EINVAL),
            (_, true) => reply.error(Errno::EPERM),
            _ => reply.attr(&SIZES, &found),
        }
    }

    fn open(&self, _: &Request, number: INodeNo, flags: OpenFlags, reply: ReplyOpen) {
        let Some(file) = self.file(number) else { return reply.error(Errno::EISDIR) };
        let writes = !matches!(flags.acc_mode(), OpenAccMode::O_RDONLY);
        match self.files.open(file, writes) {
            Ok(opened) => reply.opened(FileHandle(opened), OPENED),
            Err(failed) => reply.error(errno(failed)),
        }
    }

    fn release(
        &self,
        _: &Request,
        _: INodeNo,
        opened: FileHandle,
        _: OpenFlags,
        _: Option<LockOwner>,
        _: bool,
        reply: ReplyEmpty,
    ) {
        self.files.close(opened.0);
        reply.ok();
    }

    fn read(
        &self,
        _: &Request,
        number: INodeNo,
        _: FileHandle,
        offset: u64,
        size: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        let Some(file) = self.file(number) else { return reply.error(Errno::EISDIR) };
        BUFFER.with_borrow_mut(|buffer| {
            let len = size as usize;
            if buffer.len() < len {
                buffer.resize(len, 0);
            }
            match self.files.read(file, offset, &mut buffer[..len]) {
                Ok(count) => reply.data(&buffer[..count]),
                Err(failed) => reply.error(errno(failed)),
            }
        });
    }

    fn write(
        &self,
        _: &Request,
        number: INodeNo,
        _: FileHandle,
        offset: u64,
        data: &[u8],
        _: WriteFlags,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        let Some(file) = self.file(number) else { return reply.error(Errno::EISDIR) };
        match self.files.write(file, offset, data) {
            // No request is longer than what a u32 counts.
            Ok(count) => reply.written(count as u32),
            Err(failed) => reply.error(errno(failed)),
        }
    }

    fn fsync(&self, _: &Request, _: INodeNo, _: FileHandle, _: bool, reply: ReplyEmpty) {
        match self.files.flush() {
            Ok(()) => reply.ok(),
            Err(failed) => reply.error(errno(failed)),
        }
    }

    fn fsyncdir(&self, _: &Request, _: INodeNo, _: FileHandle, _: bool, reply: ReplyEmpty) {
        reply.ok();
    }

    /// Holes and zeros, which reach the image; space cannot be set aside.
    fn fallocate(
        &self,
        _: &Request,
        number: INodeNo,
        _: FileHandle,
        offset: u64,
        length: u64,
        mode: i32,
        reply: ReplyEmpty,
    ) {
        let Some(file) = self.file(number) else { return reply.error(Errno::EISDIR) };
        let is_zeroing = mode == PUNCH_HOLE | KEEP_SIZE || mode & !KEEP_SIZE == ZERO_RANGE;
        if !is_zeroing {
            return reply.error(Errno::EOPNOTSUPP);
        }
        if mode & KEEP_SIZE == 0 && offset.saturating_add(length) > self.files.len(file) {
            return reply.error(Errno::ENOSPC);
        }
        match self.files.zero(file, offset, length) {
            Ok(()) => reply.ok(),
            Err(failed) => reply.error(errno(failed)),
        }
    }

    fn lseek(&self, _: &Request, number: INodeNo, _: FileHandle, offset: i64, whence: i32, reply: ReplyLseek) {
        let (Some(file), Ok(from)) = (self.file(number), u64::try_from(offset)) else {
            return reply.error(Errno::EINVAL);
        };
        if ![SEEK_DATA, SEEK_HOLE].contains(&whence) {
            return reply.error(Errno::EINVAL);
        }
        match self.files.seek(file, from, whence == SEEK_HOLE) {
            Ok(found) => match found.and_then(|found| i64::try_from(found).ok()) {
                Some(found) => reply.offset(found),
                None => reply.error(Errno::ENXIO),
            },
            Err(failed) => reply.error(errno(failed)),
        }
    }

    fn readdir(&self, _: &Request, number: INodeNo, _: FileHandle, offset: u64, mut reply: ReplyDirectory) {
        if number != INodeNo::ROOT {
            return reply.error(Errno::ENOTDIR);
        }
        let folders = [".", ".."].map(|name| (INodeNo::ROOT, FileType::Directory, name.to_owned()));
        let files = self
            .files
            .all()
            .enumerate()
            .map(|(at, file)| (INodeNo(at as u64 + FIRST), FileType::RegularFile, self.files.name(file)));
        let entries = (1..).zip(folders.into_iter().chain(files));
        for (next, (number, kind, name)) in entries.skip(usize::try_from(offset).unwrap_or(usize::MAX)) {
            if reply.add(number, next, kind, name) {
                break;
            }
        }
        reply.ok();
    }

    // What is in the folder is what the disk has.

    fn mknod(&self, _: &Request, _: INodeNo, _: &OsStr, _: u32, _: u32, _: u32, reply: ReplyEntry) {
        reply.error(Errno::EPERM);
    }

    fn mkdir(&self, _: &Request, _: INodeNo, _: &OsStr, _: u32, _: u32, reply: ReplyEntry) {
        reply.error(Errno::EPERM);
    }

    fn unlink(&self, _: &Request, _: INodeNo, _: &OsStr, reply: ReplyEmpty) {
        reply.error(Errno::EPERM);
    }

    fn rename(&self, _: &Request, _: INodeNo, _: &OsStr, _: INodeNo, _: &OsStr, _: RenameFlags, reply: ReplyEmpty) {
        reply.error(Errno::EPERM);
    }

    fn statfs(&self, _: &Request, _: INodeNo, reply: ReplyStatfs) {
        let blocks = self.files.len(File::Disk).div_ceil(4096);
        reply.statfs(blocks, 0, 0, self.files.all().count() as u64, 0, 4096, 255, 4096);
    }
}
