//! The companion of an image: `IMAGE.zsap.json`, which knows what the image's own file cannot say: its children, as far
//! as we were there, and its pin.
//!
//! A child is recorded in it, durably, before it appears under its name. It never decides what a child reads, but
//! what may be done with its image. It carries the image's identities, so that it is found again when the image was
//! renamed by hand.

use std::ffi::OsString;
use std::io::{Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::pin::{Pin, PinMark};
use crate::error::{Error, Refusal, Result};
use crate::finding::{CompanionFinding, Finding};
use crate::image::open_unlocked;
use crate::storage::{
    BlockDevice, FileId, StagedFile, Storage, Turn, entries_in, folder_of, open_regular, relative_path, remove,
    sync_folder, tidy,
};

/// The digests of a pinned disk of 64 TiB take 1.2 GiB.
const MOST_BYTES: u64 = 2 << 30;
/// More children than that are recorded of no image.
const MOST_CHILDREN: usize = 1 << 16;

const VERSION: u32 = 2;
/// The form without the identities of the image.
const FIRST_VERSION: u32 = 1;
const ENDING: &str = ".zsap.json";

/// What the companion of an image says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Companion {
    /// The form of this record.
    pub(crate) version: u32,
    /// The image that it belongs to, as it was when this was written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) image: Option<ImageMark>,
    /// Since when the image is frozen because children grew from it; kept when the last of them is gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) frozen: Option<Timestamp>,
    /// The children that grew from the image, as far as we were there.
    #[serde(
        default,
        skip_serializing_if = "Vec::is_empty",
        deserialize_with = "crate::bounded::list::<_, _, MOST_CHILDREN>"
    )]
    pub(crate) children: Vec<KnownChild>,
    /// That the image is never to change, and what proves that it did not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) pin: Option<Pin>,
}

/// What an image is known by, whatever it is called.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct ImageMark {
    /// Identifies the disk to a guest.
    pub(crate) identity: Option<Uuid>,
    /// Identifies the content; children record it.
    pub(crate) data_identity: Option<Uuid>,
    /// The file.
    pub(crate) file: FileId,
}

impl ImageMark {
    /// What the image at `path` is known by now; `None` when it cannot be opened.
    pub(crate) fn of(path: &Path) -> Option<Self> {
        let image = open_unlocked(path).ok()?;
        let (identity, data_identity) = (image.info().identity, image.info().data_identity);
        Some(Self { identity, data_identity, file: FileId::of(path).ok()? })
    }

    /// Whether this is the same file, or holds the same content.
    fn fits(&self, other: &Self) -> bool {
        self.file == other.file || (self.data_identity.is_some() && self.data_identity == other.data_identity)
    }
}

/// A child that was grown from the image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct KnownChild {
    /// Where it stands, from the image's folder.
    pub(crate) path: PathBuf,
    /// Since when it is known.
    pub(crate) since: Timestamp,
    /// Its file, which a rename by hand does not change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) file: Option<FileId>,
}

/// A child to be recorded: where it stands, or is to stand, and its file.
pub(crate) type NewChild = (PathBuf, Option<FileId>);

/// What changes in what is known of an image's children.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct ChildrenChange<'a> {
    /// Those that are no longer there.
    pub(crate) gone: &'a [PathBuf],
    /// Those that are there, or about to be.
    pub(crate) new: &'a [NewChild],
    /// Whether the image is frozen for children from here on.
    pub(crate) freezes: bool,
    /// Whether it is free again.
    pub(crate) thaws: bool,
    /// Companions that the image may have left behind when it was moved by hand.
    pub(crate) elsewhere: &'a [PathBuf],
}

/// A child that stands where it is recorded.
pub(crate) fn child_at(path: &Path) -> NewChild {
    (path.to_owned(), FileId::of(path).ok())
}

impl Default for Companion {
    fn default() -> Self {
        Self { version: VERSION, image: None, frozen: None, children: Vec::new(), pin: None }
    }
}

impl Companion {
    /// Where the companion of an image stands.
    pub(crate) fn place(image: &Path) -> PathBuf {
        let real = std::fs::canonicalize(image).unwrap_or_else(|_| image.to_owned());
        let mut name = OsString::from(real);
        name.push(ENDING);
        PathBuf::from(name)
    }

    /// The image that a companion at `place` is named after; `None` when that is no companion's name.
    pub(crate) fn image_of(place: &Path) -> Option<PathBuf> {
        let name = place.file_name()?.as_bytes().strip_suffix(ENDING.as_bytes())?;
        (!name.is_empty()).then(|| place.with_file_name(std::ffi::OsStr::from_bytes(name)))
    }

    /// What the companion of an image says, if it has one under its name.
    ///
    /// # Errors
    /// `Damaged` when it cannot be understood; `Unsupported` when a newer version wrote it; `Io`, also when something
    /// else than a regular file stands there.
    pub(crate) fn of(image: &Path) -> Result<Option<Self>> {
        Self::read(&Self::place(image))
    }

    /// What stands at `place`.
    pub(crate) fn read(place: &Path) -> Result<Option<Self>> {
        parse(place, |found: &Self| found.version)
    }

    /// Of the pin of an image, if its companion has one, what a look asks.
    ///
    /// # Errors
    /// As [`Companion::of`].
    pub(crate) fn pin_mark(image: &Path) -> Result<Option<PinMark>> {
        #[derive(Deserialize)]
        struct Marked {
            version: u32,
            pin: Option<PinMark>,
        }
        let found = parse(&Self::place(image), |found: &Marked| found.version)?;
        Ok(found.and_then(|found| found.pin))
    }

    /// What is known of an image: its companion under its name, and those in its folder that lost their image, and
    /// belong to this one: it was renamed by hand.
    ///
    /// # Errors
    /// As [`Companion::of`] for the one under its name.
    pub(crate) fn known(image: &Path) -> Result<Option<Self>> {
        let own = Self::of(image)?;
        let lone = lone_companions(&folder_of(&Self::place(image)));
        Self::joined(image, own, &lone)
    }

    /// The same, with these lone companions.
    pub(crate) fn joined(image: &Path, own: Option<Self>, lone: &[PathBuf]) -> Result<Option<Self>> {
        let fitting = fitting(image, lone);
        if own.is_none() && fitting.is_empty() {
            return Ok(None);
        }
        let mut joined = own.unwrap_or_default();
        for (place, other) in fitting {
            joined.take_over(image, &place, other);
        }
        Ok(Some(joined))
    }

    fn take_over(&mut self, image: &Path, place: &Path, other: Self) {
        let from = std::fs::canonicalize(folder_of(place)).unwrap_or_else(|_| folder_of(place));
        let to = folder_of(&Self::place(image));
        for child in other.children {
            let path = relative_path(&to, &tidy(&from.join(&child.path)));
            if !self.children.iter().any(|known| known.path == path) {
                self.children.push(KnownChild { path, ..child });
            }
        }
        self.pin = self.pin.take().or(other.pin);
        self.frozen = self.frozen.or(other.frozen);
    }

    /// Changes what is known of an image. Whoever changes a companion in the same folder waits meanwhile, so that no
    /// change is lost; a companion that an image left behind when it was renamed by hand, here or at one of the
    /// places named, becomes its own again. Durable on return.
    ///
    /// # Errors
    /// As [`Companion::of`]; `Io` when it cannot be written; `Refused` when another process keeps it from being
    /// changed.
    pub(crate) fn change(image: &Path, elsewhere: &[PathBuf], act: impl FnOnce(&mut Self)) -> Result<()> {
        refuse_device(image)?;
        let place = Self::place(image);
        let folder = folder_of(&place);
        let _turn = Turn::take(&folder)?;
        let own = Self::read(&place)?;
        let mut lone = lone_companions(&folder);
        lone.extend(elsewhere.iter().filter_map(|other| std::fs::canonicalize(other).ok()));
        lone.sort();
        lone.dedup();
        let fitting = fitting(image, &lone);
        let mut after = own.clone().unwrap_or_default();
        for (place, other) in &fitting {
            after.take_over(image, place, other.clone());
        }
        act(&mut after);
        after.version = VERSION;
        after.image = ImageMark::of(image).or(after.image);
        if own.as_ref() != Some(&after) {
            after.write(&place)?;
        }
        for (place, _) in fitting {
            remove(&place)?;
            sync_folder(&place)?;
        }
        Ok(())
    }

    fn write(&self, place: &Path) -> Result<()> {
        if self.children.is_empty() && self.pin.is_none() && self.frozen.is_none() {
            return take_away(place);
        }
        let staged = StagedFile::create_beside(place)?;
        // Piece by piece: the digests of a large disk are long.
        let mut writer = std::io::BufWriter::new(Appending { storage: staged.storage(), at: 0 });
        let written = serde_json::to_writer_pretty(&mut writer, self).map_err(std::io::Error::other);
        written.and_then(|()| writer.flush()).map_err(|error| Error::io("write", place, error))?;
        drop(writer);
        staged.replace()
    }

    /// Takes the companion of an image away, durably.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn remove(image: &Path) -> Result<()> {
        let place = Self::place(image);
        let _turn = Turn::take(&folder_of(&place))?;
        take_away(&place)
    }

    /// The children's paths on this host, for the companion of `image`.
    pub(crate) fn child_paths(&self, image: &Path) -> Vec<PathBuf> {
        let folder = folder_of(&Self::place(image));
        self.children.iter().map(|child| tidy(&folder.join(&child.path))).collect()
    }

    /// Changes what is known of an image's children; durable on return.
    ///
    /// # Errors
    /// As [`Companion::change`].
    pub(crate) fn change_children(image: &Path, change: &ChildrenChange<'_>) -> Result<()> {
        let folder = folder_of(&Self::place(image));
        Self::change(image, change.elsewhere, |companion| {
            companion.replace_children(&folder, change.gone, change.new);
            // An image that only its pin made read-only is now frozen for its children as well.
            let pinned = companion.pin.as_ref().is_some_and(|pin| pin.marked) && !change.new.is_empty();
            if change.freezes || pinned {
                companion.frozen.get_or_insert_with(Timestamp::now);
            }
            if change.thaws {
                companion.frozen = None;
            }
        })
    }

    fn replace_children(&mut self, folder: &Path, gone: &[PathBuf], new: &[NewChild]) {
        let recorded = |path: &Path| {
            let folder_there = std::fs::canonicalize(folder_of(path)).unwrap_or_else(|_| folder_of(path));
            let real = path.file_name().map_or_else(|| path.to_owned(), |name| folder_there.join(name));
            relative_path(folder, &real)
        };
        let gone: Vec<PathBuf> = gone.iter().map(|path| recorded(path)).collect();
        // A child that takes the place of others is as old as the oldest of them.
        let before_it = self.children.iter().filter(|child| gone.contains(&child.path)).map(|child| child.since).min();
        self.children.retain(|child| !gone.contains(&child.path));
        for (path, file) in new {
            let path = recorded(path);
            // The same file under a name that it had before a rename by hand.
            let known =
                self.children.iter().position(|child| child.path == path || (file.is_some() && child.file == *file));
            let since = known.map(|number| self.children.remove(number).since).or(before_it);
            self.children.push(KnownChild { path, since: since.unwrap_or_else(Timestamp::now), file: *file });
        }
    }
}

fn take_away(place: &Path) -> Result<()> {
    match std::fs::symlink_metadata(place) {
        Ok(_) => remove(place).and_then(|()| sync_folder(place)),
        Err(_) => Ok(()),
    }
}

/// Reads a companion, or what of it is wanted.
fn parse<T: DeserializeOwned>(place: &Path, version: impl Fn(&T) -> u32) -> Result<Option<T>> {
    let Some(file) = open_regular(place)? else { return Ok(None) };
    let reader = std::io::BufReader::new(file.take(MOST_BYTES));
    let found: T = serde_json::from_reader(reader).map_err(|error| {
        let why = error.to_string();
        Error::from(Finding::new(CompanionFinding::Damaged { why }, 0).at(place))
    })?;
    match version(&found) {
        FIRST_VERSION..=VERSION => Ok(Some(found)),
        version => Err(Finding::new(CompanionFinding::Version { version, known: VERSION }, 0).at(place).into()),
    }
}

/// The companions in a folder whose image is not there.
pub(crate) fn lone_companions(folder: &Path) -> Vec<PathBuf> {
    let Ok(entries) = entries_in(folder) else { return Vec::new() };
    // A folder may hold thousands of images; few of their names are worth a path.
    let named = entries.flatten().filter(|entry| entry.file_name().as_bytes().ends_with(ENDING.as_bytes()));
    named.map(|entry| entry.path()).filter(|path| is_lone(path)).collect()
}

/// Whether this is the name of a companion.
pub(crate) fn is_companion(place: &Path) -> bool {
    Companion::image_of(place).is_some()
}

/// Whether this is a companion whose image is not there.
pub(crate) fn is_lone(place: &Path) -> bool {
    Companion::image_of(place).is_some_and(|image| std::fs::symlink_metadata(image).is_err())
}

/// Those lone companions that belong to an image. One that cannot be read belongs to none; `status` tells of it.
fn fitting(image: &Path, lone: &[PathBuf]) -> Vec<(PathBuf, Companion)> {
    if lone.is_empty() {
        return Vec::new();
    }
    let Some(mark) = ImageMark::of(image) else { return Vec::new() };
    let fits = |place: &PathBuf| {
        let companion = Companion::read(place).ok()??;
        companion.image.as_ref().is_some_and(|other| other.fits(&mark)).then_some((place.clone(), companion))
    };
    lone.iter().filter_map(fits).collect()
}

/// A storage that is written from its beginning to its end.
struct Appending {
    storage: Arc<dyn Storage>,
    at: u64,
}

impl std::io::Write for Appending {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.storage.write_at(bytes, self.at).map_err(std::io::Error::other)?;
        let len = u64::try_from(bytes.len()).map_err(std::io::Error::other)?;
        self.at = self.at.checked_add(len).ok_or(std::io::ErrorKind::FileTooLarge)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Refuses a device: what stands beside one is gone when the host starts anew.
pub(crate) fn refuse_device(image: &Path) -> Result<()> {
    if !BlockDevice::is_at(image) {
        return Ok(());
    }
    Err(Error::usage(
        format!("{} is a device: nothing that is known of it can be kept beside it", image.display()),
        "copy it into an image file, and go on with that",
    ))
}

/// Refuses to change an image that is pinned.
///
/// # Errors
/// `Refused`; as [`Companion::of`].
pub(crate) fn refuse_pinned(image: &Path) -> Result<()> {
    match Companion::known(image)?.and_then(|companion| companion.pin) {
        None => Ok(()),
        Some(pin) => Err(Error::refused(
            Refusal::Pinned { image: image.to_owned(), since: pin.pinned },
            format!("{} is pinned, never to change, since {:.0}", image.display(), pin.pinned),
            "grow a child from it and change that; or unpin it first, if nothing relies on it",
        )),
    }
}
