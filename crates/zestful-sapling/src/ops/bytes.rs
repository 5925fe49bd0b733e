//! Guest bytes, for scripts.

use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use super::plan::Plan;
use crate::chain::{Chain, ChainMut, Disk, OpenOptions};
use crate::error::{Error, Result};
use crate::family::{Guard, OpenForWriting, Override, Search};
use crate::image::Format;
use crate::progress::Progress;
use crate::size::format_size;

const CHUNK: usize = 1 << 20;

/// Copies `len` bytes of the disk from byte `at` on into `out`.
///
/// # Errors
/// `Usage` when the range reaches past the end of the disk; `Io` when `out` takes no more; `Cancelled`; otherwise as
/// [`Chain::open`].
pub fn read_bytes(
    path: &Path,
    format: Option<Format>,
    at: u64,
    len: u64,
    out: &mut dyn Write,
    progress: &Progress,
) -> Result<()> {
    let disk = Chain::open(path, &OpenOptions::new().with_format(format))?;
    refuse_outside(&disk, path, at, len)?;
    let mut buffer = vec![0; CHUNK];
    let mut done = 0;
    progress.begin("reading", len);
    while done < len {
        progress.check()?;
        let step = (len - done).min(CHUNK as u64) as usize;
        disk.read_at(&mut buffer[..step], at + done)?;
        out.write_all(&buffer[..step]).map_err(|e| Error::io("write out the bytes of", path, e))?;
        progress.advance(step as u64);
        done += step as u64;
    }
    Ok(())
}

/// Bytes to be written into a disk.
#[derive(Clone, Debug)]
pub struct WriteBytes {
    path: PathBuf,
    at: u64,
    len: u64,
    format: Option<Format>,
    guard: Guard,
}

impl WriteBytes {
    /// So many bytes into the disk whose current image is `path`, from byte `at` on.
    pub fn new(path: impl Into<PathBuf>, at: u64, len: u64) -> Self {
        Self { path: path.into(), at, len, format: None, guard: Guard::new() }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Option<Format>) -> Self {
        self.format = format;
        self
    }

    /// Where to search for children beside the image's own folder.
    pub fn with_search(mut self, search: Search) -> Self {
        self.guard = self.guard.with_search(search);
        self
    }

    /// Allows something unusual: [`Override::UnknownChildren`], [`Override::InUse`], [`Override::HardLinks`],
    /// [`Override::SavedState`].
    pub fn with_override(mut self, allowed: Override) -> Self {
        self.guard = self.guard.with_override(allowed);
        self
    }

    /// Checks that writing is safe.
    ///
    /// # Errors
    /// `Usage` when the range reaches past the end of the disk; otherwise as [`ChainMut::open_guarded`].
    pub fn plan(self) -> Result<WriteBytesPlan> {
        let options = OpenOptions::new().with_format(self.format);
        // A pending log is left to the run; what is read here needs no lock beside this one.
        let locked = self.guard.open_for_writing(&self.path)?;
        let disk = Chain::open(&self.path, &options.without_locks())?;
        refuse_outside(&disk, &self.path, self.at, self.len)?;
        let mut plan = Plan { operation: "bytes write", warnings: locked.warnings.clone(), ..Plan::default() };
        plan.steps.push(format!("write {} at byte {} of {}", format_size(self.len), self.at, self.path.display()));
        plan.files.change.push(self.path.clone());
        Ok(WriteBytesPlan { plan, request: self, locked })
    }
}

/// A checked plan to write bytes.
pub struct WriteBytesPlan {
    plan: Plan,
    request: WriteBytes,
    /// Keeps others away from the image.
    locked: OpenForWriting,
}

impl WriteBytesPlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Writes as many bytes of `input` as were announced; what follows them is not read. On return they are durable;
    /// after a crash or an error before that, any part of them may be there, and everything else is as it was.
    ///
    /// # Errors
    /// `Refused` when the image is read-only or in use; `Io`, also when the input ends early; `Cancelled`.
    pub fn run(&self, input: &mut dyn Read, progress: &Progress) -> Result<()> {
        let WriteBytes { path, at, len, format, guard } = &self.request;
        self.locked.refuse_swapped(path)?;
        guard.refuse_writers([&**path])?;
        let mut disk = ChainMut::over(self.locked.clone(), &OpenOptions::new().with_format(*format))?;
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
