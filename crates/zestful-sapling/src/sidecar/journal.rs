//! The record of a change that spans several files and takes long: written before it begins, gone when it is done.
//!
//! `IMAGE.zsap.journal` stands beside the image with which the work began and, as a copy, beside every other image that
//! takes part under its own name. The first line is the record: who began what, with the identity of every image in it;
//! it appears whole, by a rename. Marks of how far the work is follow in the first journal only, a line each, appended
//! and synced. Work on a whole grove has one journal, `grove.journal` in its folder. Every line begins with a digest of
//! its rest: a last line that is torn was never written, any other line that does not fit stops everything.
//!
//! The first journal is made before its copies and taken away after them, each step durable before the next, so that
//! a copy that stands alone speaks of work that is over.

use std::path::{Path, PathBuf};

use serde::Deserialize;
use serde::de::{DeserializeOwned, IgnoredAny};
use uuid::Uuid;

use super::catalogue::groves_around;
use super::line::{checked, line};
use super::record::{Header, Payload, Record, VERSION, image_of_journal, journal_of, journal_of_grove, rebase};
use crate::error::{Error, Refusal, Result};
use crate::finding::{Finding, JournalFinding};
use crate::image::data_identity_at;
use crate::storage::{Access, FileStorage, ReadAt, StagedFile, Storage, folder_of, real, remove, sync_folder};

/// The marks of a merge of 64 TiB, and a record of 4,096 layers, take less.
const MOST_BYTES: usize = 16 << 20;

/// What is under way with an image, if anything is.
///
/// # Errors
/// `Damaged` when its journal is; `Io`.
pub(crate) fn under_way_at(image: &Path) -> Result<Option<Header>> {
    let real = std::fs::canonicalize(image).unwrap_or_else(|_| image.to_owned());
    if let Some(header) = header_at(&journal_of(&real))? {
        return Ok(Some(header));
    }
    for grove in groves_around(&real) {
        if let Some(header) = header_at(&journal_of_grove(&grove))?.filter(|header| header.claims(&real)) {
            return Ok(Some(header));
        }
    }
    Ok(None)
}

/// What is under way with the grove in a folder, if anything is.
///
/// # Errors
/// As [`under_way_at`].
pub(crate) fn under_way_in_grove(folder: &Path) -> Result<Option<Header>> {
    header_at(&journal_of_grove(folder))
}

fn header_at(path: &Path) -> Result<Option<Header>> {
    if std::fs::symlink_metadata(path).is_err() {
        return Ok(None);
    }
    match read_header(path) {
        // Its work has ended this moment.
        Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => Ok(None),
        other => other.map(Some),
    }
}

/// Refuses an image with which something is under way.
pub(crate) fn refuse_under_way(image: &Path) -> Result<()> {
    match under_way_at(image)? {
        None => Ok(()),
        Some(header) => Err(Error::refused(
            Refusal::UnderWay { image: image.to_owned(), must_go_on: false },
            format!("{} takes part in {} that was begun and is not finished", image.display(), header.work),
            "carry it on, or give it up",
        )),
    }
}

/// The first line of a journal, and those behind it that were wholly written.
struct Lines {
    first: Vec<u8>,
    marks: Vec<Vec<u8>>,
}

fn damaged(path: &Path, why: &str) -> Error {
    Finding::new(JournalFinding::Damaged { why: why.to_owned() }, 0).at(path).into()
}

fn lines_of(path: &Path) -> Result<Lines> {
    let file = FileStorage::open(path, Access::ReadUnlocked)?;
    let len = usize::try_from(file.len()?).ok().filter(|len| *len <= MOST_BYTES);
    let mut bytes = vec![0; len.ok_or_else(|| damaged(path, "it is far too long"))?];
    file.read_at(&mut bytes, 0)?;
    let mut lines = bytes.split(|byte| *byte == b'\n').peekable();
    let first = lines.next().filter(|_| lines.peek().is_some()).ok_or_else(|| damaged(path, "it has no whole line"))?;
    let first = checked(first).ok_or_else(|| damaged(path, "its first line is not what was written"))?;
    let mut marks = Vec::new();
    // Behind the last line's end stands nothing, or a line whose end never reached the disk.
    while let Some(line) = lines.next().filter(|_| lines.peek().is_some()) {
        // Behind the end of the last line there is one empty part, and nothing behind that.
        let is_last = lines.clone().nth(1).is_none() && lines.peek().is_some_and(|rest| rest.is_empty());
        match checked(line) {
            Some(mark) => marks.push(mark.to_owned()),
            None if is_last => {}
            None => return Err(damaged(path, "one of its marks is not what was written")),
        }
    }
    Ok(Lines { first: first.to_owned(), marks })
}

fn record_in<P: DeserializeOwned>(path: &Path, lines: &Lines) -> Result<Record<P>> {
    /// Up to the second version the number stood beside all else.
    #[derive(Deserialize)]
    struct Versioned {
        version: Option<u32>,
        header: Option<VersionOnly>,
    }
    #[derive(Deserialize)]
    struct VersionOnly {
        version: u32,
    }
    let unknown = || damaged(path, "its first line is not a record");
    let told: Versioned = serde_json::from_slice(&lines.first).map_err(|_| unknown())?;
    let version = told.header.map(|header| header.version).or(told.version).ok_or_else(unknown)?;
    if version != VERSION {
        return Err(Finding::new(JournalFinding::Version { version, known: VERSION }, 0).at(path).into());
    }
    let mut record: Record<P> = serde_json::from_slice(&lines.first).map_err(|_| unknown())?;
    if record.header.members.is_empty() && record.header.grove.is_none() {
        return Err(damaged(path, "it names no image"));
    }
    rebase(&mut record.header, path);
    Ok(record)
}

/// What a journal says of its work, whatever kind of work that is.
///
/// # Errors
/// `Damaged`, `Io`; `Unsupported` when another version wrote it.
pub(crate) fn read_header(path: &Path) -> Result<Header> {
    record_in::<IgnoredAny>(path, &lines_of(path)?).map(|record| record.header)
}

/// The whole record, and the marks.
///
/// # Errors
/// As [`read_header`].
fn read<P: Payload>(path: &Path) -> Result<(Record<P>, Vec<P::Mark>)> {
    let lines = lines_of(path)?;
    let record = record_in::<P>(path, &lines)?;
    let mark = |text: &Vec<u8>| {
        serde_json::from_slice(text).map_err(|_| damaged(path, "one of its marks is not what this kind of work writes"))
    };
    let marks = lines.marks.iter().map(mark).collect::<Result<_>>()?;
    Ok((record, marks))
}

/// A journal that this process writes, alone.
pub(crate) struct Journal<P> {
    record: Record<P>,
    file: FileStorage,
}

impl<P: Payload> Journal<P> {
    /// Writes the record, durably: from here on the work is under way.
    ///
    /// # Errors
    /// `Refused` when something is under way already; `Io`.
    pub(crate) fn begin(record: Record<P>) -> Result<Self> {
        let mut made: Vec<PathBuf> = Vec::new();
        let begin = |made: &mut Vec<PathBuf>| {
            for (at, place) in record.header.places().into_iter().enumerate() {
                put(&place, &line(&record.as_at(at, &place)?)?, false)?;
                made.push(place);
            }
            FileStorage::open(&record.header.journal(), Access::Write)
        };
        match begin(&mut made) {
            Ok(file) => Ok(Self { record, file }),
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
    /// `Refused` when another process is at it now, or was and has ended it; otherwise as [`read_header`].
    pub(crate) fn reopen(header: &Header) -> Result<(Self, Vec<P::Mark>)> {
        let place = header.journal();
        let file = FileStorage::open(&place, Access::Write)?;
        let (record, marks) = read::<P>(&place)?;
        record.header.refuse_unproven()?;
        for (at, copy) in record.header.places().into_iter().enumerate().skip(1) {
            if std::fs::symlink_metadata(&copy).is_err() && folder_of(&copy).is_dir() {
                put(&copy, &line(&record.as_at(at, &copy)?)?, false)?;
            }
        }
        let journal = Self { record, file };
        // A torn last line is written over.
        let mut whole = line(&journal.record)?;
        for mark in &marks {
            whole.extend(line(mark)?);
        }
        if usize::try_from(journal.file.len()?) != Ok(whole.len()) {
            put(&place, &whole, true)?;
            drop(journal);
            let record = read::<P>(&place)?.0;
            return Ok((Self { file: FileStorage::open(&place, Access::Write)?, record }, marks));
        }
        Ok((journal, marks))
    }

    pub(crate) fn record(&self) -> &Record<P> {
        &self.record
    }

    /// Notes how far the work is; durable on return.
    pub(crate) fn mark(&self, mark: &P::Mark) -> Result<()> {
        self.file.write_at(&line(mark)?, self.file.len()?)?;
        self.file.sync()
    }

    /// The work is done, or given up: nothing is under way any more, also after a loss of power. The journal with the
    /// marks goes last, after its copies are durably gone.
    ///
    /// # Errors
    /// `UnderWay` when it could not be taken away; `Io` when it is gone and only that could not be made durable.
    pub(crate) fn end(self) -> Result<()> {
        let places = self.record.header.places();
        let first = places.first().cloned().unwrap_or_default();
        take_away(&places).map_err(|error| match std::fs::symlink_metadata(&first) {
            Ok(_) => error.under_way(first.parent().map_or(Path::new("."), |folder| folder)),
            Err(_) => error,
        })
    }
}

/// Takes away the copies of a journal whose work is over.
pub(crate) fn clear_copies(header: &Header) -> Result<()> {
    take_away(&header.places())
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
        Error::Refused(Refusal::Exists { .. }, _) => Error::refused(
            Refusal::UnderWay { image: image_of_journal(place).unwrap_or_else(|| folder_of(place)), must_go_on: false },
            format!("{} says that something is under way there already", place.display()),
            "see what, then carry it on or give it up",
        ),
        other => other,
    })?;
    staged.storage().write_at(text, 0)?;
    if over { staged.replace() } else { staged.publish() }
}

/// What is under way with an image as a layer of a chain, if that can be told.
fn chain_work_at(image: &Path) -> Option<Header> {
    under_way_at(image).ok()?.filter(|header| header.grove.is_none())
}

/// Where the image stands now that `child` reads through, while `parent` is the place where it is to stand.
pub(crate) fn survivor_for(child: &Path, parent: &Path) -> Option<PathBuf> {
    let header = chain_work_at(parent)?;
    let child = std::fs::canonicalize(child).ok()?;
    let is_told = header.readers.iter().any(|reader| reader.path == child);
    header.survivor().filter(|_| is_told).map(|member| member.path.clone())
}

/// Whether a file with the data identity `found`, at `parent`, is the parent of `child` all the same: both take part in
/// work that gives the parent another identity, or just gave it one, while the child still names the one that it had.
pub(crate) fn stands_in(child: &Path, accepted: &[Uuid], parent: &Path, found: Uuid) -> bool {
    let Some(header) = chain_work_at(parent) else { return false };
    let (Ok(child), Ok(parent)) = (real(child), real(parent)) else { return false };
    let pair = header.members.windows(2).find(|pair| pair[0].path == child && pair[1].path == parent);
    pair.is_some_and(|pair| pair[1].is_known_as(found) && accepted.iter().any(|id| pair[1].is_known_as(*id)))
}

/// Whether the image is a layer that the work under way has only to remove: the result has its name already, and what
/// the layer reads through may be gone.
pub(crate) fn waits_to_be_removed(image: &Path) -> bool {
    let Some(header) = chain_work_at(image) else { return false };
    let is_member = |image: PathBuf| image != header.result && header.members.iter().any(|member| member.path == image);
    let has_name = header.survivor().is_some_and(|survivor| {
        survivor.path != header.result
            && data_identity_at(&survivor.path).is_none()
            && header.is_member(survivor, &header.result)
    });
    has_name && real(image).is_ok_and(is_member)
}
