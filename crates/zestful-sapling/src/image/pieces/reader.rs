//! Pieces, put together again.

use std::collections::HashMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::SystemTime;

use super::{Descriptor, OpenFiles, digest, parts, paths_of};
use crate::bytes::wide;
use crate::error::{Error, Result};
use crate::finding::{Finding, PiecesFinding};
use crate::progress::Progress;
use crate::storage::{Access, FileStorage, Medium, ReadAt};

/// A raw disk in pieces, open for reading.
///
/// A piece is compared with its digest before the first byte of it is given out, so that nothing is ever read from one
/// that was changed; the first read of a piece therefore reads all of it.
pub struct Pieces {
    descriptor: PathBuf,
    found: Descriptor,
    ends: Vec<u64>,
    files: OpenFiles,
    /// The pieces that had their digest, and the state of the file then.
    sound: Mutex<HashMap<usize, FileState>>,
}

/// What of a file changes when its content does.
#[derive(Clone, Copy, PartialEq, Eq)]
struct FileState {
    len: u64,
    modified: Option<SystemTime>,
    identity: (u64, u64),
}

impl Pieces {
    /// Opens the disk that a descriptor speaks of. Every piece must be there and have its size; contents are looked at
    /// when they are read.
    ///
    /// # Errors
    /// `Damaged` with the piece that is missing or has another size, or for a descriptor that does not make sense;
    /// `Io`.
    pub fn open(descriptor: &Path, access: Access) -> Result<Self> {
        let found = Descriptor::read(descriptor)?;
        let paths = paths_of(descriptor, &found);
        let mut end = 0u64;
        let mut ends = Vec::new();
        for (path, piece) in paths.iter().zip(&found.pieces) {
            let len = match std::fs::metadata(path) {
                Ok(there) => there.len(),
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                    let kind = PiecesFinding::Missing { piece: piece.name.clone() };
                    return Err(Finding::new(kind, 0).at(path).into());
                }
                Err(error) => return Err(Error::io("look up the piece", path, error)),
            };
            if len != piece.size {
                let kind = PiecesFinding::Size { piece: piece.name.clone(), length: len, right: piece.size };
                return Err(Finding::new(kind, 0).at(path).into());
            }
            end = end.saturating_add(piece.size);
            ends.push(end);
        }
        let files = OpenFiles::new(paths, access);
        Ok(Self { descriptor: descriptor.to_owned(), found, ends, files, sound: Mutex::default() })
    }

    /// The files of the disk, in order.
    pub fn files(&self) -> &[PathBuf] {
        &self.files.paths
    }

    /// Compares every piece with its digest.
    ///
    /// # Errors
    /// `Cancelled`, `Io`. A piece that was changed is a finding.
    pub fn check(&self, progress: &Progress) -> Result<Vec<Finding>> {
        let mut findings = Vec::new();
        progress.begin("comparing pieces with their digests", self.found.virtual_size);
        for number in 0..self.found.pieces.len() {
            let tick = |bytes| {
                progress.advance(bytes);
                progress.check()
            };
            match self.make_sure(number, tick) {
                Err(Error::Damaged(finding)) => findings.push(*finding),
                other => {
                    other?;
                }
            }
        }
        Ok(findings)
    }

    /// The piece, after making sure that it is the one that the descriptor speaks of.
    fn make_sure(&self, number: usize, tick: impl FnMut(u64) -> Result<()>) -> Result<std::sync::Arc<FileStorage>> {
        let (path, piece) = (&self.files.paths[number], &self.found.pieces[number]);
        let file = self.files.get(number)?;
        let state = state_of(&file)?;
        if self.sound.lock().unwrap_or_else(PoisonError::into_inner).get(&number) == Some(&state) {
            return Ok(file);
        }
        if state.len != piece.size || digest(&file, piece.size, tick)? != piece.blake3 {
            return Err(Finding::new(PiecesFinding::Changed { piece: piece.name.clone() }, 0).at(path).into());
        }
        self.sound.lock().unwrap_or_else(PoisonError::into_inner).insert(number, state);
        Ok(file)
    }
}

fn state_of(file: &FileStorage) -> Result<FileState> {
    let modified = std::fs::metadata(file.path()).and_then(|there| there.modified()).ok();
    Ok(FileState { len: file.len()?, modified, identity: file.host_identity()? })
}

impl ReadAt for Pieces {
    fn path(&self) -> &Path {
        &self.descriptor
    }

    fn len(&self) -> Result<u64> {
        Ok(self.found.virtual_size)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        let len = buffer.len();
        let mut read = 0;
        for (number, at, within, step) in parts(&self.ends, offset, wide(len)) {
            self.make_sure(number, |_| Ok(()))?.read_at(&mut buffer[within..][..step], at)?;
            read = within.saturating_add(step);
        }
        match read == len {
            true => Ok(()),
            false => {
                let error = std::io::Error::new(std::io::ErrorKind::UnexpectedEof, "the pieces end before");
                Err(Error::io(format!("read {len} bytes at byte {offset} of"), &self.descriptor, error))
            }
        }
    }

    fn next_data(&self, offset: u64) -> Result<Option<Range<u64>>> {
        let first = self.ends.partition_point(|end| *end <= offset);
        for number in first..self.ends.len() {
            let start = number.checked_sub(1).map_or(0, |before| self.ends[before]);
            let size = self.ends[number].saturating_sub(start);
            let found = self.files.get(number)?.next_data(offset.saturating_sub(start))?;
            if let Some(data) = found.filter(|data| data.start < size) {
                let in_disk = |at: u64| start.saturating_add(at);
                return Ok(Some(in_disk(data.start)..in_disk(data.end.min(size))));
            }
        }
        Ok(None)
    }

    fn allocated(&self) -> Result<u64> {
        (0..self.ends.len()).try_fold(0u64, |sum, number| Ok(sum.saturating_add(self.files.get(number)?.allocated()?)))
    }

    fn medium(&self) -> Medium {
        Medium::Pieces { logical_sector: self.found.logical_sector }
    }
}
