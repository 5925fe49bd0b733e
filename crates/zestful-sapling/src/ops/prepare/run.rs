//! The volumes are made ready, then the disk.

use std::fs::File;
use std::ops::Range;
use std::os::unix::fs::FileExt;

use rustix::fs::SeekFrom;
use rustix::io::Errno;

use super::fat_writer::FatWriter;
use super::judge::{Found, judge};
use super::layout::GRAIN;
use super::plan::{PrepareOutcome, PreparePlan};
use super::request::{NewFileSystem, NewVolume};
use super::scratch::Scratch;
use super::{fat, host_tools};
use crate::bytes::data_runs;
use crate::chain::{Chain, ChainMut, Disk, OpenOptions};
use crate::error::{Error, Refusal, Result};
use crate::guest::{MARK_LEN, MARK_PLACE, NewKind, NewPartition, mark, new_table, volumes};
use crate::image::Kind;
use crate::operation::{Plan, Planned};
use crate::progress::Progress;
use crate::transfer::pipeline::zero;

const PIECE: u64 = 1 << 20;
/// Zeros of this length are not written.
const ZEROS: usize = 4096;

/// A volume that is ready.
struct Ready {
    scratch: Option<Scratch>,
    kind: NewKind,
}

impl Planned for PreparePlan {
    type Outcome = PrepareOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Prepares the disk. Nothing of it is changed before every volume is ready beside it. From then on until the table
    /// stands the disk has none, however it ends, and can be prepared again; of a disk that was not blank the old
    /// content is lost from then on. On return all of it is durable.
    ///
    /// # Errors
    /// `Refused` when the image was swapped or somebody writes to it; `Io`, also with what a program said; `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<PrepareOutcome> {
        let path = &self.request.path;
        let mut ready = Vec::new();
        for (number, (volume, (start, len))) in (1..).zip(self.volumes()) {
            progress.begin(format!("making volume {number} ready"), 0);
            ready.push(self.make(number, volume, start, len, progress)?);
        }
        self.locked.refuse_swapped(path)?;
        self.request.guard.refuse_writers([&**path])?;
        let options = OpenOptions::of_format(self.request.format);
        let disk = ChainMut::over(self.locked.clone(), &options)?;
        // A program without locks may have come and gone since the plan, while the volumes were made.
        let done = self.look_again(&disk).and_then(|()| self.put(&disk, &ready, progress));
        // What came before a stop is kept; its own error says more than one of closing.
        let closed = disk.close();
        done.and(closed)?;
        let found = volumes(&Chain::open(path, &options.without_locks())?)?;
        Ok(PrepareOutcome { path: path.clone(), volumes: found })
    }
}

impl PreparePlan {
    fn look_again(&self, disk: &ChainMut) -> Result<()> {
        if matches!(self.found, Found::Content(_)) {
            return Ok(());
        }
        match judge(disk)? {
            Found::Content(there) => Err(Error::refused(
                Refusal::NotBlank { path: self.request.path.clone(), content: there.clone() },
                format!("{} is not blank any more: {}", self.request.path.display(), there.join("; ")),
                "find out who has written to it",
            )),
            _ => Ok(()),
        }
    }

    fn make(&self, number: usize, volume: &NewVolume, start: u64, len: u64, progress: &Progress) -> Result<Ready> {
        let program = &self.programs[number - 1];
        let kind = match volume.file_system {
            NewFileSystem::Ntfs => NewKind::Ntfs,
            NewFileSystem::Fat => NewKind::Fat(32),
            _ => NewKind::Linux,
        };
        if volume.file_system == NewFileSystem::None {
            return Ok(Ready { scratch: None, kind });
        }
        let scratch = Scratch::new(&self.scratch, &self.request.path, len)?;
        if let Some(program) = program {
            host_tools::make(program, volume, scratch.path(), (start, self.sector), progress)?;
            return Ok(Ready { scratch: Some(scratch), kind });
        }
        let bits = fat::format(&scratch, &volume.label, start, self.sector)?;
        if let Some(folder) = &volume.fill {
            FatWriter::new(&scratch, bits, progress)?.fill(folder)?;
        }
        Ok(Ready { scratch: Some(scratch), kind: NewKind::Fat(bits) })
    }

    /// Everything onto the disk, in the order that keeps it blank until the end.
    fn put(&self, disk: &ChainMut, ready: &[Ready], progress: &Progress) -> Result<()> {
        let size = disk.virtual_size();
        // From here on what has no table is nobody's.
        disk.write_at(&mark(), MARK_PLACE)?;
        disk.flush()?;
        let old = self.found != Found::Blank;
        if old {
            // The first sector by itself: without it, and with the mark, the rest counts as nothing. Then both ends,
            // where tables and signatures stand.
            let (first, behind_mark) = (self.sector, MARK_PLACE + MARK_LEN as u64);
            wipe(disk, 0..first, progress)?;
            disk.flush()?;
            let rest = [first..MARK_PLACE, behind_mark..GRAIN, size - GRAIN..size];
            rest.into_iter().try_for_each(|range| wipe(disk, range, progress))?;
            disk.flush()?;
        }
        let total = self.plan.bytes_written / 2;
        for (number, ((volume, (start, len)), ready)) in (1..).zip(self.volumes().zip(ready)) {
            progress.begin(format!("writing volume {number}"), total);
            // A file system takes for granted that what it has not written is zero.
            if self.request.wipe || old && volume.file_system != NewFileSystem::None {
                wipe(disk, start..start + len, progress)?;
            }
            if let Some(scratch) = &ready.scratch {
                copy(&scratch.open()?, scratch, disk, start, progress)?;
            }
        }
        disk.flush()?;
        progress.check()?;
        let partitions = self.volumes().zip(ready).map(|((volume, (start, len)), ready)| NewPartition {
            start,
            len,
            kind: ready.kind,
            name: volume.label.clone(),
        });
        let partitions: Vec<NewPartition> = partitions.collect();
        for step in new_table(self.request.table, size, self.sector, &partitions)? {
            step.iter().try_for_each(|(at, bytes)| disk.write_at(bytes, *at))?;
            disk.flush()?;
        }
        disk.write_at(&[0; MARK_LEN], MARK_PLACE)
    }
}

/// Makes a range read as zero. A fixed image keeps the space that it has: there only what is not zero is written over.
fn wipe(disk: &ChainMut, range: Range<u64>, progress: &Progress) -> Result<()> {
    if disk.info().kind != Kind::Fixed {
        return zero(range, progress, |at, len| disk.zero_at(at, len));
    }
    let (mut at, mut buffer) = (range.start, vec![0; PIECE as usize]);
    let zeros = vec![0; PIECE as usize];
    while at < range.end {
        progress.check()?;
        let status = disk.status_at(at, range.end - at)?;
        if status.is_hole {
            at += status.len;
            continue;
        }
        let len = status.len.min(PIECE) as usize;
        disk.read_at(&mut buffer[..len], at)?;
        for run in data_runs(&buffer[..len], ZEROS) {
            let place = at + run.start as u64;
            disk.write_at(&zeros[run], place)?;
        }
        at += len as u64;
    }
    Ok(())
}

/// What is not zero in the scratch file, onto a part of the disk that reads as zero.
fn copy(file: &File, scratch: &Scratch, disk: &ChainMut, start: u64, progress: &Progress) -> Result<()> {
    let failed = |source: std::io::Error| Error::io("read", scratch.path(), source);
    let mut buffer = vec![0; PIECE as usize];
    let mut at = 0;
    while at < scratch.len() {
        at = match rustix::fs::seek(file, SeekFrom::Data(at)) {
            Ok(data) => data / ZEROS as u64 * ZEROS as u64,
            Err(Errno::NXIO) => return Ok(()),
            // Not every file system tells its holes.
            Err(Errno::INVAL | Errno::OPNOTSUPP) => at,
            Err(error) => return Err(failed(error.into())),
        };
        let part = &mut buffer[..PIECE.min(scratch.len() - at) as usize];
        progress.check()?;
        file.read_exact_at(part, at).map_err(failed)?;
        for run in data_runs(part, ZEROS) {
            let place = start + at + run.start as u64;
            disk.write_at(&part[run], place)?;
        }
        progress.advance(part.len() as u64);
        at += part.len() as u64;
    }
    Ok(())
}
