//! All the data of one disk into a new image.

use std::collections::HashMap;
use std::fs::File;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};

use super::digest::ContentDigest;
use super::target::Staged;
use crate::bytes::is_zero;
use crate::chain::{ChainMut, Disk, Part, Stretch, for_each_part, for_each_stretch};
use crate::error::{Error, Result};
use crate::image::Image;
use crate::progress::Progress;
use crate::storage::StagedFile;

/// Bytes that are read and written at a time: as many as stay in the processor's cache between the two threads.
const CHUNK: u64 = 256 << 10;
/// Chunks between the reading and the writing thread.
const IN_FLIGHT: usize = 4;
/// Bytes after which the host is asked to put them on its disk.
const SYNC_EVERY: u64 = 16 << 20;
/// Zeros of this length and alignment are left out.
const GRAIN: usize = 4096;
/// Zeros that are written by one call at most, so that the work can be stopped in between.
const ZERO_STEP: u64 = 64 << 20;

/// What an image is to be filled with.
#[derive(Clone, Copy)]
pub(super) enum Content<'a> {
    /// All that a guest sees.
    Disk(&'a dyn Disk),
    /// What this layer alone holds, its explicit zeros included; what comes from its parent is left out.
    Layer(&'a dyn Image),
}

/// How an image is to be filled.
pub(super) struct Filling<'a> {
    pub(super) source: Content<'a>,
    pub(super) staged: &'a Staged,
    /// Whether the digest of what is read is wanted.
    pub(super) digest: bool,
    pub(super) progress: &'a Progress,
}

/// What was filled in.
pub(super) struct Filled {
    /// Bytes that were not zero and so were written.
    pub(super) written: u64,
    pub(super) digest: Option<blake3::Hash>,
}

impl Filling<'_> {
    /// One thread reads, this one writes, and a third has the host put on its disk what was written, so that the end
    /// has little left to wait for.
    pub(super) fn run(&self, target: &mut ChainMut) -> Result<Filled> {
        let size = target.virtual_size();
        std::thread::scope(|scope| {
            let (full, filled) = sync_channel::<Result<Chunk>>(IN_FLIGHT);
            let (used, empty) = channel::<Vec<u8>>();
            let (wish, wishes) = sync_channel::<()>(1);
            let reader = scope.spawn(move || {
                let mut digest = self.digest.then(ContentDigest::new);
                let read = read_all(self.source, &empty, |chunk| {
                    if let (Some(digest), Chunk::Data { offset, bytes }) = (&mut digest, &chunk) {
                        digest.push(*offset, bytes);
                    }
                    full.send(Ok(chunk)).is_ok()
                });
                if let Err(error) = read {
                    // The writer has gone when nobody takes it, and has an error of its own.
                    _ = full.send(Err(error));
                }
                digest.map(|digest| digest.finish(size))
            });
            let syncer = scope.spawn(move || wishes.iter().try_for_each(|()| self.staged.sync_so_far()));
            let written = self.write_all(target, &filled, &used, &wish);
            drop((wish, filled));
            let synced = syncer.join().unwrap_or(Err(Error::Cancelled));
            let digest = reader.join().unwrap_or_default();
            written.and_then(|written| synced.map(|()| Filled { written, digest }))
        })
    }

    fn write_all(
        &self,
        target: &mut ChainMut,
        filled: &Receiver<Result<Chunk>>,
        used: &Sender<Vec<u8>>,
        wish: &SyncSender<()>,
    ) -> Result<u64> {
        let (mut written, mut wished, mut next) = (0, 0, 0);
        for chunk in filled {
            self.progress.check()?;
            let (start, bytes) = match chunk? {
                Chunk::Data { offset, bytes } => (offset, bytes),
                Chunk::Zeros(range) => {
                    zero(target, range, self.progress)?;
                    continue;
                }
            };
            for run in self.runs_to_write(&bytes) {
                let offset = start + run.start as u64;
                self.clear(target, next..offset)?;
                target.write_at(&bytes[run.clone()], offset)?;
                next = offset + run.len() as u64;
                written += run.len() as u64;
            }
            if written - wished >= SYNC_EVERY {
                // While the one before is still at work it takes this in as well, or the next one does.
                _ = wish.try_send(());
                wished = written;
            }
            self.progress.advance(bytes.len() as u64);
            // Nobody needs the buffer once the reader is done.
            _ = used.send(bytes);
        }
        let end = target.virtual_size();
        self.clear(target, next..end)?;
        Ok(written)
    }

    /// Over a parent zeros are content; elsewhere they are left out.
    fn runs_to_write(&self, bytes: &[u8]) -> Vec<Range<usize>> {
        match self.source {
            Content::Layer(layer) if layer.info().parent.is_some() => std::iter::once(0..bytes.len()).collect(),
            _ => data_runs(bytes),
        }
    }

    /// Zeros over old content. Elsewhere nothing need be done: new space reads as zero.
    fn clear(&self, target: &mut ChainMut, range: Range<u64>) -> Result<()> {
        if self.staged.is_used() { zero(target, range, self.progress) } else { Ok(()) }
    }
}

fn zero(target: &mut ChainMut, mut range: Range<u64>, progress: &Progress) -> Result<()> {
    while !range.is_empty() {
        progress.check()?;
        let step = ZERO_STEP.min(range.end - range.start);
        target.zero_at(range.start, step)?;
        range.start += step;
    }
    Ok(())
}

/// The same by letting the new file share the space of the source's files; for an image whose every byte has its place
/// already. Returns how many bytes that were.
pub(super) fn share(source: &dyn Disk, file: &StagedFile, target: &ChainMut, progress: &Progress) -> Result<u64> {
    let mut files: HashMap<PathBuf, File> = HashMap::new();
    let mut shared = 0;
    for_each_stretch(source, |stretch| {
        progress.check()?;
        let path = stretch.layer.path();
        if !files.contains_key(path) {
            files.insert(path.to_owned(), open_source(path)?);
        }
        let from = &files[path];
        let mut done = 0;
        while done < stretch.len {
            let extent = target.extent_at(stretch.offset + done, stretch.len - done)?;
            let Some((0, at)) = extent.data else {
                let message = format!("byte {} of the new image has no place yet", stretch.offset + done);
                return Err(Error::usage(message, "share only with fixed images"));
            };
            file.copy_from(from, stretch.at + done, at, extent.len)?;
            done += extent.len;
            progress.advance(extent.len);
        }
        shared += stretch.len;
        Ok(())
    })?;
    Ok(shared)
}

fn open_source(path: &Path) -> Result<File> {
    File::open(path).map_err(|e| Error::io("open", path, e))
}

/// The file of a disk that stands in plain files only, for trying out whether its space can be shared.
pub(super) fn shareable_file(source: &dyn Disk) -> Option<File> {
    let mut layers = (0..).map_while(|number| source.layer(number)).map(|layer| layer.path());
    let plain = layers.all(|path| path.is_file() && !crate::image::pieces::is_descriptor(path));
    plain.then(|| File::open(source.layer(0)?.path()).ok()).flatten()
}

enum Chunk {
    Data {
        offset: u64,
        bytes: Vec<u8>,
    },
    /// Explicit zeros over a parent's content.
    Zeros(Range<u64>),
}

/// Reads all content in order; `send` tells whether anybody still wants it.
fn read_all(source: Content<'_>, empty: &Receiver<Vec<u8>>, mut send: impl FnMut(Chunk) -> bool) -> Result<()> {
    let mut emit = |chunk| if send(chunk) { Ok(()) } else { Err(Error::Cancelled) };
    let data = |stretch: Stretch<'_>, emit: &mut dyn FnMut(Chunk) -> Result<()>| {
        let mut done = 0;
        while done < stretch.len {
            // Chunks end at multiples of their size, so that the next one begins aligned.
            let offset = stretch.offset + done;
            let step = (CHUNK - offset % CHUNK).min(stretch.len - done);
            let mut bytes = empty.try_recv().unwrap_or_default();
            bytes.resize(step as usize, 0);
            stretch.layer.read_data(&mut bytes, stretch.at + done)?;
            emit(Chunk::Data { offset, bytes })?;
            done += step;
        }
        Ok(())
    };
    match source {
        Content::Disk(disk) => for_each_stretch(disk, |stretch| data(stretch, &mut emit)),
        Content::Layer(layer) => for_each_part(layer, |part| match part {
            Part::Data(stretch) => data(stretch, &mut emit),
            Part::Zeros(range) => emit(Chunk::Zeros(range)),
        }),
    }
}

/// The parts of a chunk that are not zero, in whole grains.
fn data_runs(bytes: &[u8]) -> Vec<Range<usize>> {
    let mut runs: Vec<Range<usize>> = Vec::new();
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
