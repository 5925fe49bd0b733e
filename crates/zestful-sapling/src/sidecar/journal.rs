//! The record of a change that spans several files and takes long: written before it begins, gone when it is done.
//!
//! `IMAGE.zsap.journal` stands beside the image with which the work began and, as a copy, beside every other image
//! that takes part under its own name. The first line is the intent, with the identity of every image in it; it
//! appears whole, by a rename. Marks of how far the work is follow in the first journal only, a line each, appended
//! and synced. Every line begins with a digest of its rest: a last line that is torn was never written, any other
//! line that does not fit stops everything.
//!
//! The first journal is made before its copies and taken away after them, each step durable before the next, so that
//! a copy that stands alone speaks of work that is over.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::intent::{Intent, VERSION, Work, journal_of, rebase};
use crate::error::{Error, Refusal, Result};
use crate::finding::Finding;
use crate::storage::{Access, FileStorage, ReadAt, StagedFile, Storage, folder_of, real, remove, sync_folder};

/// Hexadecimal digits of the digest before each line.
const DIGEST: usize = 16;
/// The marks of a merge of 64 TiB, and an intent of 4,096 layers, take less.
const MOST_BYTES: u64 = 16 << 20;

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
    let file = FileStorage::open(path, Access::ReadUnlocked)?;
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
    let mut lines = bytes.split(|byte| *byte == b'\n').peekable();
    let first = lines.next().filter(|_| lines.peek().is_some()).ok_or_else(|| damaged("it has no whole line"))?;
    let mut intent: Intent = parse(first).ok_or_else(|| damaged("its first line is not what was written"))?;
    if intent.version != VERSION {
        let message = format!("its version is {}, only {VERSION} is known", intent.version);
        return Err(Error::from_finding(Finding::unsupported("journal-version", "journal", 0, message).at(path)));
    }
    if intent.layers.is_empty() {
        return Err(damaged("it names no image"));
    }
    let (mut sound, mut at) = (Vec::new(), first.len() + 1);
    // Behind the last line's end stands nothing, or a line whose end never reached the disk.
    while let Some(line) = lines.next().filter(|_| lines.peek().is_some()) {
        at += line.len() + 1;
        match parse(line) {
            Some(mark) => sound.push(mark),
            None if at == bytes.len() => {}
            None => return Err(damaged("one of its marks is not what was written")),
        }
    }
    rebase(&mut intent, path);
    Ok((intent, sound))
}

fn line(value: &impl Serialize) -> Result<Vec<u8>> {
    let text = serde_json::to_string(value).map_err(|error| {
        Error::usage(format!("the work cannot be recorded: {error}"), "report this, it should not happen")
    })?;
    let digest = blake3::hash(text.as_bytes()).to_hex();
    Ok(format!("{} {text}\n", &digest[..DIGEST]).into_bytes())
}

fn parse<T: DeserializeOwned>(line: &[u8]) -> Option<T> {
    let (digest, text) = (line.get(..DIGEST)?, line.get(DIGEST + 1..)?);
    let fits = blake3::hash(text).to_hex().as_bytes()[..DIGEST] == *digest;
    fits.then(|| serde_json::from_slice(text).ok()).flatten()
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

    /// The work is done, or given up: nothing is under way any more, also after a loss of power. The journal with the
    /// marks goes last, after its copies are durably gone.
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
pub(crate) fn survivor_for(child: &Path, parent: &Path) -> Option<PathBuf> {
    let intent = intent_of(parent).ok()??;
    let child = std::fs::canonicalize(child).ok()?;
    let is_told = intent.children.iter().any(|grandchild| grandchild.path == child);
    intent.survivor().filter(|_| is_told).map(|member| member.path.clone())
}

/// Whether a file with the data identity `found`, at `parent`, is the parent of `child` all the same: it is a layer
/// of a merge that gets another identity, or just got it, while the layer above it still names the one that it had.
pub(crate) fn stands_in(child: &Path, accepted: &[Uuid], parent: &Path, found: Uuid) -> bool {
    let Ok(Some(intent)) = intent_of(parent) else { return false };
    if intent.work != Work::MergeIntoParent {
        return false;
    }
    let (Ok(child), Ok(parent)) = (real(child), real(parent)) else { return false };
    let pair = intent.layers.windows(2).find(|pair| pair[0].path == child && pair[1].path == parent);
    pair.is_some_and(|pair| pair[1].is_known_as(found) && accepted.iter().any(|id| pair[1].is_known_as(*id)))
}
