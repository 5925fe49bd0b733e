//! Guest bytes, for scripts.

use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use crate::chain::{Chain, ChainMut, Disk, OpenOptions};
use crate::error::{Error, Result};
use crate::family::{Guard, OpenForWriting};
use crate::image::Format;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::size::format_size;

const CHUNK: usize = 1 << 20;

/// Bytes of a disk to be copied somewhere else.
#[derive(Clone)]
pub struct ReadBytes<'a> {
    path: PathBuf,
    at: u64,
    len: u64,
    format: Option<Format>,
    out: Arc<Mutex<dyn Write + Send + 'a>>,
}

impl<'a> ReadBytes<'a> {
    /// So many bytes of the disk whose current image is `path`, from byte `at` on, into `out`.
    pub fn new(path: impl Into<PathBuf>, at: u64, len: u64, out: impl Write + Send + 'a) -> Self {
        Self { path: path.into(), at, len, format: None, out: Arc::new(Mutex::new(out)) }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }
}

impl<'a> Operation for ReadBytes<'a> {
    type Planned = ReadBytesPlan<'a>;

    /// Checks that they are there. The disk stays locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the range reaches past the end of the disk; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let disk = Chain::open(&self.path, &OpenOptions::of_format(self.format))?;
        refuse_outside(&disk, &self.path, self.at, self.len)?;
        let mut plan = Plan { operation: "bytes read", bytes_read: self.len, ..Plan::default() };
        plan.steps.push(format!("read {} at byte {} of {}", format_size(self.len), self.at, self.path.display()));
        Ok(ReadBytesPlan { plan, request: self, disk })
    }
}

/// A checked plan to read bytes.
pub struct ReadBytesPlan<'a> {
    plan: Plan,
    request: ReadBytes<'a>,
    disk: Chain,
}

impl Planned for ReadBytesPlan<'_> {
    type Outcome = ();

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Copies them out.
    ///
    /// # Errors
    /// `Io`, also when the output takes no more; `Damaged`, `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<()> {
        let ReadBytes { path, at, len, out, .. } = &self.request;
        let mut out = out.lock().unwrap_or_else(PoisonError::into_inner);
        let mut buffer = vec![0; CHUNK];
        let mut done = 0;
        progress.begin("reading", *len);
        while done < *len {
            progress.check()?;
            let step = (*len - done).min(CHUNK as u64) as usize;
            self.disk.read_at(&mut buffer[..step], at + done)?;
            out.write_all(&buffer[..step]).map_err(|e| Error::io("write out the bytes of", path, e))?;
            progress.advance(step as u64);
            done += step as u64;
        }
        out.flush().map_err(|e| Error::io("write out the bytes of", path, e))
    }
}

/// Bytes to be written into a disk.
///
/// What it can be allowed to do all the same: [`UnknownChildren`](crate::family::Override::UnknownChildren),
/// [`InUse`](crate::family::Override::InUse), [`HardLinks`](crate::family::Override::HardLinks),
/// [`SavedState`](crate::family::Override::SavedState).
#[derive(Clone)]
pub struct WriteBytes<'a> {
    path: PathBuf,
    at: u64,
    len: u64,
    format: Option<Format>,
    guard: Guard,
    input: Arc<Mutex<dyn Read + Send + 'a>>,
}

impl<'a> WriteBytes<'a> {
    /// So many bytes of `input` into the disk whose current image is `path`, from byte `at` on.
    pub fn new(path: impl Into<PathBuf>, at: u64, len: u64, input: impl Read + Send + 'a) -> Self {
        let input = Arc::new(Mutex::new(input));
        Self { path: path.into(), at, len, format: None, guard: Guard::new(), input }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }
}

impl<'a> Operation for WriteBytes<'a> {
    type Planned = WriteBytesPlan<'a>;

    /// Checks that writing is safe. The image stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the range reaches past the end of the disk; otherwise as [`ChainMut::open_guarded`].
    fn plan(self) -> Result<Self::Planned> {
        // A pending log is left to the run; what is read here needs no lock beside this one.
        let locked = self.guard.open_for_writing(&self.path)?;
        let disk = Chain::open(&self.path, &OpenOptions::of_format(self.format).without_locks())?;
        refuse_outside(&disk, &self.path, self.at, self.len)?;
        let mut plan = Plan { operation: "bytes write", warnings: locked.warnings.clone(), ..Plan::default() };
        plan.bytes_written = self.len;
        plan.steps.push(format!("write {} at byte {} of {}", format_size(self.len), self.at, self.path.display()));
        plan.files.change.push(self.path.clone());
        Ok(WriteBytesPlan { plan, request: self, locked })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to write bytes.
pub struct WriteBytesPlan<'a> {
    plan: Plan,
    request: WriteBytes<'a>,
    /// Keeps others away from the image.
    locked: OpenForWriting,
}

impl Planned for WriteBytesPlan<'_> {
    type Outcome = ();

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Writes as many bytes of the input as were announced; what follows them is not read. On return they are durable;
    /// after a crash or an error before that, any part of them may be there, and everything else is as it was.
    ///
    /// # Errors
    /// `Refused` when the image is read-only or in use; `Io`, also when the input ends early; `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<()> {
        let WriteBytes { path, at, len, format, guard, input } = &self.request;
        self.locked.refuse_swapped(path)?;
        guard.refuse_writers([&**path])?;
        let mut input = input.lock().unwrap_or_else(PoisonError::into_inner);
        let disk = ChainMut::over(self.locked.clone(), &OpenOptions::of_format(*format))?;
        progress.begin("writing", *len);
        let mut pump = || {
            let mut buffer = vec![0; CHUNK];
            let mut done = 0;
            while done < *len {
                progress.check()?;
                let step = (*len - done).min(CHUNK as u64) as usize;
                let part = &mut buffer[..step];
                input.read_exact(part).map_err(|e| Error::io("read all the bytes to be written to", path, e))?;
                disk.write_at(part, at + done)?;
                progress.advance(step as u64);
                done += step as u64;
            }
            Ok(())
        };
        let outcome = pump();
        // What came before a stop is kept; its own error says more than one of closing.
        let closed = disk.close();
        outcome.and(closed)
    }
}

fn refuse_outside(disk: &Chain, path: &Path, at: u64, len: u64) -> Result<()> {
    match at.checked_add(len) {
        Some(end) if end <= disk.virtual_size() => Ok(()),
        _ => Err(Error::usage(
            format!("{len} bytes at byte {at} reach past the end of {}", path.display()),
            format!("the disk has {} bytes", disk.virtual_size()),
        )),
    }
}
