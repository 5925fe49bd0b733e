//! What a change that spans several files is about: which images take part, and where they are now.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::error::{Error, Refusal, Result};
use crate::storage::{FileId, folder_of, relative_path, tidy};

/// The form of the records that are written.
pub(crate) const VERSION: u32 = 2;
const ENDING: &str = ".zsap.journal";

/// What is under way.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Work {
    /// A child's data goes into its ancestor.
    MergeIntoParent,
    /// What a child lacks comes from its parents into it.
    MergeIntoChild,
    /// A child is put onto another base.
    Transplant,
    /// An image gets another name or folder.
    Move,
}

impl std::fmt::Display for Work {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Work::MergeIntoParent | Work::MergeIntoChild => "a merge",
            Work::Transplant => "a transplant",
            Work::Move => "a move",
        })
    }
}

/// An image that takes part.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Member {
    /// Where it stood when the work began.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: PathBuf,
    /// Its data identity then.
    pub identity: Uuid,
    /// The data identity that it gets before what it shows changes, if that is going to change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub renewed: Option<Uuid>,
    /// Its file.
    pub file: FileId,
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

/// An image that grew from the child.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Grandchild {
    /// Where it stands.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: PathBuf,
    /// Whether it records the absolute path of its parent.
    pub absolute: bool,
    /// Its file.
    pub file: FileId,
}

/// What was begun, on which images.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Intent {
    /// The form of this record.
    pub version: u32,
    /// What is under way.
    pub work: Work,
    /// The host that began it.
    pub host: String,
    /// When.
    pub started: Timestamp,
    /// Which of the journals this one is.
    pub at: usize,
    /// The folder that this journal was written in: a copy of it is another one.
    pub folder: Option<FileId>,
    /// The images that become one, the child first; of a transplant or a move only the one image.
    pub layers: Vec<Member>,
    /// The images that grew from the child.
    pub children: Vec<Grandchild>,
    /// Whether the child was marked read-only, as parents are.
    pub frozen: bool,
    /// Whether the ancestor recorded the absolute path of its own parent.
    pub absolute: bool,
    /// The parent that the result has in the end, if it has one.
    pub parent: Option<Member>,
    /// The data identity of the result.
    pub identity: Uuid,
    /// The name under which the result stands in the end.
    #[serde(serialize_with = "crate::lossy::text")]
    pub result: PathBuf,
    /// Files elsewhere that are not proven to be those that the work began with.
    #[serde(skip)]
    pub(crate) unproven: Vec<PathBuf>,
    /// Whether the journal, and so what stands beside it, is a copy of the one that was written.
    #[serde(skip)]
    pub(crate) copied: bool,
}

impl Intent {
    /// An intent of this host, now.
    pub(crate) fn new(work: Work, layers: Vec<Member>, identity: Uuid, result: PathBuf) -> Self {
        Self {
            version: VERSION,
            work,
            host: this_host(),
            started: Timestamp::now(),
            at: 0,
            folder: None,
            layers,
            children: Vec::new(),
            frozen: false,
            absolute: false,
            parent: None,
            identity,
            result,
            unproven: Vec::new(),
            copied: false,
        }
    }

    /// The image at whose end the work began.
    pub fn child(&self) -> &Path {
        self.layers.first().map_or(Path::new(""), |member| &member.path)
    }

    /// The image whose file holds the result.
    pub(crate) fn survivor(&self) -> Option<&Member> {
        match self.work {
            Work::MergeIntoParent => self.layers.last(),
            Work::MergeIntoChild | Work::Transplant | Work::Move => self.layers.first(),
        }
    }

    /// Whether the file at `path` is the one that took part, as far as a copy lets that be told.
    pub(crate) fn is_member(&self, member: &Member, path: &Path) -> bool {
        self.copied || FileId::of(path).is_ok_and(|found| found == member.file)
    }

    /// The journals: the one that takes the marks, then its copies.
    pub(crate) fn places(&self) -> Vec<PathBuf> {
        let mut places: Vec<PathBuf> = self.layers.iter().map(|member| journal_of(&member.path)).collect();
        let result = journal_of(&self.result);
        if !places.contains(&result) {
            places.push(result);
        }
        places
    }

    /// The intent as the journal with this number holds it.
    pub(crate) fn as_at(&self, at: usize, place: &Path) -> Result<Self> {
        let mut intent = Self { at, folder: Some(FileId::of(&folder_of(place))?), ..self.clone() };
        // A name that came back as another would be another file.
        if let Some(path) = intent.paths().find(|path| path.to_str().is_none()) {
            return Err(Error::usage(
                format!("the work cannot be recorded: {} is no Unicode", path.display()),
                "rename what is none: a folder on the way, or the file",
            ));
        }
        Ok(intent)
    }

    /// The same with the files of a copy, where this is one, in the place of the originals.
    pub(crate) fn as_found(&self) -> Self {
        let mut found = self.clone();
        if self.copied {
            for member in &mut found.layers {
                let file = FileId::of(&member.path).or_else(|_| FileId::of(&self.result));
                member.file = file.unwrap_or(member.file);
            }
            found.children.iter_mut().for_each(|child| child.file = FileId::of(&child.path).unwrap_or(child.file));
        }
        found
    }

    /// Whether two journals speak of the same work.
    pub(crate) fn is_same(&self, other: &Self) -> bool {
        (self.started, self.identity, self.child()) == (other.started, other.identity, other.child())
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
                Refusal::UnderWay,
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
            Refusal::OtherFiles,
            format!(
                "{} of {} was begun with other files: this journal, or what it speaks of, is a copy, and {} may belong to \
                 the original",
                self.work,
                self.child().display(),
                names.join(", ")
            ),
            "go on where the original is; of a copy all can be read, and copied into images of their own (`copy`)",
        ))
    }

    fn paths(&mut self) -> impl Iterator<Item = &mut PathBuf> {
        let layers = self.layers.iter_mut().map(|member| &mut member.path);
        let parent = self.parent.iter_mut().map(|member| &mut member.path);
        let children = self.children.iter_mut().map(|child| &mut child.path);
        layers.chain(children).chain(parent).chain(std::iter::once(&mut self.result))
    }

    fn files(&self) -> Vec<FileId> {
        let members = self.layers.iter().chain(&self.parent).map(|member| member.file);
        members.chain(self.children.iter().map(|child| child.file)).collect()
    }
}

/// Paths count from the folder that the journal is in now: a folder that moved as a whole took everything along, and
/// a copy of it speaks of the copies. What lies outside of it must prove to be the same file.
pub(crate) fn rebase(intent: &mut Intent, path: &Path) {
    let (Ok(now), Some(then)) = (std::fs::canonicalize(path), intent.places().get(intent.at).cloned()) else { return };
    let (from, to) = (folder_of(&then), folder_of(&now));
    let is_copy = FileId::of(&to).ok() != intent.folder;
    let files = intent.files();
    let is_same = |path: &Path| FileId::of(path).is_ok_and(|found| files.contains(&found));
    let is_there = |path: &Path| std::fs::symlink_metadata(path).is_ok();
    let mut unproven = Vec::new();
    for path in intent.paths() {
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
    (intent.unproven, intent.copied) = (unproven, is_copy);
}

/// The journal that stands beside an image while something is under way with it.
pub fn journal_of(image: &Path) -> PathBuf {
    let mut name = OsString::from(image);
    name.push(ENDING);
    PathBuf::from(name)
}

/// The image that a journal stands beside; `None` when that is no journal's name.
pub(crate) fn image_of_journal(place: &Path) -> Option<PathBuf> {
    let name = place.file_name()?.as_bytes().strip_suffix(ENDING.as_bytes())?;
    (!name.is_empty()).then(|| place.with_file_name(std::ffi::OsStr::from_bytes(name)))
}

fn this_host() -> String {
    let told = |path: &str| std::fs::read_to_string(path).unwrap_or_default().trim().to_owned();
    match told("/etc/machine-id") {
        none if none.is_empty() => told("/proc/sys/kernel/hostname"),
        id => id,
    }
}
