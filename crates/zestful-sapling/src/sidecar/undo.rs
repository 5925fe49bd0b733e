//! What a repair overwrote: `IMAGE.zsap.undo`, beside the image, and `IMAGE.zsap.undo-2` and so on for later repairs.
//!
//! The first line is the record: the lengths of the image before and after, and the ranges that are others. The old
//! bytes of each range follow, and the new ones, unless those are zeros; each range has a digest of both. The file
//! appears whole, by a rename, before the first byte of the image is overwritten. A line behind all that says that the
//! repair was done, and when the image was last changed then.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::line::{checked, line};
use crate::bytes::{index, wide};
use crate::error::{Error, Result};
use crate::finding::{Finding, UndoFinding};
use crate::storage::{
    Access, Edit, FileStorage, NewBytes, ReadAt, StagedFile, Storage, inherit, remove, rename_new, sync_folder,
};

const ENDING: &str = ".zsap.undo";
const VERSION: u32 = 1;
/// Bytes of one range; longer ones are divided.
const MOST_IN_PART: u64 = 1 << 20;
const MOST_PARTS: usize = 1 << 17;
/// More takes no record of so many ranges.
const MOST_RECORD: u64 = 48 << 20;
/// Repairs of one image that are kept.
const MOST_NUMBER: u32 = 1000;
/// What a disk writes whole or not at all.
const SECTOR: usize = 512;

/// One range of the image that a repair changes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Part {
    offset: u64,
    /// Old bytes that are kept: none behind the old end.
    old: u64,
    new: u64,
    /// Whether the new bytes are zeros, which are not kept.
    zeros: bool,
    digest: String,
}

impl Part {
    fn stored(&self) -> u64 {
        self.old.saturating_add(if self.zeros { 0 } else { self.new })
    }
}

/// What is said first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Record {
    version: u32,
    made: Timestamp,
    /// Lengths of the image.
    old_len: u64,
    new_len: u64,
    /// When the image was last changed before the repair.
    modified: Option<Timestamp>,
    /// What was mended, by the codes.
    #[serde(deserialize_with = "crate::bounded::list::<_, _, 1024>")]
    mended: Vec<String>,
    #[serde(deserialize_with = "crate::bounded::list::<_, _, MOST_PARTS>")]
    parts: Vec<Part>,
}

/// The repair was done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Done {
    /// When the image was last changed then.
    modified: Option<Timestamp>,
}

/// What stands in the ranges that a repair changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Stand {
    /// What stood there before.
    Old,
    /// What the repair put there.
    New,
    /// Each sector one or the other.
    Between,
    /// Something else: the image was written to since, or is another one.
    Other,
}

/// An undo file.
#[derive(Debug)]
pub(crate) struct Undo {
    place: PathBuf,
    file: Arc<FileStorage>,
    record: Record,
    /// Where the bytes begin.
    start: u64,
    done: Option<Done>,
}

fn place_of(image: &Path, number: u32) -> PathBuf {
    let mut name = OsString::from(image);
    name.push(ENDING);
    if number > 1 {
        name.push(format!("-{number}"));
    }
    PathBuf::from(name)
}

/// The image that an undo file stands beside; `None` when that is no undo file's name.
pub(crate) fn image_of_undo(place: &Path) -> Option<PathBuf> {
    let name = place.file_name()?.as_bytes();
    let at = name.windows(ENDING.len()).rposition(|part| part == ENDING.as_bytes()).filter(|at| *at > 0)?;
    let rest = &name[at.saturating_add(ENDING.len())..];
    let is_number = |rest: &[u8]| !rest.is_empty() && rest.iter().all(u8::is_ascii_digit);
    let is_ours = rest.is_empty() || rest.strip_prefix(b"-").is_some_and(is_number);
    is_ours.then(|| place.with_file_name(std::ffi::OsStr::from_bytes(&name[..at])))
}

/// The undo files of an image, the latest last.
pub(crate) fn undo_files(image: &Path) -> Vec<PathBuf> {
    let there = |place: &PathBuf| std::fs::symlink_metadata(place).is_ok();
    // Numbers have gaps where somebody took one away.
    (1..=MOST_NUMBER).map(|number| place_of(image, number)).filter(there).collect()
}

/// The undo files of an image that is moved go with it; what stands in the way there stays.
///
/// # Errors
/// `Io`.
pub(crate) fn take_undo_along(source: &Path, target: &Path) -> Result<()> {
    for place in undo_files(source) {
        let new = place_of(target, number_of(&place).unwrap_or(1));
        if std::fs::symlink_metadata(&new).is_err() {
            rename_new(&place, &new)?;
        }
    }
    sync_folder(target)
}

/// The undo files of an image that is gone go as well. One that cannot be taken away does no harm.
pub(crate) fn remove_undo(image: &Path) {
    undo_files(image).iter().for_each(|place| remove(place).unwrap_or_default());
}

fn damaged(place: &Path, why: &str) -> Error {
    Finding::new(UndoFinding::Damaged { why: why.to_owned() }, 0).at(place).into()
}

fn digest_of(old: &[u8], new: &[u8]) -> String {
    let mut digest = blake3::Hasher::new();
    digest.update(&wide(old.len()).to_le_bytes()).update(old).update(new);
    digest.finalize().to_hex()[..32].to_owned()
}

/// The edits in ranges of which no one is too long.
fn divided(edits: &[Edit]) -> Vec<(u64, NewBytes)> {
    let mut parts = Vec::new();
    for edit in edits {
        match &edit.new {
            NewBytes::Bytes(bytes) => {
                let mut at = edit.offset;
                for part in bytes.chunks(index(MOST_IN_PART)) {
                    parts.push((at, NewBytes::Bytes(part.to_vec())));
                    at = at.saturating_add(wide(part.len()));
                }
            }
            NewBytes::Zeros(len) => {
                for step in crate::bytes::in_units(edit.offset, *len, MOST_IN_PART) {
                    parts.push((edit.offset.saturating_add(step.done), NewBytes::Zeros(step.len)));
                }
            }
        }
    }
    parts
}

/// Bytes that the undo file of these edits takes, about.
pub(crate) fn size_of_undo(edits: &[Edit]) -> u64 {
    edits.iter().fold(4096, |sum, edit| {
        let new = if matches!(edit.new, NewBytes::Zeros(_)) { 0 } else { edit.len() };
        edit.len().saturating_add(new).saturating_add(512).saturating_add(sum)
    })
}

impl Undo {
    /// Writes the undo file of these changes of `image`, durably.
    ///
    /// # Errors
    /// `Refused` when too much would change; `Io`.
    pub(crate) fn create(
        image: &dyn ReadAt,
        edits: &[Edit],
        new_len: u64,
        modified: Option<Timestamp>,
        mended: Vec<String>,
    ) -> Result<Self> {
        let (old_len, path) = (image.len()?, image.path());
        let mut parts = Vec::new();
        let mut cut = divided(edits);
        if cut.len() > MOST_PARTS {
            return Err(Error::usage(
                format!("{} ranges of {} would change, at most {MOST_PARTS} are handled", cut.len(), path.display()),
                "save what can be read into a new image",
            ));
        }
        let old_at = |offset: u64, len: u64| -> Result<Vec<u8>> {
            let mut old = vec![0; index(old_len.saturating_sub(offset).min(len))];
            image.read_at(&mut old, offset)?;
            Ok(old)
        };
        for (offset, new) in &cut {
            let (new, bytes) = match new {
                NewBytes::Bytes(bytes) => (wide(bytes.len()), Some(&bytes[..])),
                NewBytes::Zeros(len) => (*len, None),
            };
            let old = old_at(*offset, new)?;
            let digest = digest_of(&old, bytes.unwrap_or_default());
            parts.push(Part { offset: *offset, old: wide(old.len()), new, zeros: bytes.is_none(), digest });
        }
        let taken = undo_files(path).last().and_then(|place| number_of(place)).unwrap_or_default();
        let number = taken.saturating_add(1);
        if number > MOST_NUMBER {
            return Err(Error::usage(
                format!("{} was repaired {taken} times, and every undo file is there still", path.display()),
                "remove those that nobody needs any more",
            ));
        }
        let place = place_of(path, number);
        let record = Record { version: VERSION, made: Timestamp::now(), old_len, new_len, modified, mended, parts };
        let first = line(&record)?;
        let staged = StagedFile::create(&place)?;
        let target = staged.storage();
        target.write_at(&first, 0)?;
        let start = wide(first.len());
        let mut at = start;
        for (offset, new) in cut.drain(..) {
            let (len, bytes) = match new {
                NewBytes::Bytes(bytes) => (wide(bytes.len()), bytes),
                NewBytes::Zeros(len) => (len, Vec::new()),
            };
            for part in [old_at(offset, len)?, bytes] {
                target.write_at(&part, at)?;
                at = at.saturating_add(wide(part.len()));
            }
        }
        // What was in the image is for the same eyes.
        _ = inherit(path, staged.temporary())?;
        Ok(Self { place, file: staged.publish_open()?, record, start, done: None })
    }

    /// The undo file with this number; `None` when it is not there.
    ///
    /// # Errors
    /// `Damaged`, `Io`; `Unsupported` when a newer version wrote it; `Refused` when another process is at it.
    pub(crate) fn open(image: &Path, number: u32) -> Result<Option<Self>> {
        let place = place_of(image, number);
        if std::fs::symlink_metadata(&place).is_err() {
            return Ok(None);
        }
        Self::open_at(&place).map(Some)
    }

    /// The undo file of the last repair that was done; `None` when there is none.
    ///
    /// # Errors
    /// As [`Undo::open`].
    pub(crate) fn latest(image: &Path) -> Result<Option<Self>> {
        for place in undo_files(image).iter().rev() {
            // One whose repair never began says nothing.
            if let Some(undo) = Some(Self::open_at(place)?).filter(|undo| undo.done.is_some()) {
                return Ok(Some(undo));
            }
        }
        Ok(None)
    }

    /// The undo files that are of no use to an image with which no repair is under way: of repairs that never began,
    /// and all others once the image was written to since the last one.
    pub(crate) fn useless(image: &Path, modified: Option<Timestamp>, len: u64) -> Vec<Self> {
        let mut useless = Vec::new();
        for place in undo_files(image).iter().rev() {
            match Self::open_at(place) {
                Ok(undo) if undo.done.is_some() && undo.is_current(modified, len) => break,
                Ok(undo) => useless.push(undo),
                Err(_) => {}
            }
        }
        useless
    }

    /// Whether a repair of an image may be taken back still.
    pub(crate) fn is_kept_of(image: &Path) -> bool {
        !undo_files(image).is_empty()
    }

    fn open_at(place: &Path) -> Result<Self> {
        let file = Arc::new(FileStorage::open(place, Access::AmendMetadata)?);
        let len = file.len()?;
        let mut first = Vec::new();
        while !first.contains(&b'\n') {
            let at = wide(first.len());
            let step = len.saturating_sub(at).min(1 << 20);
            if step == 0 || at > MOST_RECORD {
                return Err(damaged(place, "it has no whole line"));
            }
            let mut part = vec![0; index(step)];
            file.read_at(&mut part, at)?;
            first.extend(part);
        }
        let end = first.iter().position(|byte| *byte == b'\n').unwrap_or_default();
        let text = checked(&first[..end]).ok_or_else(|| damaged(place, "its first line is not what was written"))?;
        #[derive(Deserialize)]
        struct Versioned {
            version: u32,
        }
        let unknown = |_| damaged(place, "its first line is not a record");
        let Versioned { version } = serde_json::from_slice(text).map_err(unknown)?;
        if version > VERSION {
            return Err(Finding::new(UndoFinding::Version { version, known: VERSION }, 0).at(place).into());
        }
        let record: Record = serde_json::from_slice(text).map_err(unknown)?;
        let is_sane = |part: &Part| {
            let end = part.offset.checked_add(part.new);
            let is_small = part.new <= MOST_IN_PART && part.old <= part.new && part.digest.len() == 32;
            is_small && end.is_some_and(|end| end <= record.new_len)
        };
        let start = wide(end.saturating_add(1));
        let size = record.parts.iter().fold(start, |sum, part| part.stored().saturating_add(sum));
        if !record.parts.iter().all(is_sane) || record.new_len < record.old_len || size > len {
            return Err(damaged(place, "it is shorter than it says, or what it says cannot be"));
        }
        let mut marks = vec![0; index(len.saturating_sub(size).min(1 << 16))];
        file.read_at(&mut marks, size)?;
        // A last line that is torn was never written.
        let marks = marks.split(|byte| *byte == b'\n').filter_map(checked);
        let done = marks.filter_map(|text| serde_json::from_slice(text).ok()).next_back();
        Ok(Self { place: place.to_owned(), file, record, start, done })
    }

    /// Which of the image's undo files it is.
    pub(crate) fn number(&self) -> u32 {
        number_of(&self.place).unwrap_or(1)
    }

    pub(crate) fn place(&self) -> &Path {
        &self.place
    }

    /// When the repair was begun.
    pub(crate) fn made(&self) -> Timestamp {
        self.record.made
    }

    /// What was mended, by the codes.
    pub(crate) fn mended(&self) -> &[String] {
        &self.record.mended
    }

    /// Bytes of the image that are others.
    pub(crate) fn bytes(&self) -> u64 {
        self.record.parts.iter().fold(0, |sum, part| part.new.saturating_add(sum))
    }

    /// When the image was last changed before the repair.
    pub(crate) fn modified_before(&self) -> Option<Timestamp> {
        self.record.modified
    }

    /// Whether the repair was done, and the image, last changed at `modified`, was not written to since, as far as that
    /// shows without reading it.
    pub(crate) fn is_current(&self, modified: Option<Timestamp>, len: u64) -> bool {
        len == self.record.new_len && self.done.as_ref().is_some_and(|done| done.modified == modified)
    }

    /// Notes that the repair is done; durable on return.
    pub(crate) fn mark_done(&self, modified: Option<Timestamp>) -> Result<()> {
        // Behind what may be a torn line.
        let text = [b"\n".to_vec(), line(&Done { modified })?].concat();
        self.file.write_at(&text, self.file.len()?)?;
        self.file.sync()
    }

    /// Each range with its old and new bytes, proven to be what was written.
    fn for_each_part(&self, mut act: impl FnMut(&Part, &[u8], &[u8]) -> Result<()>) -> Result<()> {
        let mut at = self.start;
        for part in &self.record.parts {
            let mut bytes = vec![0; index(part.stored())];
            self.file.read_at(&mut bytes, at)?;
            at = at.saturating_add(part.stored());
            let (old, new) = bytes.split_at(index(part.old));
            if digest_of(old, new) != part.digest {
                return Err(damaged(&self.place, "the bytes that it keeps are not what was written"));
            }
            act(part, old, new)?;
        }
        Ok(())
    }

    /// What stands in the image's ranges now.
    ///
    /// # Errors
    /// `Damaged`, `Io`.
    pub(crate) fn stand(&self, image: &dyn ReadAt) -> Result<Stand> {
        let len = image.len()?;
        let (mut is_old, mut is_new, mut is_known) = (len == self.record.old_len, len == self.record.new_len, true);
        is_known &= (self.record.old_len..=self.record.new_len).contains(&len);
        self.for_each_part(|part, old, new| {
            let mut found = vec![0; index(part.new)];
            let there = index(len.saturating_sub(part.offset).min(part.new));
            image.read_at(&mut found[..there], part.offset)?;
            let (mut old, mut new) = (old.to_vec(), new.to_vec());
            old.resize(found.len(), 0);
            new.resize(found.len(), 0);
            (is_old, is_new) = (is_old && found == old, is_new && found == new);
            let mut sectors = found.chunks(SECTOR).zip(old.chunks(SECTOR).zip(new.chunks(SECTOR)));
            is_known &= sectors.all(|(found, (old, new))| found == old || found == new);
            Ok(())
        })?;
        Ok(match (is_old, is_new, is_known) {
            (_, true, _) => Stand::New,
            (true, ..) => Stand::Old,
            (.., true) => Stand::Between,
            _ => Stand::Other,
        })
    }

    /// Puts the new bytes into the image, durably: what stands behind the old end before what names it.
    ///
    /// # Errors
    /// `Damaged`, before anything is written; `Io`.
    pub(crate) fn redo(&self, image: &dyn Storage) -> Result<()> {
        self.for_each_part(|_, _, _| Ok(()))?;
        if image.len()? < self.record.new_len {
            image.set_len(self.record.new_len)?;
        }
        for is_behind in [true, false] {
            self.for_each_part(|part, _, new| match (part.offset >= self.record.old_len) == is_behind {
                true if part.zeros => image.write_zeros(part.offset, part.new),
                true => image.write_at(new, part.offset),
                false => Ok(()),
            })?;
            image.sync()?;
        }
        Ok(())
    }

    /// Puts the old bytes back, durably: what names bytes behind the old end before those are cut off.
    ///
    /// # Errors
    /// As [`Undo::redo`].
    pub(crate) fn undo(&self, image: &dyn Storage) -> Result<()> {
        self.for_each_part(|_, _, _| Ok(()))?;
        self.for_each_part(|part, old, _| if old.is_empty() { Ok(()) } else { image.write_at(old, part.offset) })?;
        image.sync()?;
        if image.len()? != self.record.old_len {
            image.set_len(self.record.old_len)?;
            image.sync()?;
        }
        Ok(())
    }

    /// Takes the file away, durably.
    ///
    /// # Errors
    /// `Io`.
    pub(crate) fn remove(self) -> Result<()> {
        let Self { place, file, .. } = self;
        remove(&place)?;
        drop(file);
        sync_folder(&place)
    }
}

fn number_of(place: &Path) -> Option<u32> {
    let name = place.file_name()?.to_string_lossy().into_owned();
    let (_, rest) = name.rsplit_once(ENDING)?;
    if rest.is_empty() { Some(1) } else { rest.strip_prefix('-')?.parse().ok() }
}
