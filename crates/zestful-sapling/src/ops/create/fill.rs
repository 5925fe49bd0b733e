//! All the data of one disk into a new image.

use std::collections::HashMap;
use std::fs::File;
use std::ops::Range;
use std::path::{Path, PathBuf};

use super::input::Input;
use super::target::Staged;
use crate::bytes::data_runs;
use crate::chain::{ChainMut, Disk, Part, for_each_data_extent, for_each_part};
use crate::error::{Error, Result};
use crate::image::Image;
use crate::progress::Progress;
use crate::storage::StagedFile;
use crate::transfer::ContentDigest;
use crate::transfer::pipeline::{self, Chunk, Feed, zero};

/// Zeros of this length and alignment are left out.
const GRAIN: usize = 4096;

/// What an image is to be filled with.
#[derive(Clone, Copy)]
pub(in crate::ops) enum Content<'a> {
    /// All that a guest sees.
    Disk(&'a dyn Disk),
    /// What this layer alone holds, its explicit zeros included; what comes from its parent is left out.
    Layer(&'a dyn Image),
    /// So many bytes from an input that is read once.
    Input(&'a Input, u64),
}

/// How an image is to be filled.
pub(in crate::ops) struct Filling<'a> {
    pub(in crate::ops) source: Content<'a>,
    pub(in crate::ops) staged: &'a Staged,
    /// Whether the digest of what is read is wanted.
    pub(in crate::ops) digest: bool,
    pub(in crate::ops) progress: &'a Progress,
}

/// What was filled in.
pub(in crate::ops) struct Filled {
    /// Bytes that were not zero and so were written.
    pub(in crate::ops) written: u64,
    pub(in crate::ops) digest: Option<blake3::Hash>,
}

impl Filling<'_> {
    pub(in crate::ops) fn run(&self, target: &mut ChainMut) -> Result<Filled> {
        let size = target.virtual_size();
        let mut next = 0;
        let read = |feed: &mut Feed<'_>| {
            feed.digest = self.digest.then(ContentDigest::new);
            match self.source {
                Content::Disk(disk) => for_each_data_extent(disk, |data| feed.extent(&data))?,
                Content::Input(input, len) => {
                    feed.read(0, len, |bytes, done| input.fill(bytes, done, len, self.progress))?
                }
                Content::Layer(layer) => for_each_part(layer, |part| match part {
                    Part::Data(data) => feed.extent(&data),
                    Part::Zeros(range) => feed.zeros(range),
                })?,
            }
            Ok(feed.digest.take().map(|digest| digest.finish(size)))
        };
        let write = |chunk: &Chunk| {
            let (start, bytes) = match chunk {
                Chunk::Data { offset, bytes } => (*offset, bytes),
                Chunk::Zeros(range) => {
                    zero(range.clone(), self.progress, |at, len| target.zero_at(at, len))?;
                    return Ok(0);
                }
            };
            let mut written = 0;
            for run in self.runs_to_write(bytes) {
                let offset = start + run.start as u64;
                self.clear(target, next..offset)?;
                target.write_at(&bytes[run.clone()], offset)?;
                next = offset + run.len() as u64;
                written += run.len() as u64;
            }
            Ok(written)
        };
        let (written, digest) = pipeline::run(read, write, || self.staged.sync_so_far(), self.progress)?;
        self.clear(target, next..size)?;
        Ok(Filled { written, digest })
    }

    /// Over a parent zeros are content; elsewhere they are left out.
    fn runs_to_write(&self, bytes: &[u8]) -> Vec<Range<usize>> {
        match self.source {
            Content::Layer(layer) if layer.info().parent.is_some() => std::iter::once(0..bytes.len()).collect(),
            _ => data_runs(bytes, GRAIN),
        }
    }

    /// Zeros over old content. Elsewhere nothing need be done: new space reads as zero.
    fn clear(&self, target: &mut ChainMut, range: Range<u64>) -> Result<()> {
        match self.staged.is_used() {
            true => zero(range, self.progress, |at, len| target.zero_at(at, len)),
            false => Ok(()),
        }
    }
}

/// The same by letting the new file share the space of the source's files; for an image whose every byte has its place
/// already. Returns how many bytes that were.
pub(in crate::ops) fn share(
    source: &dyn Disk,
    file: &StagedFile,
    target: &ChainMut,
    progress: &Progress,
) -> Result<u64> {
    let mut files: HashMap<PathBuf, File> = HashMap::new();
    let mut shared = 0;
    for_each_data_extent(source, |data| {
        progress.check()?;
        let path = data.layer.path();
        if !files.contains_key(path) {
            files.insert(path.to_owned(), open_source(path)?);
        }
        let from = &files[path];
        let mut done = 0;
        while done < data.len {
            let extent = target.extent_at(data.offset + done, data.len - done)?;
            let Some((0, at)) = extent.data else {
                let message = format!("byte {} of the new image has no place yet", data.offset + done);
                return Err(Error::usage(message, "share only with fixed images"));
            };
            file.copy_from(from, data.at + done, at, extent.len)?;
            done += extent.len;
            progress.advance(extent.len);
        }
        shared += data.len;
        Ok(())
    })?;
    Ok(shared)
}

fn open_source(path: &Path) -> Result<File> {
    File::open(path).map_err(|e| Error::io("open", path, e))
}

/// The file of a disk that stands in plain files only, for trying out whether its space can be shared.
pub(in crate::ops) fn shareable_file(source: &dyn Disk) -> Option<File> {
    let mut layers = (0..).map_while(|number| source.layer(number)).map(|layer| layer.path());
    let plain = layers.all(|path| path.is_file() && !crate::image::pieces::is_descriptor(path));
    plain.then(|| File::open(source.layer(0)?.path()).ok()).flatten()
}
