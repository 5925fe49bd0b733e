//! Two volumes side by side, file by file.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::rc::Rc;

use super::path::{InnerPath, is_name};
use super::seen::Seen;
use super::system::{EntryKind, Facts, Item, Place};
use super::tree::FileTree;
use super::walk::{Entry, Walked};
use crate::bytes::wide;
use crate::error::Error;
use crate::guest::trouble::Trouble;
use crate::progress::Progress;
use crate::ranges::Ranges;

/// Names of a folder that are compared at once; of a larger one so many at a time.
const MOST_AT_ONCE: u64 = 50_000;
const MOST_DEPTH: usize = 1000;

/// What has become of a file from one volume to another.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FileChange {
    /// Only the other has it.
    Added(Entry),
    /// Only the first has it.
    Removed(Entry),
    /// Both have it, and it is not the same.
    Changed {
        /// What it was.
        was: Entry,
        /// What it is.
        now: Entry,
        /// What of it differs.
        by: Vec<ChangedBy>,
    },
}

/// What of a file differs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum ChangedBy {
    /// What it is: a file where a folder was.
    Kind,
    /// How long it is.
    Size,
    /// When it was last changed.
    Time,
    /// Who may read, write and execute it.
    Permissions,
    /// What it holds.
    Content,
}

/// Takes what has become of a file; `false` when nothing more is wanted.
pub type TakeChange<'a> = dyn FnMut(FileChange) -> Result<bool, Error> + 'a;

/// What comparing has met.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct ComparedFiles {
    /// The volume, counted from 1.
    pub volume: u32,
    /// What could not be compared, or only in part, in the first volume.
    pub one: Walked,
    /// The same in the other.
    pub other: Walked,
}

/// What is known of a name before it is looked at closely.
struct Known {
    number: u64,
    record: Option<Range<u64>>,
    is_folder: Option<bool>,
    facts: Option<Facts>,
    /// What it takes of the volume, boiled down; none where nothing of that may have changed.
    layout: Option<blake3::Hash>,
    digest: Option<blake3::Hash>,
}

/// Which names of a folder are meant: those of one part out of so many.
#[derive(Clone, Copy)]
struct Share {
    part: u64,
    parts: u64,
}

impl Share {
    fn has(self, name: &[u8]) -> bool {
        self.parts == 1 || {
            let hash = blake3::hash(name);
            crate::bytes::le_u64(hash.as_bytes(), 0) % self.parts == self.part
        }
    }
}

type Names = BTreeMap<Vec<u8>, Known>;

/// Looks at something of this name.
type Look<'a> = dyn FnMut(&[u8], &mut dyn Item) -> Result<(), Trouble> + 'a;

/// One of the two volumes.
struct Side<'a> {
    tree: &'a mut FileTree,
    walked: Walked,
    /// Folders that were met.
    met: Seen,
}

impl Side<'_> {
    /// Looks at those in a folder that `wanted` names.
    fn pass(&mut self, folder: &Place, share: Share, look: &mut Look<'_>) -> Result<(), Trouble> {
        let walked = &mut self.walked;
        self.tree.system().each(folder, &mut |_| true, &mut |item| {
            let name = item.name().to_vec();
            if is_name(&name) && share.has(&name) {
                match look(&name, item) {
                    Err(Trouble::Failed(Error::Cancelled)) => return Err(Trouble::Failed(Error::Cancelled)),
                    Err(trouble) => walked.leave_out(&folder.path.join(&name), trouble.to_string()),
                    Ok(()) => {}
                }
            }
            Ok(true)
        })
    }

    /// The same again: damage of the folder itself was told when its names were taken.
    fn pass_again(&mut self, folder: &Place, share: Share, look: &mut Look<'_>) -> Result<(), Error> {
        match self.pass(folder, share, look) {
            Err(Trouble::Failed(Error::Cancelled)) => Err(Error::Cancelled),
            _ => Ok(()),
        }
    }

    /// The names of a folder, and how many there are; where all are asked for, no more than are compared at once.
    fn names(&mut self, folder: &Place, share: Share) -> Result<(Names, u64), Error> {
        let (mut names, mut count) = (Names::new(), 0);
        let passed = self.pass(folder, share, &mut |name, item| {
            count += 1;
            if share.parts == 1 && count > MOST_AT_ONCE {
                return Ok(());
            }
            let (number, record, is_folder) = (item.number(), item.record(), item.is_folder());
            names.insert(name.to_vec(), Known { number, record, is_folder, facts: None, layout: None, digest: None });
            Ok(())
        });
        match passed {
            Err(Trouble::Failed(Error::Cancelled)) => return Err(Error::Cancelled),
            Err(trouble) if share.part == 0 && names.len() as u64 == count => {
                self.walked.leave_out(&folder.path, trouble.to_string());
            }
            _ => {}
        }
        Ok((names, count))
    }
}

/// A comparison of two volumes.
pub(crate) struct FileComparison<'a> {
    one: Side<'a>,
    other: Side<'a>,
    /// What may differ between the volumes, in bytes of both; none where anything may.
    differ: Option<Rc<Ranges>>,
    contents: bool,
    progress: &'a Progress,
}

struct Pending {
    path: InnerPath,
    numbers: (u64, u64),
    depth: usize,
}

impl<'a> FileComparison<'a> {
    /// Of two volumes that may differ in these parts, where that is known.
    pub(crate) fn new(
        one: &'a mut FileTree,
        other: &'a mut FileTree,
        differ: Option<Ranges>,
        contents: bool,
        progress: &'a Progress,
    ) -> Self {
        // What waits in a journal is not where it seems to be.
        let differ = differ.map(|mut differ| {
            [&mut *one, &mut *other]
                .into_iter()
                .flat_map(|tree| tree.system().waiting())
                .for_each(|range| differ.add(range));
            Rc::new(differ)
        });
        let side = |tree| Side { tree, walked: Walked::default(), met: Seen::default() };
        Self { one: side(one), other: side(other), differ, contents, progress }
    }

    /// Goes over both, folder by folder.
    pub(crate) fn run(mut self, take: &mut TakeChange<'_>) -> Result<ComparedFiles, Error> {
        let root = (self.one.tree.system().root(), self.other.tree.system().root());
        let mut folders = vec![Pending { path: InnerPath::root(), numbers: root, depth: 0 }];
        let mut is_over = self.differ.as_ref().is_some_and(|differ| differ.is_empty());
        while let Some(folder) = folders.pop().filter(|_| !is_over) {
            self.progress.check()?;
            let is_new = [self.one.met.insert(folder.numbers.0), self.other.met.insert(folder.numbers.1)];
            if is_new != [true; 2] || folder.depth > MOST_DEPTH {
                let why = "it is a folder that was met already at another place, or lies more than 1,000 deep";
                self.other.walked.leave_out(&folder.path, why);
                continue;
            }
            let before = folders.len();
            is_over = !self.folder(&folder, &mut folders, take)?;
            folders[before..].reverse();
        }
        Ok(ComparedFiles { volume: self.one.tree.volume().number, one: self.one.walked, other: self.other.walked })
    }

    fn folder(
        &mut self,
        folder: &Pending,
        folders: &mut Vec<Pending>,
        take: &mut TakeChange<'_>,
    ) -> Result<bool, Error> {
        let place = |number| Place { number, path: folder.path.clone() };
        let (one, other) = (place(folder.numbers.0), place(folder.numbers.1));
        let mut share = Share { part: 0, parts: 1 };
        while share.part < share.parts {
            self.progress.check()?;
            let (was, now) = (self.one.names(&one, share)?, self.other.names(&other, share)?);
            let count = was.1.max(now.1);
            if share.parts == 1 && count > MOST_AT_ONCE {
                share.parts = count / MOST_AT_ONCE + 1;
                continue;
            }
            let (was, now) = (was.0, now.0);
            share.part += 1;
            let share = Share { part: share.part - 1, ..share };
            let (was, now) = self.look_closer((&one, was), (&other, now), share)?;
            if !self.tell(folder, was, now, folders, take)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Whether the record of a file is the same in both, for certain.
    fn is_same_record(&self, was: &Known, now: &Known) -> bool {
        let Some(differ) = &self.differ else { return false };
        let record = was.record.as_ref().filter(|_| was.number == now.number && was.record == now.record);
        record.is_some_and(|record| differ.within(record.clone()).next().is_none())
    }

    /// Takes up what is needed to tell whether files are the same.
    fn look_closer(
        &mut self,
        (one, mut was): (&Place, Names),
        (other, mut now): (&Place, Names),
        share: Share,
    ) -> Result<(Names, Names), Error> {
        let is_same =
            |name: &[u8]| was.get(name).zip(now.get(name)).is_some_and(|(was, now)| self.is_same_record(was, now));
        let same: BTreeSet<Vec<u8>> = was.keys().filter(|name| is_same(name)).cloned().collect();
        let (contents, differ) = (self.contents, self.differ.clone());
        let mut untouched = BTreeSet::new();
        for (side, place, names) in [(&mut self.one, one, &mut was), (&mut self.other, other, &mut now)] {
            // Where the record of a file is the same, the first tells all of it.
            let is_other = std::ptr::eq(place, other);
            let is_known = |name: &[u8], known: &Known| {
                same.contains(name)
                    && match contents {
                        false => known.is_folder.is_some(),
                        true => known.is_folder == Some(true) || is_other && untouched.contains(name),
                    }
            };
            if names.iter().all(|(name, known)| is_known(name, known)) {
                continue;
            }
            let mut found = Vec::new();
            side.pass_again(place, share, &mut |name, item| {
                let Some(known) = names.get_mut(name).filter(|known| !is_known(name, known)) else { return Ok(()) };
                let facts = item.facts()?;
                if contents && facts.kind == EntryKind::File {
                    known.layout = layout(item, differ.as_deref())?;
                    found.extend(known.layout.is_some().then(|| name.to_vec()));
                }
                known.is_folder = Some(facts.kind == EntryKind::Folder);
                known.facts = Some(facts);
                Ok(())
            })?;
            untouched.extend(found);
        }
        if !contents {
            return Ok((was, now));
        }
        let is_unread = |was: &Known, now: &Known| {
            let files = [was, now].map(|known| known.facts.as_ref().filter(|facts| facts.kind == EntryKind::File));
            matches!(files, [Some(was), Some(now)] if was.size == now.size)
                && (was.layout != now.layout || was.layout.is_none() || self.differ.is_none())
        };
        let wanted: BTreeSet<Vec<u8>> = was
            .iter()
            .filter(|(name, was)| now.get(*name).is_some_and(|now| is_unread(was, now)))
            .map(|(name, _)| name.clone())
            .collect();
        let progress = self.progress;
        for (side, place, names) in [(&mut self.one, one, &mut was), (&mut self.other, other, &mut now)] {
            if wanted.is_empty() {
                break;
            }
            side.pass_again(place, share, &mut |name, item| {
                if let Some(known) = names.get_mut(name).filter(|_| wanted.contains(name)) {
                    known.digest = Some(digest(item, progress)?);
                }
                Ok(())
            })?;
        }
        Ok((was, now))
    }

    /// Tells what has become of each, in the order of the names, and which folders are to be looked at in both.
    fn tell(
        &mut self,
        folder: &Pending,
        was: Names,
        mut now: Names,
        folders: &mut Vec<Pending>,
        take: &mut TakeChange<'_>,
    ) -> Result<bool, Error> {
        let mut names: Vec<Vec<u8>> = was.keys().chain(now.keys()).cloned().collect();
        names.sort_unstable();
        names.dedup();
        let mut was = was;
        for name in names {
            let path = folder.path.join(&name);
            let going_on = match (was.remove(&name), now.remove(&name)) {
                (Some(was), Some(now)) => match (was.is_folder == Some(true), now.is_folder == Some(true)) {
                    (true, true) => {
                        let numbers = (was.number, now.number);
                        folders.push(Pending { path: path.clone(), numbers, depth: folder.depth + 1 });
                        self.tell_both(path, was, now, take)?
                    }
                    (false, false) => self.tell_both(path, was, now, take)?,
                    (is_one, _) => {
                        self.tell_both(path.clone(), was, now, take)? && self.tell_below(is_one, &path, take)?
                    }
                },
                (Some(was), None) => self.tell_one(true, path, was, take)?,
                (None, Some(now)) => self.tell_one(false, path, now, take)?,
                (None, None) => true,
            };
            if !going_on {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn tell_both(&self, path: InnerPath, was: Known, now: Known, take: &mut TakeChange<'_>) -> Result<bool, Error> {
        let (Some(one), Some(other)) = (&was.facts, &now.facts) else { return Ok(true) };
        let is_folder = one.kind == EntryKind::Folder && other.kind == EntryKind::Folder;
        let mut by = Vec::new();
        let mut differs = |what, differs: bool| by.extend(differs.then_some(what));
        differs(ChangedBy::Kind, one.kind != other.kind);
        differs(ChangedBy::Size, one.size != other.size);
        // Of a folder it only tells that something in it came or went; and content that was read says more.
        let is_read = was.digest.is_some() && now.digest.is_some();
        let has_same_layout = was.layout.is_some() && was.layout == now.layout && one.size == other.size;
        let is_known = is_read || self.contents && has_same_layout;
        differs(ChangedBy::Time, one.modified != other.modified && !is_folder && !is_known);
        differs(ChangedBy::Permissions, one.permissions != other.permissions);
        differs(ChangedBy::Content, is_read && was.digest != now.digest);
        if by.is_empty() {
            return Ok(true);
        }
        let [was, now] = [one, other].map(|facts| Entry::of(path.clone(), facts.clone()));
        take(FileChange::Changed { was, now, by })
    }

    fn tell_one(
        &mut self,
        is_one: bool,
        path: InnerPath,
        known: Known,
        take: &mut TakeChange<'_>,
    ) -> Result<bool, Error> {
        let Some(facts) = known.facts else { return Ok(true) };
        let is_folder = facts.kind == EntryKind::Folder;
        let entry = Entry::of(path.clone(), facts);
        let change = if is_one { FileChange::Removed(entry) } else { FileChange::Added(entry) };
        Ok(take(change)? && (!is_folder || self.tell_below(is_one, &path, take)?))
    }

    /// All below a folder that only one of them has.
    fn tell_below(&mut self, is_one: bool, path: &InnerPath, take: &mut TakeChange<'_>) -> Result<bool, Error> {
        let (side, progress) = (if is_one { &mut self.one } else { &mut self.other }, self.progress);
        let mut going_on = true;
        let walked = side.tree.list(path, true, &mut |entry| {
            progress.check()?;
            let entry = entry.clone();
            going_on = take(if is_one { FileChange::Removed(entry) } else { FileChange::Added(entry) })?;
            Ok(going_on)
        })?;
        side.walked.join(walked);
        Ok(going_on)
    }
}

/// Where a file lies, and what of it lies in no place of its own, boiled down; none where some of that may have
/// changed.
fn layout(item: &mut dyn Item, differ: Option<&Ranges>) -> Result<Option<blake3::Hash>, Trouble> {
    let Some(differ) = differ else { return Ok(None) };
    let (mut hash, mut is_touched) = (blake3::Hasher::new(), false);
    item.places(&mut |place| {
        hash.update(&place.start.to_le_bytes()).update(&place.end.to_le_bytes());
        is_touched |= differ.within(place).next().is_some();
        Ok(())
    })?;
    hash.update(&item.mapping()?);
    Ok((!is_touched).then(|| hash.finalize()))
}

/// The digest of a file's content. Where parts begin counts, and not in how many they come.
fn digest(item: &mut dyn Item, progress: &Progress) -> Result<blake3::Hash, Trouble> {
    let (mut hash, mut end) = (blake3::Hasher::new(), 0);
    let zeros = |hash: &mut blake3::Hasher, mut len: u64| {
        const ZEROS: [u8; 16 << 10] = [0; 16 << 10];
        while len > 0 {
            let step = len.min(wide(ZEROS.len()));
            hash.update(&ZEROS[..step as usize]);
            len -= step;
        }
    };
    let size = item.facts()?.size.unwrap_or(0);
    item.content(&mut |at, bytes| {
        progress.check()?;
        zeros(&mut hash, at.saturating_sub(end));
        hash.update(bytes);
        end = at + wide(bytes.len());
        progress.advance(wide(bytes.len()));
        Ok(())
    })?;
    zeros(&mut hash, size.saturating_sub(end));
    Ok(hash.finalize())
}
