//! The catalogue of a grove: `grove.json` in the folder of a machine, and `checkpoint.json` in the folder of each of
//! its checkpoints, from which the catalogue can be made anew.
//!
//! All paths count from the grove's folder, so that it can be moved as a whole. Both files are replaced, never written
//! into.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::error::{Error, Refusal, Result};
use crate::finding::{CatalogueFinding, Finding};
use crate::image::Format;
use crate::storage::{StagedFile, folder_of, open_regular};

/// The name of the catalogue.
pub(crate) const CATALOGUE: &str = "grove.json";
/// The folder of frozen layers.
pub(crate) const HISTORY: &str = "history";
/// The name of a checkpoint's own record, in its folder.
pub(crate) const RECORD: &str = "checkpoint.json";

pub(super) const VERSION: u32 = 1;
/// A catalogue of 10,000 checkpoints of ten disks takes less.
const MOST_BYTES: u64 = 64 << 20;
const MOST_DISKS: usize = 1 << 12;
const MOST_CHECKPOINTS: usize = 1 << 16;
/// Checkpoints have smaller numbers.
pub(crate) const MOST_NUMBERS: u64 = 1 << 40;

/// What becomes of a disk when a checkpoint is taken, and at each attach.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Role {
    /// It is in every checkpoint.
    #[default]
    Tracked,
    /// It is in none: going back leaves it as it is.
    Apart,
    /// It is in none, and forgets its changes at each attach.
    Throwaway,
}

impl std::fmt::Display for Role {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Role::Tracked => "tracked",
            Role::Apart => "apart",
            Role::Throwaway => "throwaway",
        })
    }
}

/// What the catalogue of a machine says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Catalogue {
    /// The form of this record.
    pub version: u32,
    /// What the machine is called.
    pub machine: String,
    /// The number that the next checkpoint gets.
    pub next: u64,
    /// The checkpoint, by its number, that the present goes on from.
    pub after: Option<u64>,
    /// Whether it was made anew from files, so that the roles of the disks are only taken for `tracked`.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub rebuilt: bool,
    /// The machine's disks.
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_DISKS>")]
    pub disks: Vec<GroveDisk>,
    /// Its checkpoints, and what is left of those that were forgotten.
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_CHECKPOINTS>")]
    pub checkpoints: Vec<Checkpoint>,
}

/// A disk of a machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct GroveDisk {
    /// What it is called.
    pub label: String,
    /// What becomes of it.
    pub role: Role,
    /// Where its current image stands, from the grove's folder.
    pub path: PathBuf,
    /// The format of its images, whatever a guest writes into them.
    pub format: Format,
}

/// A checkpoint of a machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Checkpoint {
    /// Its number, which stays.
    pub number: u64,
    /// What it is called; without a name it was forgotten, and layers of it are left because others need them.
    pub name: Option<String>,
    /// What was noted when it was taken, or later.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// The checkpoint, by its number, that it goes on from.
    pub parent: Option<u64>,
    /// When it was taken.
    pub taken: Timestamp,
    /// Whether it is left alone when old ones are forgotten.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub protected: bool,
    /// What was made for it: its folder, from the grove's folder.
    pub folder: PathBuf,
    /// Its layers, one a disk.
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_DISKS>")]
    pub disks: Vec<Layer>,
}

/// A frozen layer: a disk at a checkpoint.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Layer {
    /// The disk.
    pub label: String,
    /// Where its image stands, from the grove's folder.
    pub path: PathBuf,
    /// The image's format.
    pub format: Format,
    /// The size that a guest saw, in bytes.
    pub virtual_size: u64,
    /// The image's data identity.
    pub identity: Uuid,
}

impl Catalogue {
    /// That of a machine without disks.
    pub(crate) fn new(machine: &str) -> Self {
        Self {
            version: VERSION,
            machine: machine.to_owned(),
            next: 1,
            after: None,
            rebuilt: false,
            disks: Vec::new(),
            checkpoints: Vec::new(),
        }
    }

    /// What the catalogue in a folder says; `None` when the folder is no grove.
    ///
    /// # Errors
    /// `Damaged` when it cannot be understood, or contradicts itself; `Unsupported` when a newer version wrote it;
    /// `Io`.
    pub(crate) fn of(folder: &Path) -> Result<Option<Self>> {
        let place = folder.join(CATALOGUE);
        let Some(found) = parse::<Self>(&place)? else { return Ok(None) };
        match found.contradiction() {
            None => Ok(Some(found)),
            Some(why) => Err(Finding::new(CatalogueFinding::Damaged { why }, 0).at(&place).into()),
        }
    }

    /// What cannot be right about it.
    fn contradiction(&self) -> Option<String> {
        let is_inside = |path: &Path| {
            use std::path::Component::{CurDir, Normal};
            path.components().next().is_some() && path.components().all(|part| matches!(part, Normal(_) | CurDir))
        };
        let paths = self.disks.iter().map(|disk| &disk.path);
        let layers = self.checkpoints.iter().flat_map(|one| one.disks.iter().map(|layer| &layer.path));
        let folders = self.checkpoints.iter().map(|one| &one.folder);
        if let Some(path) = paths.chain(layers).chain(folders).find(|path| !is_inside(path)) {
            return Some(format!("it names {}, which is outside of the folder", path.display()));
        }
        for (at, disk) in self.disks.iter().enumerate() {
            if self.disks[..at].iter().any(|other| other.label == disk.label || other.path == disk.path) {
                return Some(format!("it names the disk {} twice", disk.label));
            }
        }
        let (mut numbers, mut names, mut places) = (BTreeMap::new(), BTreeSet::new(), BTreeSet::new());
        places.extend(self.disks.iter().map(|disk| &disk.path));
        if self.next > MOST_NUMBERS {
            return Some(format!("{} checkpoints were never taken", self.next));
        }
        for one in &self.checkpoints {
            if let Some(layer) = one.disks.iter().find(|layer| !places.insert(&layer.path)) {
                return Some(format!("it names {} twice", layer.path.display()));
            }
            if numbers.insert(one.number, one.parent).is_some() || one.number >= self.next {
                return Some(format!("the number {} of a checkpoint cannot be right", one.number));
            }
            if one.name.as_ref().is_some_and(|name| !names.insert(name)) {
                return Some(format!("two checkpoints have the name {}", one.name.as_deref().unwrap_or_default()));
            }
        }
        let known = |number: Option<u64>| number.is_none_or(|number| numbers.contains_key(&number));
        if !known(self.after) || numbers.values().any(|parent| !known(*parent)) {
            return Some("it speaks of a checkpoint that is not in it".to_owned());
        }
        has_circle(&numbers).then(|| "its checkpoints go on from each other".to_owned())
    }

    /// The checkpoint with this name.
    pub fn checkpoint(&self, name: &str) -> Option<&Checkpoint> {
        self.checkpoints.iter().find(|one| one.name.as_deref() == Some(name))
    }

    /// The checkpoint with this number, whether it has a name or not.
    pub fn numbered(&self, number: u64) -> Option<&Checkpoint> {
        self.checkpoints.iter().find(|one| one.number == number)
    }

    /// The nearest checkpoint with a name, from this one on to those that it goes on from.
    pub fn named_from(&self, number: Option<u64>) -> Option<&Checkpoint> {
        let mut at = number.and_then(|number| self.numbered(number));
        while let Some(one) = at.filter(|one| one.name.is_none()) {
            at = one.parent.and_then(|parent| self.numbered(parent));
        }
        at
    }

    /// The disk with this label.
    pub fn disk(&self, label: &str) -> Option<&GroveDisk> {
        self.disks.iter().find(|disk| disk.label == label)
    }
}

/// Whether some go on from each other, by the number that each goes on from.
fn has_circle(numbers: &BTreeMap<u64, Option<u64>>) -> bool {
    let mut settled: BTreeSet<u64> = BTreeSet::new();
    for start in numbers.keys() {
        let mut way: BTreeSet<u64> = BTreeSet::new();
        let mut at = Some(*start);
        while let Some(number) = at.filter(|number| !settled.contains(number)) {
            if !way.insert(number) {
                return true;
            }
            at = numbers.get(&number).copied().flatten();
        }
        settled.append(&mut way);
    }
    false
}

impl Checkpoint {
    /// The layer of this disk.
    pub fn layer(&self, label: &str) -> Option<&Layer> {
        self.disks.iter().find(|layer| layer.label == label)
    }
}

/// A checkpoint's own record: the same as its entry in the catalogue, and the machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct CheckpointRecord {
    version: u32,
    pub(crate) machine: String,
    #[serde(flatten)]
    pub(crate) checkpoint: Checkpoint,
}

/// The groves that an image at this place may belong to: its folder, and the folder around the history that it is in.
pub(crate) fn groves_around(image: &Path) -> impl Iterator<Item = PathBuf> {
    let folder = folder_of(image);
    let around = folder.parent().filter(|history| history.file_name().is_some_and(|name| name == HISTORY));
    let around = around.and_then(Path::parent).map(Path::to_owned);
    std::iter::once(folder).chain(around)
}

/// What a grove keeps an image as, if one does.
pub(crate) struct Kept {
    pub(crate) grove: PathBuf,
    pub(crate) disk: String,
    /// The checkpoint; `None` when it is the disk's current image, or a layer that has no name any more.
    pub(crate) checkpoint: Option<String>,
    pub(crate) is_current: bool,
    /// The role of the disk, where it still has one.
    pub(crate) role: Role,
}

impl Kept {
    /// The refusal to do anything with the image that the grove would suffer from.
    pub(crate) fn refusal(self, image: &Path) -> Refusal {
        let Self { grove, disk, checkpoint, is_current, .. } = self;
        Refusal::KeptByGrove { image: image.to_owned(), grove, disk, checkpoint, is_current }
    }
}

/// What a grove keeps the image at `path` as, by the catalogue of the folder that it stands in.
///
/// # Errors
/// As [`Catalogue::of`].
pub(crate) fn kept_by_grove(path: &Path) -> Result<Option<Kept>> {
    let real = std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    for grove in groves_around(&real) {
        let Ok(way) = real.strip_prefix(&grove) else { continue };
        let Some(catalogue) = Catalogue::of(&grove)? else { continue };
        if let Some(disk) = catalogue.disks.iter().find(|disk| disk.path == way) {
            let (disk, role) = (disk.label.clone(), disk.role);
            return Ok(Some(Kept { grove, disk, checkpoint: None, is_current: true, role }));
        }
        let layer = |one: &Checkpoint| {
            let layer = one.disks.iter().find(|layer| layer.path == way)?;
            Some((layer.label.clone(), one.name.clone()))
        };
        if let Some((disk, checkpoint)) = catalogue.checkpoints.iter().find_map(layer) {
            let role = catalogue.disk(&disk).map_or(Role::Tracked, |disk| disk.role);
            return Ok(Some(Kept { grove, disk, checkpoint, is_current: false, role }));
        }
    }
    Ok(None)
}

/// Replaces the catalogue of a folder, durably.
pub(crate) fn write_catalogue(folder: &Path, catalogue: &Catalogue) -> Result<()> {
    replace(&folder.join(CATALOGUE), catalogue)
}

/// Writes a checkpoint's own record into its folder, durably.
pub(crate) fn write_record(grove: &Path, machine: &str, checkpoint: &Checkpoint) -> Result<()> {
    let place = grove.join(&checkpoint.folder).join(RECORD);
    replace(&place, &CheckpointRecord { version: VERSION, machine: machine.to_owned(), checkpoint: checkpoint.clone() })
}

/// The record in the folder of a checkpoint; `None` when there is none.
///
/// # Errors
/// As [`Catalogue::of`].
pub(crate) fn read_record(folder: &Path) -> Result<Option<CheckpointRecord>> {
    parse(&folder.join(RECORD))
}

/// What a small file of a grove says; `None` when it is not there.
pub(super) fn parse<T: DeserializeOwned>(place: &Path) -> Result<Option<T>> {
    #[derive(Deserialize)]
    struct Versioned {
        version: u32,
    }
    let Some(file) = open_regular(place)? else { return Ok(None) };
    let mut text = Vec::new();
    file.take(MOST_BYTES).read_to_end(&mut text).map_err(|e| Error::io("read", place, e))?;
    let damaged = |error: serde_json::Error| {
        Error::from(Finding::new(CatalogueFinding::Damaged { why: error.to_string() }, 0).at(place))
    };
    // What a newer version says may have another form.
    let told: Versioned = serde_json::from_slice(&text).map_err(damaged)?;
    if told.version != VERSION {
        let kind = CatalogueFinding::Version { version: told.version, known: VERSION };
        return Err(Finding::new(kind, 0).at(place).into());
    }
    serde_json::from_slice(&text).map(Some).map_err(damaged)
}

fn replace(place: &Path, value: &impl Serialize) -> Result<()> {
    let mut text = serde_json::to_vec_pretty(value).map_err(|error| {
        Error::usage(format!("{} cannot be written: {error}", place.display()), "rename what is no Unicode in a path")
    })?;
    text.push(b'\n');
    let staged = StagedFile::create_beside(place)?;
    staged.storage().write_at(&text, 0)?;
    staged.replace()
}
