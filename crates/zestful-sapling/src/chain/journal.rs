//! The record of a change that spans several files and takes long: written before it begins, gone when it is done.
//!
//! `IMAGE.zsap.journal` stands beside the image with which the work began and, as a copy, beside every other image that takes
//! part under its own name. The first line is the intent, with the identity of every image in it; it appears whole, by a
//! rename. Marks of how far the work is follow in the first journal only, a line each, appended and synced. Every line begins
//! with a digest of its rest: a last line that is torn was never written, any other line that does not fit stops everything.
//!
//! The first journal is made before its copies and taken away after them, each step durable before the next, so that a copy
//! that stands alone speaks of work that is over.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::locate::relative_path;
use crate::error::{Error, Refusal, Result};
use crate::finding::Finding;
use crate::image::folder_of;
use crate::storage::{Access, FileId, FileStorage, ReadAt, StagedFile, Storage, real, remove, sync_folder};

const VERSION: u32 = 2;
const ENDING: &str = ".zsap.journal";
/// Hexadecimal digits of the digest before each line.
const DIGEST: usize = 16;
/// No journal of ours comes near it.
const MOST_BYTES: u64 = 64 << 20;

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
    fn places(&self) -> Vec<PathBuf> {
        let mut places: Vec<PathBuf> = self.layers.iter().map(|member| journal_of(&member.path)).collect();
        let result = journal_of(&self.result);
        if !places.contains(&result) {
            places.push(result);
        }
        places
    }

    /// The intent as the journal with this number holds it.
    fn as_at(&self, at: usize, place: &Path) -> Result<Self> {
        Ok(Self { at, folder: Some(FileId::of(&folder_of(place))?), ..self.clone() })
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

/// How far the work was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Mark {
    /// The work on the data began; what the files looked like that are only read.
    Begun(Vec<Stamp>),
    /// All below this byte of the disk is durable in its new place.
    Upto(u64),
    /// All data is.
    Moved,
}

/// What tells that a file was written to: length, seconds and nanoseconds of its last change.
pub(crate) type Stamp = (u64, i64, i64);

pub(crate) fn stamp_of(path: &Path) -> Result<Stamp> {
    let found = std::fs::metadata(path).map_err(|e| Error::io("look up", path, e))?;
    Ok((found.len(), found.mtime(), found.mtime_nsec()))
}

/// The journal that stands beside an image while something is under way with it.
pub fn journal_of(image: &Path) -> PathBuf {
    let mut name = OsString::from(image);
    name.push(ENDING);
    PathBuf::from(name)
}

/// What is under way with an image, if anything is.
///
/// # Errors
/// `Damaged` when its journal is; `Io`.
pub fn intent_of(image: &Path) -> Result<Option<Intent>> {
    let real = std::fs::canonicalize(image).unwrap_or_else(|_| image.to_owned());
    let path = journal_of(&real);
    if std::fs::symlink_metadata(&path).is_err() {
        return Ok(None);
    }
    match read(&path) {
        // Its work has ended this moment.
        Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => Ok(None),
        other => other.map(|(intent, _)| Some(intent)),
    }
}

/// The image that a journal stands beside; `None` when that is no journal's name.
pub(crate) fn image_of_journal(place: &Path) -> Option<PathBuf> {
    let name = place.file_name()?.as_bytes().strip_suffix(ENDING.as_bytes())?;
    (!name.is_empty()).then(|| place.with_file_name(std::ffi::OsStr::from_bytes(name)))
}

/// Refuses an image with which something is under way.
pub(crate) fn refuse_under_way(image: &Path) -> Result<()> {
    match intent_of(image)? {
        None => Ok(()),
        Some(intent) => Err(Error::refused(
            Refusal::UnderWay,
            format!("{} takes part in {} that was begun and is not finished", image.display(), intent.work),
            format!("carry it on (`resume {0}`), or give it up (`abandon {0}`)", image.display()),
        )),
    }
}

/// What a journal says: the intent, and the marks.
///
/// # Errors
/// `Damaged`, `Io`; `Unsupported` when a newer version wrote it.
pub(crate) fn read(path: &Path) -> Result<(Intent, Vec<Mark>)> {
    let file = FileStorage::open(path, Access::Look)?;
    let damaged = |why: &str| {
        let message = format!(
            "{why}; what it was about cannot be told: look at the images beside it (`show`), and \
                               remove it by hand once they are known to be whole"
        );
        Error::from_finding(Finding::fatal("journal-damaged", "journal", 0, message).at(path))
    };
    let len = file.len()?;
    if len > MOST_BYTES {
        return Err(damaged("it is far too long"));
    }
    let mut bytes = vec![0; len as usize];
    file.read_at(&mut bytes, 0)?;
    let mut lines: Vec<&[u8]> = bytes.split(|byte| *byte == b'\n').collect();
    // Behind the last line's end; or a line whose end never reached the disk.
    let torn = lines.pop().unwrap_or_default();
    let Some((first, marks)) = lines.split_first() else { return Err(damaged("it has no whole line")) };
    let mut intent: Intent = parse(first).ok_or_else(|| damaged("its first line is not what was written"))?;
    if intent.version != VERSION {
        let message = format!("its version is {}, only {VERSION} is known", intent.version);
        return Err(Error::from_finding(Finding::unsupported("journal-version", "journal", 0, message).at(path)));
    }
    if intent.layers.is_empty() {
        return Err(damaged("it names no image"));
    }
    let mut sound = Vec::new();
    for (number, line) in marks.iter().enumerate() {
        match parse(line) {
            Some(mark) => sound.push(mark),
            None if number + 1 == marks.len() && torn.is_empty() => {}
            None => return Err(damaged("one of its marks is not what was written")),
        }
    }
    rebase(&mut intent, path);
    Ok((intent, sound))
}

/// Paths count from the folder that the journal is in now: a folder that moved as a whole took everything along, and a copy
/// of it speaks of the copies. What lies outside of it must prove to be the same file.
fn rebase(intent: &mut Intent, path: &Path) {
    let (Ok(now), Some(then)) = (std::fs::canonicalize(path), intent.places().get(intent.at).cloned()) else { return };
    let (from, to) = (folder_of(&then), folder_of(&now));
    let is_copy = FileId::of(&to).ok() != intent.folder;
    let files = intent.files();
    let is_same = |path: &Path| FileId::of(path).is_ok_and(|found| files.contains(&found));
    let is_there = |path: &Path| std::fs::symlink_metadata(path).is_ok();
    let mut unproven = Vec::new();
    for path in intent.paths() {
        let way = relative_path(&from, path);
        let here = super::locate::tidy(&to.join(&way));
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

fn line(value: &impl Serialize) -> Result<Vec<u8>> {
    let text = serde_json::to_string(value).map_err(|error| {
        Error::usage(format!("the work cannot be recorded: {error}"), "names on the way must be valid Unicode")
    })?;
    let digest = blake3::hash(text.as_bytes()).to_hex();
    Ok(format!("{} {text}\n", &digest[..DIGEST]).into_bytes())
}

fn parse<T: DeserializeOwned>(line: &[u8]) -> Option<T> {
    let (digest, text) = (line.get(..DIGEST)?, line.get(DIGEST + 1..)?);
    let fits = blake3::hash(text).to_hex().as_bytes()[..DIGEST] == *digest;
    fits.then(|| serde_json::from_slice(text).ok()).flatten()
}

fn this_host() -> String {
    let told = |path: &str| std::fs::read_to_string(path).unwrap_or_default().trim().to_owned();
    match told("/etc/machine-id") {
        none if none.is_empty() => told("/proc/sys/kernel/hostname"),
        id => id,
    }
}

/// A journal that this process writes, alone.
pub(crate) struct Journal {
    intent: Intent,
    file: FileStorage,
}

impl Journal {
    /// Writes the intent, durably: from here on the work is under way.
    ///
    /// # Errors
    /// `Refused` when something is under way already; `Io`.
    pub(crate) fn begin(intent: Intent) -> Result<Self> {
        let mut made: Vec<PathBuf> = Vec::new();
        let begin = |made: &mut Vec<PathBuf>| {
            for (at, place) in intent.places().into_iter().enumerate() {
                put(&place, &line(&intent.as_at(at, &place)?)?, false)?;
                made.push(place);
            }
            FileStorage::open(&journal_of(intent.child()), Access::Write)
        };
        match begin(&mut made) {
            Ok(file) => Ok(Self { intent, file }),
            Err(error) => {
                // Nothing was begun, so nothing need be carried on; should a name be left, carrying on finds that out.
                take_away(&made).unwrap_or_default();
                Err(error)
            }
        }
    }

    /// Opens the journal of work that was cut short, for carrying it on; returns the marks as well.
    ///
    /// # Errors
    /// `Refused` when another process is at it now, or was and has ended it; otherwise as [`intent_of`].
    pub(crate) fn reopen(intent: &Intent) -> Result<(Self, Vec<Mark>)> {
        let place = journal_of(intent.child());
        let file = FileStorage::open(&place, Access::Write)?;
        let (intent, marks) = read(&place)?;
        intent.refuse_unproven()?;
        for (at, copy) in intent.places().into_iter().enumerate().skip(1) {
            if std::fs::symlink_metadata(&copy).is_err() && folder_of(&copy).is_dir() {
                put(&copy, &line(&intent.as_at(at, &copy)?)?, false)?;
            }
        }
        let journal = Self { intent, file };
        // A torn last line is written over.
        let mut whole = line(&journal.intent)?;
        for mark in &marks {
            whole.extend(line(mark)?);
        }
        if journal.file.len()? != whole.len() as u64 {
            put(&place, &whole, true)?;
            drop(journal);
            let intent = read(&place)?.0;
            return Ok((Self { file: FileStorage::open(&place, Access::Write)?, intent }, marks));
        }
        Ok((journal, marks))
    }

    pub(crate) fn intent(&self) -> &Intent {
        &self.intent
    }

    /// Notes how far the work is; durable on return.
    pub(crate) fn mark(&self, mark: &Mark) -> Result<()> {
        self.file.write_at(&line(mark)?, self.file.len()?)?;
        self.file.sync()
    }

    /// The work is done, or given up: nothing is under way any more, also after a loss of power. The journal with the marks
    /// goes last, after its copies are durably gone.
    ///
    /// # Errors
    /// `UnderWay` when it could not be taken away; `Io` when it is gone and only that could not be made durable.
    pub(crate) fn end(self) -> Result<()> {
        let places = self.intent.places();
        let first = places.first().cloned().unwrap_or_default();
        take_away(&places).map_err(|error| match std::fs::symlink_metadata(&first) {
            Ok(_) => error.under_way(first.parent().map_or(Path::new("."), |folder| folder)),
            Err(_) => error,
        })
    }
}

/// Takes away the copies of a journal whose work is over.
pub(crate) fn clear_copies(intent: &Intent) -> Result<()> {
    take_away(&intent.places())
}

/// Takes journals away, the last first, each durably before the next.
fn take_away(places: &[PathBuf]) -> Result<()> {
    for place in places.iter().rev() {
        match remove(place) {
            Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {}
            other => other.and_then(|()| sync_folder(place))?,
        }
    }
    Ok(())
}

fn put(place: &Path, text: &[u8], over: bool) -> Result<()> {
    let staged = if over { StagedFile::create_beside(place) } else { StagedFile::create(place) };
    let staged = staged.map_err(|error| match error {
        Error::Refused(Refusal::Exists, _) => Error::refused(
            Refusal::UnderWay,
            format!("{} says that something is under way there already", place.display()),
            "see what (`status`), then carry it on (`resume`) or give it up (`abandon`)",
        ),
        other => other,
    })?;
    staged.storage().write_at(text, 0)?;
    if over { staged.replace() } else { staged.publish() }
}

/// Where the merged image stands now that `child` grows from, while `parent` is the place where it is to stand.
pub(super) fn survivor_for(child: &Path, parent: &Path) -> Option<PathBuf> {
    let intent = intent_of(parent).ok()??;
    let child = std::fs::canonicalize(child).ok()?;
    let is_told = intent.children.iter().any(|grandchild| grandchild.path == child);
    intent.survivor().filter(|_| is_told).map(|member| member.path.clone())
}

/// Whether a file with the data identity `found`, at `parent`, is the parent of `child` all the same: it is a layer of a merge
/// that gets another identity, or just got it, while the layer above it still names the one that it had.
pub(super) fn stands_in(child: &Path, accepted: &[Uuid], parent: &Path, found: Uuid) -> bool {
    let Ok(Some(intent)) = intent_of(parent) else { return false };
    if intent.work != Work::MergeIntoParent {
        return false;
    }
    let (Ok(child), Ok(parent)) = (real(child), real(parent)) else { return false };
    let pair = intent.layers.windows(2).find(|pair| pair[0].path == child && pair[1].path == parent);
    pair.is_some_and(|pair| pair[1].is_known_as(found) && accepted.iter().any(|id| pair[1].is_known_as(*id)))
}
