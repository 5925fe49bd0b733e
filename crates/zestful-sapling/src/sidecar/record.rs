//! What a journal says: what every kind of work tells of itself (its images, where they are now, and who began it), and
//! what only this kind of work knows.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::error::{Error, Refusal, Result};
use crate::storage::{FileId, folder_of, relative_path, tidy};

/// The form of the records that are written.
pub(super) const VERSION: u32 = 3;
/// More images than that take part in nothing.
const MOST_IMAGES: usize = 1 << 16;
const ENDING: &str = ".zsap.journal";
/// The journal of work on a whole grove, in its folder.
const OF_GROVE: &str = "grove.journal";

/// A kind of work that spans several files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Work {
    /// Layers of a chain become one image.
    Merge,
    /// A child is put onto another base.
    Transplant,
    /// An image gets another name or folder.
    Move,
    /// A checkpoint of a machine is taken.
    Take,
    /// A machine goes back to a checkpoint.
    Revert,
    /// Checkpoints are forgotten, and their data merged where it is still needed.
    Forget,
    /// A machine is copied.
    Copy,
    /// A damaged image is mended.
    Repair,
    /// What a repair changed is put back.
    Undo,
    /// A disk gets another size.
    Resize,
}

impl std::fmt::Display for Work {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Work::Merge => "a merge",
            Work::Transplant => "a transplant",
            Work::Move => "a move",
            Work::Take => "a checkpoint",
            Work::Revert => "a revert",
            Work::Forget => "forgetting checkpoints",
            Work::Copy => "a copy",
            Work::Repair => "a repair",
            Work::Undo => "taking back a repair",
            Work::Resize => "a resize",
        })
    }
}

/// What one kind of work records beside its header. It holds no paths: those are in the header, which knows how to find
/// them again after the folder was moved.
pub(crate) trait Payload: Clone + Serialize + DeserializeOwned {
    /// How far the work is, as it is noted on the way.
    type Mark: Serialize + DeserializeOwned;

    /// The kind of work.
    fn work(&self) -> Work;
}

/// An image that takes part under its own name; its journal stands beside it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Member {
    /// Where it stood when the work began.
    pub(crate) path: PathBuf,
    /// Its data identity then.
    pub(crate) identity: Uuid,
    /// The data identity that it gets before what it shows changes, if that is going to change.
    pub(crate) renewed: Option<Uuid>,
    /// Its file.
    pub(crate) file: FileId,
}

impl Member {
    /// The image at `path`.
    ///
    /// # Errors
    /// `Io` when nothing is there.
    pub(crate) fn new(path: PathBuf, identity: Uuid) -> Result<Self> {
        let file = FileId::of(&path)?;
        Ok(Self { path, identity, renewed: None, file })
    }

    /// Whether an image with this data identity is the one meant, before or after it was renewed.
    pub(crate) fn is_known_as(&self, found: Uuid) -> bool {
        self.identity == found || self.renewed == Some(found)
    }
}

/// An image that reads through the one with which the work began, and is told of the result.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Reader {
    /// Where it stands.
    pub(crate) path: PathBuf,
    /// Whether it records the absolute path of its parent.
    pub(crate) absolute: bool,
    /// Its file.
    pub(crate) file: FileId,
}

/// What every journal says, whatever its work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Header {
    /// The form of this record.
    pub(crate) version: u32,
    pub(crate) work: Work,
    /// The host that began it.
    pub(crate) host: String,
    /// When.
    pub(crate) started: Timestamp,
    /// Which of the journals this one is.
    pub(crate) at: usize,
    /// The folder that this journal was written in: a copy of it is another one.
    pub(crate) folder: Option<FileId>,
    /// The grove whose work it is: its journal stands in that folder, and has no copies.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) grove: Option<PathBuf>,
    /// The images that take part, the one with which the work began first; of a chain each is the parent of the one
    /// before it.
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_IMAGES>")]
    pub(crate) members: Vec<Member>,
    /// The number of the member whose file holds the result.
    pub(crate) survivor: usize,
    /// The images that read through the first member.
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_IMAGES>")]
    pub(crate) readers: Vec<Reader>,
    /// The parent that the result has in the end, if it has one.
    pub(crate) parent: Option<Member>,
    /// The name under which the result stands in the end.
    pub(crate) result: PathBuf,
    /// Files elsewhere that are not proven to be those that the work began with.
    #[serde(skip)]
    pub(crate) unproven: Vec<PathBuf>,
    /// Whether the journal, and so what stands beside it, is a copy of the one that was written.
    #[serde(skip)]
    pub(crate) copied: bool,
}

/// A header, and what only this kind of work knows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Record<P> {
    pub(crate) header: Header,
    pub(crate) payload: P,
}

impl<P: Payload> Record<P> {
    /// A record of this host, now; the first member holds the result, which nobody reads through and which has no
    /// parent, until something else is said.
    pub(crate) fn new(members: Vec<Member>, result: PathBuf, payload: P) -> Self {
        let header = Header {
            version: VERSION,
            work: payload.work(),
            host: this_host(),
            started: Timestamp::now(),
            at: 0,
            folder: None,
            grove: None,
            members,
            survivor: 0,
            readers: Vec::new(),
            parent: None,
            result,
            unproven: Vec::new(),
            copied: false,
        };
        Self { header, payload }
    }

    /// A record of work on the grove in `folder`, whose images, in no order, are these.
    pub(crate) fn of_grove(folder: &Path, images: Vec<Member>, payload: P) -> Self {
        let mut record = Self::new(images, folder.to_owned(), payload);
        record.header.grove = Some(folder.to_owned());
        record
    }

    /// The record as the journal with this number holds it.
    pub(super) fn as_at(&self, at: usize, place: &Path) -> Result<Self> {
        let mut record = self.clone();
        (record.header.at, record.header.folder) = (at, Some(FileId::of(&folder_of(place))?));
        // A name that came back as another would be another file.
        if let Some(path) = record.header.paths().find(|path| path.to_str().is_none()) {
            return Err(Error::usage(
                format!("the work cannot be recorded: {} is no Unicode", path.display()),
                "rename what is none: a folder on the way, or the file",
            ));
        }
        Ok(record)
    }

    /// The same with the files of a copy, where this is one, in the place of the originals.
    pub(crate) fn as_found(&self) -> Self {
        let mut found = self.clone();
        let header = &mut found.header;
        if header.copied {
            for member in &mut header.members {
                let file = FileId::of(&member.path).or_else(|_| FileId::of(&header.result));
                member.file = file.unwrap_or(member.file);
            }
            header.readers.iter_mut().for_each(|reader| reader.file = FileId::of(&reader.path).unwrap_or(reader.file));
        }
        found
    }
}

impl Header {
    /// The image, or the grove, with which the work began.
    pub(crate) fn image(&self) -> &Path {
        let first = self.members.first().map(|member| &*member.path);
        self.grove.as_deref().or(first).unwrap_or(Path::new(""))
    }

    /// The journal that takes the marks.
    pub(crate) fn journal(&self) -> PathBuf {
        self.grove.as_ref().map_or_else(|| journal_of(self.image()), |grove| journal_of_grove(grove))
    }

    /// Whether the work is that of a grove, and this image takes part in it.
    pub(super) fn claims(&self, image: &Path) -> bool {
        let is_it = |member: &Member| member.path == image || FileId::of(image).is_ok_and(|file| file == member.file);
        self.grove.is_some() && self.members.iter().any(is_it)
    }

    /// The image whose file holds the result.
    pub(crate) fn survivor(&self) -> Option<&Member> {
        self.members.get(self.survivor)
    }

    /// Where the image stands whose file holds the result, until it gets its name.
    pub(crate) fn survivor_path(&self) -> &Path {
        self.survivor().map_or_else(|| self.image(), |member| &member.path)
    }

    /// The files that the work changes, renames or removes.
    pub(crate) fn changing(&self) -> impl Iterator<Item = &Path> {
        self.members.iter().map(|member| &*member.path).chain(self.readers.iter().map(|reader| &*reader.path))
    }

    /// Whether the file at `path` is the one that took part, as far as a copy lets that be told.
    pub(crate) fn is_member(&self, member: &Member, path: &Path) -> bool {
        self.copied || FileId::of(path).is_ok_and(|found| found == member.file)
    }

    /// The journals: the one that takes the marks, then its copies.
    pub(super) fn places(&self) -> Vec<PathBuf> {
        if self.grove.is_some() {
            return vec![self.journal()];
        }
        let mut places: Vec<PathBuf> = self.members.iter().map(|member| journal_of(&member.path)).collect();
        let result = journal_of(&self.result);
        if !places.contains(&result) {
            places.push(result);
        }
        places
    }

    /// Whether two journals speak of the same work.
    pub(crate) fn is_same(&self, other: &Self) -> bool {
        (self.started, &self.host, self.image()) == (other.started, &other.host, other.image())
    }

    /// Whether this host began it.
    pub(crate) fn is_of_this_host(&self) -> bool {
        self.host == this_host()
    }

    /// Whether the journal with the marks is gone, so that the work was finished or given up.
    ///
    /// # Errors
    /// `Refused` when the folder that it stood in is not there to be asked.
    pub(crate) fn is_over(&self) -> Result<bool> {
        let Some(first) = self.places().into_iter().next() else { return Ok(false) };
        if std::fs::symlink_metadata(&first).is_ok() {
            return Ok(false);
        }
        match self.at == 0 || folder_of(&first).is_dir() {
            true => Ok(true),
            false => Err(Error::refused(
                Refusal::UnderWay { image: self.image().to_owned(), must_go_on: false },
                format!("the journal of {} is {}, in a folder that is not there", self.work, first.display()),
                "bring that folder back (mount it, or move it back), so that it can be told how far the work was",
            )),
        }
    }

    /// Refuses to act on files that are not proven to be those that the work began with.
    ///
    /// # Errors
    /// `Refused`.
    pub(crate) fn refuse_unproven(&self) -> Result<()> {
        if self.unproven.is_empty() {
            return Ok(());
        }
        let names: Vec<String> = self.unproven.iter().map(|path| path.display().to_string()).collect();
        Err(Error::refused(
            Refusal::OtherFiles { unproven: self.unproven.clone() },
            format!(
                "{} of {} was begun with other files: this journal, or what it speaks of, is a copy, and {} may \
                 belong to the original",
                self.work,
                self.image().display(),
                names.join(", ")
            ),
            "go on where the original is; of a copy all can be read, and copied into images of their own",
        ))
    }

    fn paths(&mut self) -> impl Iterator<Item = &mut PathBuf> {
        let members = self.members.iter_mut().chain(&mut self.parent).map(|member| &mut member.path);
        let readers = self.readers.iter_mut().map(|reader| &mut reader.path);
        members.chain(readers).chain(std::iter::once(&mut self.result)).chain(&mut self.grove)
    }

    fn files(&self) -> Vec<FileId> {
        let members = self.members.iter().chain(&self.parent).map(|member| member.file);
        members.chain(self.readers.iter().map(|reader| reader.file)).collect()
    }
}

/// Paths count from the folder that the journal is in now: a folder that moved as a whole took everything along, and
/// a copy of it speaks of the copies. What lies outside of it must prove to be the same file.
pub(super) fn rebase(header: &mut Header, path: &Path) {
    let (Ok(now), Some(then)) = (std::fs::canonicalize(path), header.places().get(header.at).cloned()) else { return };
    let (from, to) = (folder_of(&then), folder_of(&now));
    let is_copy = FileId::of(&to).ok() != header.folder;
    let files = header.files();
    let is_same = |path: &Path| FileId::of(path).is_ok_and(|found| files.contains(&found));
    let is_there = |path: &Path| std::fs::symlink_metadata(path).is_ok();
    let mut unproven = Vec::new();
    for path in header.paths() {
        let way = relative_path(&from, path);
        let here = tidy(&to.join(&way));
        let there = path.clone();
        if !way.starts_with("..") {
            *path = here;
        } else if is_copy {
            unproven.push(here.clone());
            *path = here;
        } else if let Some(found) = [&here, &there].into_iter().find(|path| is_same(path)) {
            path.clone_from(found);
        } else {
            // Gone, as it is in the end; or not there yet; or something else has its name.
            *path = if from == to || is_there(&there) { there } else { here };
            if is_there(path) {
                unproven.push(path.clone());
            }
        }
    }
    (header.unproven, header.copied) = (unproven, is_copy);
}

/// The journal that stands beside an image while something is under way with it.
pub(crate) fn journal_of(image: &Path) -> PathBuf {
    let mut name = OsString::from(image);
    name.push(ENDING);
    PathBuf::from(name)
}

/// The journal of work on the grove in a folder.
pub(crate) fn journal_of_grove(folder: &Path) -> PathBuf {
    folder.join(OF_GROVE)
}

/// Whether this is the name of a journal.
pub(crate) fn is_journal(path: &Path) -> bool {
    image_of_journal(path).is_some() || path.file_name().is_some_and(|name| name == OF_GROVE)
}

/// The image that a journal stands beside; `None` when that is no journal's name.
pub(crate) fn image_of_journal(place: &Path) -> Option<PathBuf> {
    let name = place.file_name()?.as_bytes().strip_suffix(ENDING.as_bytes())?;
    (!name.is_empty()).then(|| place.with_file_name(std::ffi::OsStr::from_bytes(name)))
}

/// What this host is known by.
pub(super) fn this_host() -> String {
    let told = |path: &str| std::fs::read_to_string(path).unwrap_or_default().trim().to_owned();
    match told("/etc/machine-id") {
        none if none.is_empty() => told("/proc/sys/kernel/hostname"),
        id => id,
    }
}
