//! The record of a change that spans several files and takes long: written before it begins, gone when it is done.
//!
//! `IMAGE.zsap.journal` stands beside the child and, as a copy, beside every other image that becomes one with it. The first line is the intent, with
//! the identity of every image in it; it appears whole, by a rename. Marks of how far the work is follow in the child's
//! journal, a line each, appended and synced. Every line begins with a digest of its rest: a last line that is torn was
//! never written, any other line that does not fit stops everything.

use std::ffi::OsString;
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
use crate::storage::{Access, FileStorage, ReadAt, StagedFile, Storage, remove};

const VERSION: u32 = 1;
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
}

impl std::fmt::Display for Work {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Work::MergeIntoParent | Work::MergeIntoChild => "a merge",
            Work::Transplant => "a transplant",
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
}

/// An image that grew from the child.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Grandchild {
    /// Where it stands.
    pub path: PathBuf,
    /// Whether it records the absolute path of its parent.
    pub absolute: bool,
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
    /// The images that become one, the child first; of a transplant only the child.
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
}

impl Intent {
    /// An intent of this host, now.
    pub(crate) fn new(work: Work, layers: Vec<Member>, identity: Uuid, result: PathBuf) -> Self {
        let (host, started) = (this_host(), Timestamp::now());
        let (children, parent, frozen, absolute) = (Vec::new(), None, false, false);
        Self { version: VERSION, work, host, started, layers, children, frozen, absolute, parent, identity, result }
    }

    /// The image at whose end the work began.
    pub fn child(&self) -> &Path {
        self.layers.first().map_or(Path::new(""), |member| &member.path)
    }

    /// The image whose file holds the result.
    pub(crate) fn survivor(&self) -> Option<&Member> {
        match self.work {
            Work::MergeIntoParent => self.layers.last(),
            Work::MergeIntoChild | Work::Transplant => self.layers.first(),
        }
    }

    /// The journals: the one that takes the marks, then its copies.
    fn places(&self) -> impl DoubleEndedIterator<Item = PathBuf> + '_ {
        self.layers.iter().map(|member| journal_of(&member.path))
    }

    /// Whether this host began it.
    pub(crate) fn is_of_this_host(&self) -> bool {
        self.host == this_host()
    }

    fn paths(&mut self) -> impl Iterator<Item = &mut PathBuf> {
        let layers = self.layers.iter_mut().map(|member| &mut member.path);
        let parent = self.parent.iter_mut().map(|member| &mut member.path);
        let children = self.children.iter_mut().map(|child| &mut child.path);
        layers.chain(children).chain(parent).chain(std::iter::once(&mut self.result))
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
    name.push(".zsap.journal");
    PathBuf::from(name)
}

/// What is under way with an image, if anything is.
///
/// # Errors
/// `Damaged` when its journal is; `Io`.
pub fn intent_of(image: &Path) -> Result<Option<Intent>> {
    let real = std::fs::canonicalize(image).unwrap_or_else(|_| image.to_owned());
    let path = journal_of(&real);
    match path.exists() {
        true => read(&path).map(|(intent, _)| Some(intent)),
        false => Ok(None),
    }
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

/// A folder that moved as a whole took everything along: paths go from where the journal is now.
fn rebase(intent: &mut Intent, path: &Path) {
    let Ok(now) = std::fs::canonicalize(path) else { return };
    let name = now.file_name();
    let Some(then) = intent.places().find(|place| *place == now || place.file_name() == name) else {
        return;
    };
    if then == now {
        return;
    }
    let (from, to) = (folder_of(&then), folder_of(&now));
    for path in intent.paths() {
        let moved = super::locate::tidy(&to.join(relative_path(&from, path)));
        if !path.exists() {
            *path = moved;
        }
    }
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
        let text = line(&intent)?;
        let mut made: Vec<PathBuf> = Vec::new();
        for place in intent.places() {
            if let Err(error) = put(&place, &text, false) {
                // Nothing was begun, so nothing need be carried on.
                made.iter().rev().for_each(|place| _ = remove(place));
                return Err(error);
            }
            made.push(place);
        }
        let file = FileStorage::open(&journal_of(intent.child()), Access::Write)?;
        Ok(Self { intent, file })
    }

    /// Opens the journal of work that was cut short, for carrying it on; returns the marks as well.
    ///
    /// # Errors
    /// `Refused` when another process is at it now; otherwise as [`intent_of`].
    pub(crate) fn reopen(intent: &Intent) -> Result<(Self, Vec<Mark>)> {
        let place = journal_of(intent.child());
        if !place.exists() {
            // The end took it away, or the very beginning had not come to it: only the copy is left.
            put(&place, &line(intent)?, false)?;
        }
        let file = FileStorage::open(&place, Access::Write)?;
        let (intent, marks) = read(&place)?;
        let text = line(&intent)?;
        for copy in intent.places().skip(1).filter(|copy| !copy.exists()) {
            put(&copy, &text, false)?;
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

    /// The work is done, or given up: nothing is under way any more. Not synced: should a loss of power bring the journal
    /// back, carrying the work on finds that all is done.
    pub(crate) fn end(self) -> Result<()> {
        // The one with the marks goes last.
        for place in self.intent.places().rev() {
            match remove(&place) {
                Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {}
                other => other?,
            }
        }
        Ok(())
    }
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

/// Whether a file with the data identity `found`, at `parent`, is the parent of `child` all the same: it is being merged
/// into, so that its identity has changed, or is about to.
pub(super) fn stands_in(child: &Path, accepted: &[Uuid], parent: &Path, found: Uuid) -> bool {
    let Ok(Some(intent)) = intent_of(parent) else { return false };
    let [.., nearest, ancestor] = intent.layers.as_slice() else { return false };
    let both = [ancestor.identity, intent.identity];
    let is_nearest = std::fs::canonicalize(child).is_ok_and(|child| child == nearest.path);
    intent.work == Work::MergeIntoParent
        && is_nearest
        && both.contains(&found)
        && accepted.iter().any(|id| both.contains(id))
}
