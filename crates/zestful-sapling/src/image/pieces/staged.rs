//! New pieces: all of them appear before the descriptor does, and without it they are nothing.

use std::fs::OpenOptions;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::{Descriptor, OpenFiles, Piece, VERSION, digest, parts, piece_path, stem_of};
use crate::bytes::{index, wide};
use crate::error::{Error, Result};
use crate::image::Format;
use crate::progress::Progress;
use crate::storage::{
    Access, Medium, ReadAt, StagedFile, Storage, refuse_existing, rename_new, sync_folder, temporary_name,
};

/// A raw disk that is being written as several files under temporary names. Dropped before
/// [`StagedPieces::publish`], all of them are removed.
pub(crate) struct StagedPieces {
    set: Arc<Set>,
    descriptor: PathBuf,
    /// Final names of the pieces.
    targets: Vec<PathBuf>,
    /// How many of them have these names already.
    published: usize,
    done: bool,
}

/// The files as one storage.
struct Set {
    files: OpenFiles,
    ends: Vec<u64>,
    name: PathBuf,
    logical_sector: u32,
}

impl StagedPieces {
    /// The names that a disk would take.
    pub(crate) fn names(descriptor: &Path, size: u64, piece_size: u64) -> Vec<PathBuf> {
        let stem = stem_of(descriptor);
        (0..size.div_ceil(piece_size)).map(|number| piece_path(&stem, index(number))).collect()
    }

    /// Creates all pieces, empty but with their sizes.
    pub(crate) fn create(descriptor: &Path, size: u64, piece_size: u64, logical_sector: u32) -> Result<Self> {
        refuse_existing(descriptor)?;
        let targets = Self::names(descriptor, size, piece_size);
        targets.iter().try_for_each(|target| refuse_existing(target))?;
        let ends: Vec<u64> = (1..=wide(targets.len())).map(|n| n.saturating_mul(piece_size).min(size)).collect();
        let paths = targets.iter().map(|target| temporary_name(target)).collect();
        let files = OpenFiles::new(paths, Access::Write);
        let set = Set { files, ends, name: descriptor.to_owned(), logical_sector };
        let staged = Self { set: Arc::new(set), descriptor: descriptor.to_owned(), targets, published: 0, done: false };
        let mut start = 0;
        for ((path, target), end) in staged.set.files.paths.iter().zip(&staged.targets).zip(&staged.set.ends) {
            let file = OpenOptions::new().write(true).create_new(true).open(path);
            file.and_then(|file| file.set_len(end.saturating_sub(start)))
                .map_err(|e| Error::io("create", target, e))?;
            start = *end;
        }
        Ok(staged)
    }

    pub(crate) fn storage(&self) -> Arc<dyn Storage> {
        self.set.clone()
    }

    /// Has the host set the space of a range aside.
    pub(crate) fn reserve(&self, range: Range<u64>) -> Result<()> {
        for (number, at, _, step) in parts(&self.set.ends, range.start, range.end.saturating_sub(range.start)) {
            self.set.files.get(number)?.reserve(at..at.saturating_add(wide(step)))?;
        }
        Ok(())
    }

    pub(crate) fn sync_so_far(&self) -> Result<()> {
        let open = self.set.files.open.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let files: Vec<_> = open.iter().map(|(_, file)| file.clone()).collect();
        drop(open);
        files.iter().try_for_each(|file| file.sync())
    }

    pub(crate) fn forget_cached(&self) {
        for number in 0..self.targets.len() {
            if let Ok(file) = self.set.files.get(number) {
                file.forget_cached();
            }
        }
    }

    /// Reads all pieces back for their digests, makes them durable, gives them their names, and writes the descriptor
    /// last.
    pub(crate) fn publish(mut self, progress: &Progress) -> Result<()> {
        let size = self.set.ends.last().copied().unwrap_or(0);
        progress.begin("taking the digests of the pieces", size);
        let mut pieces = Vec::new();
        let mut start = 0;
        for (number, end) in self.set.ends.iter().enumerate() {
            let file = self.set.files.get(number)?;
            file.sync()?;
            let size = end.saturating_sub(start);
            let blake3 = digest(&file, size, |bytes| {
                progress.advance(bytes);
                progress.check()
            })?;
            let name = self.targets[number].file_name().unwrap_or_default().to_str().ok_or_else(|| {
                let path = self.targets[number].display();
                Error::usage(format!("the name {path} cannot be put into a descriptor"), "use valid Unicode")
            })?;
            pieces.push(Piece { name: name.to_owned(), size, blake3 });
            self.set.files.close(number);
            start = *end;
        }
        let descriptor = Descriptor {
            version: VERSION,
            format: Format::Raw,
            virtual_size: size,
            logical_sector: self.set.logical_sector,
            pieces,
        };
        let mut text = serde_json::to_vec_pretty(&descriptor)
            .map_err(|e| Error::io("describe", &self.descriptor, std::io::Error::other(e)))?;
        text.push(b'\n');
        // Durable before the first piece has its name: what a kill leaves from here on is told by it.
        let staged = StagedFile::create(&self.descriptor)?;
        staged.storage().write_at(&text, 0)?;
        staged.settle()?;
        for (temporary, target) in self.set.files.paths.iter().zip(&self.targets) {
            rename_new(temporary, target)?;
            self.published = self.published.saturating_add(1);
        }
        sync_folder(&self.descriptor)?;
        staged.publish()?;
        self.done = true;
        Ok(())
    }
}

impl Drop for StagedPieces {
    fn drop(&mut self) {
        if self.done {
            return;
        }
        // A piece whose descriptor never came is nobody's.
        self.targets[..self.published].iter().for_each(|path| _ = std::fs::remove_file(path));
        self.set.files.paths.iter().for_each(|path| _ = std::fs::remove_file(path));
    }
}

impl Set {
    fn each(
        &self,
        offset: u64,
        len: u64,
        mut act: impl FnMut(&crate::storage::FileStorage, u64, Range<usize>) -> Result<()>,
    ) -> Result<()> {
        let mut done = 0;
        for (number, at, within, step) in parts(&self.ends, offset, len) {
            act(&*self.files.get(number)?, at, within..within.saturating_add(step))?;
            done = wide(within.saturating_add(step));
        }
        match done == len {
            true => Ok(()),
            false => Err(Error::usage(format!("{len} bytes at byte {offset} are outside"), "the pieces end before")),
        }
    }
}

impl ReadAt for Set {
    fn path(&self) -> &Path {
        &self.name
    }
    fn len(&self) -> Result<u64> {
        Ok(self.ends.last().copied().unwrap_or(0))
    }
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> Result<()> {
        self.each(offset, wide(buffer.len()), |file, at, part| file.read_at(&mut buffer[part], at))
    }
    fn medium(&self) -> Medium {
        Medium::Pieces { logical_sector: self.logical_sector }
    }
}

impl Storage for Set {
    fn write_at(&self, bytes: &[u8], offset: u64) -> Result<()> {
        self.each(offset, wide(bytes.len()), |file, at, part| file.write_at(&bytes[part], at))
    }
    fn set_len(&self, len: u64) -> Result<()> {
        match len == self.len()? {
            true => Ok(()),
            false => Err(Error::usage("pieces keep their sizes", "make the disk anew")),
        }
    }
    /// Nobody counts on the pieces before they are published, which syncs them.
    fn sync(&self) -> Result<()> {
        Ok(())
    }
    fn punch_hole(&self, offset: u64, len: u64) -> Result<()> {
        self.each(offset, len, |file, at, part| file.punch_hole(at, wide(part.len())))
    }
}
