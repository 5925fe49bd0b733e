//! The companion of an image: `IMAGE.zsap.json`, which knows what the image's own file cannot say: its children, as far
//! as we were there, and its pin.
//!
//! It is kept best effort: an image works without it, and it never decides what a child reads.

use std::ffi::OsString;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::locate::{relative_path, tidy};
use crate::error::{Error, Refusal, Result};
use crate::finding::Finding;
use crate::image::folder_of;
use crate::storage::{StagedFile, Storage, remove, sync_folder};

const VERSION: u32 = 1;

/// What the companion of an image says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Companion {
    /// The form of this record.
    pub version: u32,
    /// The children that grew from the image, as far as we were there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub children: Vec<KnownChild>,
    /// That the image is never to change, and what proves that it did not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<Pin>,
}

/// A child that was grown from the image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KnownChild {
    /// Where it stands, from the image's folder.
    pub path: PathBuf,
    /// Since when it is known.
    pub since: Timestamp,
}

/// The promise that an image never changes, and its digests. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pin {
    /// The data identity at that time.
    pub identity: Option<Uuid>,
    /// The size that a guest sees.
    pub virtual_size: u64,
    /// The bytes that each digest covers; the last piece may be shorter.
    pub piece_size: u64,
    /// The digests of all pieces that are not zero, in runs of pieces that follow each other.
    pub runs: Vec<PinnedRun>,
    /// The digest of the digests of all pieces in order, those of zero pieces included.
    pub whole: Digest,
    /// When the file was last changed before that.
    #[serde(default)]
    pub modified: Option<Timestamp>,
    /// When the image was pinned.
    pub pinned: Timestamp,
    /// The version that did it.
    pub program: String,
    /// Whether pinning took the write permission away, so that unpinning gives it back.
    pub marked: bool,
}

/// Digests of pieces that follow each other.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PinnedRun {
    /// The number of the first piece.
    pub first: u64,
    /// Their digests.
    pub digests: Vec<Digest>,
}

/// A BLAKE3 digest; in text its hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Digest(pub [u8; 32]);

impl std::fmt::Display for Digest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(blake3::Hash::from(self.0).to_hex().as_str())
    }
}

impl std::fmt::Debug for Digest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        std::fmt::Display::fmt(self, f)
    }
}

impl Serialize for Digest {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.serialize_str(blake3::Hash::from(self.0).to_hex().as_str())
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        let hash = blake3::Hash::from_hex(text.as_bytes()).map_err(serde::de::Error::custom)?;
        Ok(Self(hash.into()))
    }
}

impl Default for Companion {
    fn default() -> Self {
        Self { version: VERSION, children: Vec::new(), pin: None }
    }
}

impl Companion {
    /// Where the companion of an image stands.
    pub fn place(image: &Path) -> PathBuf {
        let real = std::fs::canonicalize(image).unwrap_or_else(|_| image.to_owned());
        let mut name = OsString::from(real);
        name.push(".zsap.json");
        PathBuf::from(name)
    }

    /// What the companion of an image says, if it has one.
    ///
    /// # Errors
    /// `Damaged` when it cannot be understood; `Unsupported` when a newer version wrote it; `Io`.
    pub fn of(image: &Path) -> Result<Option<Self>> {
        let place = Self::place(image);
        let file = match std::fs::File::open(&place) {
            Ok(file) => file,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(Error::io("open", &place, error)),
        };
        let found: Self = serde_json::from_reader(std::io::BufReader::new(file)).map_err(|error| {
            let message = format!(
                "it cannot be understood: {error}; whether the image is pinned cannot be told: \
                                   restore it from a copy, or remove it by hand"
            );
            Error::from_finding(Finding::fatal("companion-damaged", "companion", 0, message).at(&place))
        })?;
        match found.version {
            VERSION => Ok(Some(found)),
            other => {
                let message = format!("its version is {other}, only {VERSION} is known");
                Err(Error::from_finding(Finding::unsupported("companion-version", "companion", 0, message).at(&place)))
            }
        }
    }

    /// Writes it beside the image in the place of the one that was there; one that says nothing is removed.
    ///
    /// # Errors
    /// `Io`.
    pub fn put(&self, image: &Path) -> Result<()> {
        let place = Self::place(image);
        if self.children.is_empty() && self.pin.is_none() {
            return Self::remove(image);
        }
        let staged = StagedFile::create_beside(&place)?;
        // Piece by piece: the digests of a large disk are long.
        let mut writer = std::io::BufWriter::new(Appending { storage: staged.storage(), at: 0 });
        let written = serde_json::to_writer_pretty(&mut writer, self).map_err(std::io::Error::other);
        written.and_then(|()| writer.flush()).map_err(|error| Error::io("write", &place, error))?;
        drop(writer);
        staged.replace()
    }

    /// Takes the companion of an image away.
    ///
    /// # Errors
    /// `Io`.
    pub fn remove(image: &Path) -> Result<()> {
        let place = Self::place(image);
        match place.exists() {
            true => remove(&place).and_then(|()| sync_folder(&place)),
            false => Ok(()),
        }
    }

    /// The children's paths on this host.
    pub fn child_paths(&self, image: &Path) -> Vec<PathBuf> {
        let folder = folder_of(&Self::place(image));
        self.children.iter().map(|child| tidy(&folder.join(&child.path))).collect()
    }

    /// Changes what is known of an image's children: some are no longer there, others are.
    ///
    /// # Errors
    /// As [`Companion::of`] and [`Companion::put`].
    pub fn change_children(image: &Path, gone: &[PathBuf], new: &[PathBuf]) -> Result<()> {
        let before = Self::of(image)?.unwrap_or_default();
        let mut after = before.clone();
        let folder = folder_of(&Self::place(image));
        let real = |path: &PathBuf| {
            let folder = std::fs::canonicalize(folder_of(path)).unwrap_or_else(|_| folder_of(path));
            path.file_name().map_or_else(|| path.clone(), |name| folder.join(name))
        };
        let relative: Vec<PathBuf> = new.iter().map(|path| relative_path(&folder, &real(path))).collect();
        let gone: Vec<PathBuf> = gone.iter().map(|path| relative_path(&folder, &real(path))).collect();
        // What takes the place of others has grown since they did.
        let before_it = after.children.iter().filter(|child| gone.contains(&child.path)).map(|child| child.since).min();
        after.children.retain(|child| !gone.contains(&child.path));
        for path in relative {
            if !after.children.iter().any(|child| child.path == path) {
                after.children.push(KnownChild { path, since: before_it.unwrap_or_else(Timestamp::now) });
            }
        }
        if after == before { Ok(()) } else { after.put(image) }
    }
}

/// A storage that is written from its beginning to its end.
struct Appending {
    storage: Arc<dyn Storage>,
    at: u64,
}

impl std::io::Write for Appending {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.storage.write_at(bytes, self.at).map_err(std::io::Error::other)?;
        self.at += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// When a file was last changed.
pub(crate) fn modified(file: &Path) -> Option<Timestamp> {
    Timestamp::try_from(std::fs::metadata(file).and_then(|found| found.modified()).ok()?).ok()
}

/// What is to be said of a pinned image whose file was written to after it was pinned; that alone proves nothing yet.
pub(crate) fn touched_since(image: &Path, pin: &Pin) -> Option<String> {
    let changed = modified(image)?;
    // Not compared with when it was pinned: a host's files keep a coarser time than its clock.
    (Some(changed) != pin.modified).then(|| {
        format!(
            "{} is pinned, and was written to behind its children's back {:.0}: `pin {0} --verify` tells whether its \
             content changed, where, and who reads it",
            image.display(),
            changed
        )
    })
}

/// Refuses to change an image that is pinned.
///
/// # Errors
/// `Refused`; as [`Companion::of`].
pub(crate) fn refuse_pinned(image: &Path) -> Result<()> {
    match Companion::of(image)?.and_then(|companion| companion.pin) {
        None => Ok(()),
        Some(pin) => Err(Error::refused(
            Refusal::Pinned,
            format!("{} is pinned, never to change, since {:.0}", image.display(), pin.pinned),
            "grow a child from it (`derive`) and change that; or unpin it first (`unpin`), if nothing relies on it",
        )),
    }
}
