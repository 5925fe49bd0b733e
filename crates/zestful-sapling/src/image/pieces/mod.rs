//! A raw disk stored as several files of a given size, for media and tools with a limit.
//!
//! `NAME.000`, `NAME.001` and so on hold the disk's bytes in order. `NAME.pieces.json`, the descriptor, is our own:
//!
//! ```json
//! {
//!   "zestful_sapling_pieces": 1,
//!   "format": "raw",
//!   "virtual_size": 3221225472,
//!   "logical_sector": 512,
//!   "pieces": [
//!     { "name": "records.raw.000", "size": 2147483648, "blake3": "af1349b9..." },
//!     { "name": "records.raw.001", "size": 1073741824, "blake3": "9b2c6a07..." }
//!   ]
//! }
//! ```
//!
//! The pieces stand in the descriptor's folder. The descriptor is accepted wherever an image is read; nothing writes
//! into pieces, since their digests would no longer hold.

mod reader;
mod staged;

use std::io::Read;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::Format;
use crate::bytes::{index, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, PiecesFinding};
use crate::storage::{Access, FileStorage, folder_of};

pub use reader::Pieces;
pub(crate) use staged::StagedPieces;

const ENDING: &str = ".pieces.json";
const VERSION: u32 = 1;
/// Pieces of a disk at most.
pub(crate) const MOST_PIECES: usize = 100_000;
/// A descriptor of so many is no larger.
const LARGEST_DESCRIPTOR: u64 = 16 << 20;
/// Pieces that are open at a time; a host allows a process about a thousand files.
const MOST_OPEN: usize = 16;

/// What the descriptor says.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Descriptor {
    #[serde(rename = "zestful_sapling_pieces")]
    version: u32,
    format: Format,
    virtual_size: u64,
    logical_sector: u32,
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_PIECES>")]
    pieces: Vec<Piece>,
}

/// One file of the disk.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Piece {
    name: String,
    size: u64,
    blake3: String,
}

/// Whether the name is that of a descriptor.
///
/// ```
/// use zestful_sapling::image::pieces::is_descriptor;
/// assert!(is_descriptor("records.raw.pieces.json".as_ref()));
/// assert!(!is_descriptor("records.raw.000".as_ref()));
/// ```
pub fn is_descriptor(path: &Path) -> bool {
    path.file_name()
        .and_then(|name| name.to_str())
        .is_some_and(|name| name.len() > ENDING.len() && name.ends_with(ENDING))
}

/// The descriptor of a disk that is to be stored in pieces under `name`, which may be the descriptor's name itself.
pub fn descriptor_of(name: &Path) -> PathBuf {
    match is_descriptor(name) {
        true => name.to_owned(),
        false => with_suffix(name, ENDING),
    }
}

/// The name that the pieces' numbers are put behind.
fn stem_of(descriptor: &Path) -> PathBuf {
    let name = descriptor.file_name().unwrap_or_default().to_string_lossy();
    descriptor.with_file_name(name.strip_suffix(ENDING).unwrap_or(&name))
}

fn piece_path(stem: &Path, number: usize) -> PathBuf {
    with_suffix(stem, &format!(".{number:03}"))
}

fn with_suffix(path: &Path, suffix: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(suffix);
    PathBuf::from(name)
}

impl Descriptor {
    /// Reads and judges a descriptor: what it says fits together, and no name leads out of its folder.
    fn read(path: &Path) -> Result<Self> {
        let broken = |why: String| Error::from(Finding::new(PiecesFinding::Descriptor { why }, 0).at(path));
        // Opened as every image is, so that no pipe or folder in its place does harm.
        FileStorage::open(path, Access::ReadUnlocked)?;
        let file = std::fs::File::open(path).map_err(|e| Error::io("open", path, e))?;
        if file.metadata().map_err(|e| Error::io("read", path, e))?.len() > LARGEST_DESCRIPTOR {
            return Err(broken(format!("it is larger than {LARGEST_DESCRIPTOR} bytes")));
        }
        let reader = std::io::BufReader::new(file.take(LARGEST_DESCRIPTOR));
        let found: Self =
            serde_json::from_reader(reader).map_err(|e| broken(format!("it cannot be understood: {e}")))?;
        if found.version != VERSION || found.format != Format::Raw {
            let (version, format) = (found.version, found.format.to_string());
            return Err(Finding::new(PiecesFinding::Version { version, format }, 0).at(path).into());
        }
        if ![512, 4096].contains(&found.logical_sector) {
            return Err(broken(format!("sectors of {} bytes are not known", found.logical_sector)));
        }
        if let Some(piece) = found.pieces.iter().find(|piece| {
            let mut parts = Path::new(&piece.name).components();
            !matches!((parts.next(), parts.next()), (Some(std::path::Component::Normal(_)), None))
                || piece.name.contains(['/', '\0'])
        }) {
            return Err(broken(format!("`{}` is no name of a file beside it", piece.name)));
        }
        let sum = found.pieces.iter().try_fold(0u64, |sum, piece| sum.checked_add(piece.size));
        let empty = found.pieces.iter().any(|piece| piece.size == 0);
        if empty || sum != Some(found.virtual_size) || i64::try_from(found.virtual_size).is_err() {
            return Err(broken(format!("its pieces do not add up to the disk's {} bytes", found.virtual_size)));
        }
        Ok(found)
    }
}

/// The pieces that have their names already, of a disk whose descriptor, the file at `path`, never came to its own:
/// nothing refers to them.
pub(crate) fn stray_pieces(path: &Path) -> Vec<PathBuf> {
    let found = Descriptor::read(path).map_or_else(|_| Vec::new(), |found| paths_of(path, &found));
    found.into_iter().filter(|piece| piece.exists()).collect()
}

/// Files of a set, a few of them open at a time.
struct OpenFiles {
    paths: Vec<PathBuf>,
    access: Access,
    open: std::sync::Mutex<std::collections::VecDeque<(usize, std::sync::Arc<FileStorage>)>>,
}

impl OpenFiles {
    fn new(paths: Vec<PathBuf>, access: Access) -> Self {
        Self { paths, access, open: std::sync::Mutex::default() }
    }

    fn get(&self, number: usize) -> Result<std::sync::Arc<FileStorage>> {
        let mut open = self.open.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some((_, file)) = open.iter().find(|(kept, _)| *kept == number) {
            return Ok(file.clone());
        }
        let file = std::sync::Arc::new(FileStorage::open(&self.paths[number], self.access)?);
        if open.len() >= MOST_OPEN {
            open.pop_front();
        }
        open.push_back((number, file.clone()));
        Ok(file)
    }

    fn close(&self, number: usize) {
        let mut open = self.open.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        open.retain(|(kept, _)| *kept != number);
    }
}

/// The parts of a range that lie in one piece each: number, place in the piece, place in the range, length. `ends`
/// are the pieces' ends in the disk.
fn parts(ends: &[u64], offset: u64, len: u64) -> impl Iterator<Item = (usize, u64, usize, usize)> + '_ {
    let mut done = 0;
    std::iter::from_fn(move || {
        let at = offset.checked_add(done)?;
        let number = ends.partition_point(|end| *end <= at);
        let end = *ends.get(number)?;
        let start = number.checked_sub(1).map_or(0, |before| ends[before]);
        let step = len.checked_sub(done)?.min(end.checked_sub(at)?);
        let part = (number, at.checked_sub(start)?, index(done), index(step));
        done = done.checked_add(step)?;
        (step > 0).then_some(part)
    })
}

/// The digest of a file's first `size` bytes.
fn digest(file: &FileStorage, size: u64, mut tick: impl FnMut(u64) -> Result<()>) -> Result<String> {
    use crate::storage::ReadAt;
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0; 1 << 20];
    let mut at = 0;
    while at < size {
        let step = size.saturating_sub(at).min(wide(buffer.len()));
        let bytes = &mut buffer[..index(step)];
        file.read_at(bytes, at)?;
        hasher.update(bytes);
        at = at.saturating_add(step);
        tick(step)?;
    }
    Ok(hasher.finalize().to_hex().to_string())
}

/// The folder and the names of the pieces.
fn paths_of(descriptor: &Path, found: &Descriptor) -> Vec<PathBuf> {
    let folder = folder_of(descriptor);
    found.pieces.iter().map(|piece| folder.join(&piece.name)).collect()
}
