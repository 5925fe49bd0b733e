//! What is to be written into a disk, all of it durable before the first byte is: `IMAGE.zsap.redo`, beside the image.
//!
//! Pieces one after the other, each with its place on the disk, its length, the bytes that are to stand there, and
//! those that stood there. The journal of the work that it belongs to has the length of the file and the digest of all
//! of it.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::bytes::{fit_u32, index, le_u32, le_u64, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, JournalFinding};
use crate::storage::{Access, FileStorage, ReadAt, StagedFile, Storage, inherit, remove, sync_folder};

const ENDING: &str = ".zsap.redo";
/// Bytes of one piece.
const MOST_IN_PIECE: usize = 1 << 20;
/// Its place and its length.
const HEAD: usize = 12;

/// The file as the journal knows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct StoredRedo {
    len: u64,
    digest: String,
    /// Bytes that are written.
    pub(crate) bytes: u64,
}

fn place_of(image: &Path) -> PathBuf {
    let mut name = OsString::from(image);
    name.push(ENDING);
    PathBuf::from(name)
}

/// Whether this is the name of such a file.
pub(crate) fn is_redo(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.as_bytes().ends_with(ENDING.as_bytes()))
}

/// Bytes of the disk.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct RedoPiece {
    /// Their place.
    pub(crate) offset: u64,
    /// What is to stand there.
    pub(crate) new: Vec<u8>,
    /// What stood there, as many.
    pub(crate) old: Vec<u8>,
}

/// One that is being written.
pub(crate) struct RedoWriter {
    image: PathBuf,
    staged: StagedFile,
    digest: blake3::Hasher,
    at: u64,
    bytes: u64,
    /// The last piece, to which more may come.
    held: RedoPiece,
}

impl RedoWriter {
    /// Beside this image.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn new(image: &Path) -> Result<Self> {
        let staged = StagedFile::create_beside(&place_of(image))?;
        Ok(Self {
            image: image.to_owned(),
            staged,
            digest: blake3::Hasher::new(),
            at: 0,
            bytes: 0,
            held: RedoPiece::default(),
        })
    }

    /// These bytes belong there, in the place of as many others.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn add(&mut self, offset: u64, new: &[u8], old: &[u8]) -> Result<()> {
        let held = &self.held;
        let follows = held.offset.saturating_add(wide(held.new.len())) == offset;
        if !follows || held.new.len().saturating_add(new.len()) > MOST_IN_PIECE {
            self.put()?;
            self.held.offset = offset;
        }
        self.held.new.extend_from_slice(new);
        self.held.old.extend_from_slice(old);
        Ok(())
    }

    fn put(&mut self) -> Result<()> {
        let RedoPiece { offset, new, old } = std::mem::take(&mut self.held);
        if new.is_empty() {
            return Ok(());
        }
        let len = wide(new.len());
        let piece = [&offset.to_le_bytes()[..], &fit_u32(len).to_le_bytes(), &new, &old].concat();
        self.staged.storage().write_at(&piece, self.at)?;
        self.digest.update(&piece);
        self.at = self.at.saturating_add(wide(piece.len()));
        self.bytes = self.bytes.saturating_add(len);
        Ok(())
    }

    /// All is written, and durable. What an earlier one left that nobody speaks of is gone.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn finish(mut self) -> Result<StoredRedo> {
        self.put()?;
        // What was in the disk is for the same eyes.
        _ = inherit(&self.image, self.staged.temporary())?;
        let (len, digest, bytes) = (self.at, self.digest.finalize().to_hex().to_string(), self.bytes);
        self.staged.replace()?;
        Ok(StoredRedo { len, digest, bytes })
    }
}

/// One that is whole.
pub(crate) struct Redo {
    file: Arc<FileStorage>,
    len: u64,
}

impl Redo {
    /// The file that the journal of work on this image speaks of, proven to be what was written.
    ///
    /// # Errors
    /// `Damaged` when it is not; `Io`.
    pub(crate) fn open(image: &Path, stored: &StoredRedo) -> Result<Self> {
        let place = place_of(image);
        let damaged = || {
            let why = "what it is to write, in the file beside it, is not what was kept there".to_owned();
            Error::from(Finding::new(JournalFinding::Damaged { why }, 0).at(&place))
        };
        let file = Arc::new(FileStorage::open(&place, Access::Read)?);
        if file.len()? != stored.len {
            return Err(damaged());
        }
        let (mut digest, mut at, mut buffer) = (blake3::Hasher::new(), 0, vec![0; MOST_IN_PIECE]);
        while at < stored.len {
            let part = &mut buffer[..index(stored.len.saturating_sub(at)).min(MOST_IN_PIECE)];
            file.read_at(part, at)?;
            digest.update(part);
            at = at.saturating_add(wide(part.len()));
        }
        match digest.finalize().to_hex().as_str() == stored.digest {
            true => Ok(Self { file, len: stored.len }),
            false => Err(damaged()),
        }
    }

    /// Calls `act` with each piece.
    ///
    /// # Errors
    /// `Io`, and what `act` returns.
    pub(crate) fn for_each(&self, mut act: impl FnMut(RedoPiece) -> Result<()>) -> Result<()> {
        let mut at = 0u64;
        while at < self.len {
            let mut head = [0; HEAD];
            self.file.read_at(&mut head, at)?;
            at = at.saturating_add(wide(HEAD));
            let mut new = vec![0; index(u64::from(le_u32(&head, 8))).min(MOST_IN_PIECE)];
            let mut old = vec![0; new.len()];
            for part in [&mut new, &mut old] {
                self.file.read_at(part, at)?;
                at = at.saturating_add(wide(part.len()));
            }
            act(RedoPiece { offset: le_u64(&head, 0), new, old })?;
        }
        Ok(())
    }
}

/// Takes the file of an image away, durably, if there is one.
///
/// # Errors
/// `Io`.
pub(crate) fn remove_redo(image: &Path) -> Result<()> {
    let place = place_of(image);
    if std::fs::symlink_metadata(&place).is_err() {
        return Ok(());
    }
    remove(&place)?;
    sync_folder(&place)
}
