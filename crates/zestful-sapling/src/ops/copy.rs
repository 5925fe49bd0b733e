//! Copies of a disk into a new image: conversion, and the flattening of a chain.

use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};

use serde::Serialize;

use super::Plan;
use super::blank::{Blank, Space, Wishes};
use crate::bytes::is_zero;
use crate::chain::{Chain, Disk, OpenOptions};
use crate::error::{Error, Result};
use crate::image::{Format, Image, ImageMut, Kind, format_of_name, open_image_mut};
use crate::progress::Progress;
use crate::size::format_size;
use crate::storage::{StagedFile, refuse_existing};

/// Bytes that are read and written at a time: as many as stay in the processor's cache between the two threads.
const CHUNK: u64 = 256 << 10;
/// Chunks between the reading and the writing thread.
const IN_FLIGHT: usize = 4;
/// Bytes after which the host is asked to put them on its disk.
const SYNC_EVERY: u64 = 16 << 20;
/// Zeros of this length and alignment are left out.
const GRAIN: usize = 4096;

/// A disk to be copied. The whole chain is read; the copy is one image without a parent.
#[derive(Clone, Debug)]
pub struct Copy {
    source: PathBuf,
    target: PathBuf,
    source_format: Option<Format>,
    wishes: Wishes,
}

impl Copy {
    /// The disk that `source` is the current image of, into a new file.
    pub fn new(source: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        Self { source: source.into(), target: target.into(), source_format: None, wishes: Wishes::default() }
    }

    /// The source's format, whatever its signature says.
    pub fn with_source_format(mut self, format: Option<Format>) -> Self {
        self.source_format = format;
        self
    }

    /// The copy's format, whatever its name says.
    pub fn with_format(mut self, format: Option<Format>) -> Self {
        self.wishes.format = format;
        self
    }

    /// Fixed or dynamic.
    pub fn with_kind(mut self, kind: Option<Kind>) -> Self {
        self.wishes.kind = kind;
        self
    }

    /// The copy's block size.
    pub fn with_block_size(mut self, bytes: Option<u64>) -> Self {
        self.wishes.block_size = bytes;
        self
    }

    /// How a fixed copy takes its space: a raw one is sparse, others are reserved unless something else is asked for.
    pub fn with_space(mut self, space: Option<Space>) -> Self {
        self.wishes.space = space;
        self
    }

    /// The format that the copy will have, if option or name say so.
    pub fn target_format(&self) -> Option<Format> {
        self.wishes.format.or_else(|| format_of_name(&self.target))
    }

    /// What copying would do. The source and its parents stay locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// `Refused` when something stands at the target, or the host cannot hold what is allocated in the source;
    /// `Usage` when the target's format has no such disk; otherwise as [`Chain::open`].
    pub fn plan(self) -> Result<CopyPlan> {
        let source = Chain::open(&self.source, &OpenOptions::new().with_format(self.source_format))?;
        let info = source.info();
        // Raw has no sector size to keep, and formats without a choice of sectors have those of a raw disk.
        let sectors = (self.target_format() == Some(Format::Vhdx) && info.format == Format::Vhdx)
            .then_some((info.logical_sector, info.physical_sector));
        if self.target_format() != Some(Format::Vhdx) && info.logical_sector != 512 {
            return Err(Error::usage(
                format!(
                    "{} has sectors of {} bytes, the copy would have 512",
                    self.source.display(),
                    info.logical_sector
                ),
                "a partition table made for other sectors cannot be read any more: copy to a vhdx image",
            ));
        }
        let fixed_space = if self.target_format() == Some(Format::Raw) { Space::Sparse } else { Space::Reserved };
        let wishes = Wishes { sectors, ..self.wishes };
        let blank = Blank::new(&self.target, info.virtual_size, wishes, fixed_space)?;
        refuse_existing(&self.target)?;
        let mut plan = Plan { operation: "copy", ..Plan::default() };
        plan.steps.push(format!("make {}: {}", self.target.display(), blank.describe()));
        plan.bytes_read = data_len(&source)?;
        plan.bytes_written = plan.bytes_read + blank.initial_len()?;
        // What is claimed at first is what the data then fills.
        plan.peak_extra_space = if blank.can_outgrow() { plan.bytes_written } else { blank.initial_len()? };
        let layers = source.layers().len();
        plan.steps.push(format!(
            "copy at most {} of data from {}",
            format_size(plan.bytes_read),
            if layers == 1 { self.source.display().to_string() } else { format!("{layers} layers") }
        ));
        plan.files.create.push(self.target.clone());
        Plan::require_space(&self.target, plan.peak_extra_space)?;
        if blank.can_outgrow() {
            plan.warn_of_growth(&self.target, info.virtual_size)?;
        }
        Ok(CopyPlan { plan, source, target: self.target, blank })
    }
}

/// A checked plan to copy a disk.
pub struct CopyPlan {
    plan: Plan,
    source: Chain,
    target: PathBuf,
    blank: Blank,
}

/// What a copy did. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct CopyOutcome {
    /// The new image.
    pub path: PathBuf,
    /// The size that a guest sees.
    pub virtual_size: u64,
    /// Bytes that were not zero and so were written.
    pub bytes_written: u64,
}

impl CopyPlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Copies the disk. The copy appears under its name only when it is complete and durable; stopped, failed or
    /// killed before, nothing stands there.
    ///
    /// # Errors
    /// `Cancelled`; `Damaged` when a block of the source cannot be read; `Refused` when something appeared at the
    /// target since; `Io`.
    pub fn run(&self, progress: &Progress) -> Result<CopyOutcome> {
        Plan::require_space(&self.target, self.plan.peak_extra_space)?;
        let staged = StagedFile::create(&self.target)?;
        self.blank.lay_out(&staged, progress)?;
        let mut image = open_image_mut(staged.storage(), Some(self.blank.format()))?;
        progress.begin(format!("copying to {}", file_name(&self.target)), self.plan.bytes_read);
        let bytes_written = transfer(&self.source, &mut *image, &|| staged.sync_so_far(), progress)?;
        progress.check()?;
        image.close()?;
        staged.publish()?;
        Ok(CopyOutcome { path: self.target.clone(), virtual_size: self.source.virtual_size(), bytes_written })
    }
}

fn file_name(path: &Path) -> String {
    path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned()
}

/// A part of the disk that is data in one layer's file.
struct Piece<'a> {
    layer: &'a dyn Image,
    /// The byte in the layer's file.
    at: u64,
    /// The byte of the disk.
    offset: u64,
    len: u64,
}

/// Calls `act` with each part of the disk that may hold anything but zeros.
fn for_each_piece<'a>(disk: &'a dyn Disk, mut act: impl FnMut(Piece<'a>) -> Result<()>) -> Result<()> {
    let (mut offset, size) = (0, disk.virtual_size());
    while offset < size {
        let extent = disk.extent_at(offset, size - offset)?;
        if let Some((layer, at)) = extent.data.and_then(|(number, at)| disk.layer(number).map(|layer| (layer, at))) {
            let (mut from, end) = (at, at + extent.len);
            while from < end {
                let data = layer.host_data(from, end - from)?;
                if !data.is_empty() {
                    act(Piece {
                        layer,
                        at: data.start,
                        offset: offset + (data.start - at),
                        len: data.end - data.start,
                    })?;
                }
                from = data.end;
            }
        }
        offset += extent.len;
    }
    Ok(())
}

/// How much data a disk holds at most, as far as tables and the host's holes tell.
fn data_len(disk: &dyn Disk) -> Result<u64> {
    let mut total = 0;
    for_each_piece(disk, |piece| {
        total += piece.len;
        Ok(())
    })?;
    Ok(total)
}

struct Chunk {
    offset: u64,
    bytes: Vec<u8>,
}

/// Copies all data: one thread reads, this one writes, and a third has the host put on its disk what was written,
/// with `sync`, so that the end has little left to wait for.
fn transfer(
    source: &dyn Disk,
    target: &mut dyn ImageMut,
    sync: &(dyn Fn() -> Result<()> + Sync),
    progress: &Progress,
) -> Result<u64> {
    std::thread::scope(|scope| {
        let (full, filled) = sync_channel::<Result<Chunk>>(IN_FLIGHT);
        let (used, empty) = channel::<Vec<u8>>();
        let (wish, wishes) = sync_channel::<()>(1);
        scope.spawn(move || {
            if let Err(error) = read_all(source, &empty, |chunk| full.send(Ok(chunk)).is_ok()) {
                // The writer has gone when nobody takes it, and has an error of its own.
                _ = full.send(Err(error));
            }
        });
        let syncer = scope.spawn(move || wishes.iter().try_for_each(|()| sync()));
        let written = write_all(target, &filled, &used, &wish, progress);
        drop(wish);
        let synced = syncer.join().unwrap_or(Err(Error::Cancelled));
        written.and_then(|written| synced.map(|()| written))
    })
}

fn read_all(source: &dyn Disk, empty: &Receiver<Vec<u8>>, mut send: impl FnMut(Chunk) -> bool) -> Result<()> {
    for_each_piece(source, |piece| {
        let mut done = 0;
        while done < piece.len {
            // Chunks end at multiples of their size, so that the next one begins aligned.
            let step = (CHUNK - (piece.offset + done) % CHUNK).min(piece.len - done);
            let mut bytes = empty.try_recv().unwrap_or_default();
            bytes.resize(step as usize, 0);
            piece.layer.read_data(&mut bytes, piece.at + done)?;
            if !send(Chunk { offset: piece.offset + done, bytes }) {
                return Err(Error::Cancelled);
            }
            done += step;
        }
        Ok(())
    })
}

fn write_all(
    target: &mut dyn ImageMut,
    filled: &Receiver<Result<Chunk>>,
    used: &Sender<Vec<u8>>,
    wish: &SyncSender<()>,
    progress: &Progress,
) -> Result<u64> {
    let (mut written, mut wished) = (0, 0);
    for chunk in filled {
        progress.check()?;
        let chunk = chunk?;
        for run in data_runs(&chunk.bytes) {
            target.write_at(&chunk.bytes[run.clone()], chunk.offset + run.start as u64)?;
            written += run.len() as u64;
        }
        if written - wished >= SYNC_EVERY {
            // While the one before is still at work it takes this in as well, or the next one does.
            _ = wish.try_send(());
            wished = written;
        }
        progress.advance(chunk.bytes.len() as u64);
        // Nobody needs the buffer once the reader is done.
        _ = used.send(chunk.bytes);
    }
    Ok(written)
}

/// The parts of a chunk that are not zero, in whole grains.
fn data_runs(bytes: &[u8]) -> Vec<std::ops::Range<usize>> {
    let mut runs: Vec<std::ops::Range<usize>> = Vec::new();
    for (number, grain) in bytes.chunks(GRAIN).enumerate() {
        if is_zero(grain) {
            continue;
        }
        let start = number * GRAIN;
        match runs.last_mut().filter(|run| run.end == start) {
            Some(run) => run.end += grain.len(),
            None => runs.push(start..start + grain.len()),
        }
    }
    runs
}
