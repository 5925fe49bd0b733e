//! Going over the files of a volume: bounded in depth, past what is damaged, never in a circle.

use std::rc::Rc;

use jiff::Timestamp;

use super::path::{InnerPath, is_name};
use super::seen::Seen;
use super::system::{EntryKind, Facts, Item, Place};
use super::tree::{Context, FileTree};
use crate::error::{Error, InsideProblemKind};
use crate::guest::trouble::Trouble;

/// Hosts have trouble with paths of more names.
const MOST_DEPTH: usize = 1000;
/// Of what is left out so many are named, the rest counted.
const MOST_NAMED: usize = 50;
/// Entries of a folder are sorted as long as they are no more than this; of a larger one so many at a time.
const MOST_SORTED: usize = 100_000;

/// Something in a folder of a volume.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Entry {
    /// From the root of the volume.
    pub path: InnerPath,
    /// What it is.
    pub kind: EntryKind,
    /// The length of a file in bytes.
    pub size: Option<u64>,
    /// What a file takes on the volume, in bytes, where that is known; less than its length where it has holes.
    pub allocated: Option<u64>,
    /// When it was last changed, as the guest's clock stood. FAT knows no time zones: its times are taken for UTC.
    pub modified: Option<Timestamp>,
    /// Who may read, write and execute it: the lower nine bits of a mode, where there is one.
    pub permissions: Option<u16>,
}

impl Entry {
    pub(super) fn of(path: InnerPath, facts: Facts) -> Self {
        let Facts { kind, size, allocated, modified, permissions } = facts;
        Self { path, kind, size, allocated, modified, permissions }
    }
}

/// Takes a part of a file's content, and where it begins.
pub type TakePart<'a> = dyn FnMut(u64, &[u8]) -> Result<(), Error> + 'a;

/// Something that a walk has come to, whose content can be read now.
pub struct Found<'a> {
    entry: &'a Entry,
    item: &'a mut dyn Item,
    context: &'a Context,
}

impl Found<'_> {
    /// What is known of it.
    pub fn entry(&self) -> &Entry {
        self.entry
    }

    /// What a link leads to.
    ///
    /// # Errors
    /// `Inside` when it is none, is damaged, or only its guest can tell.
    pub fn target(&mut self) -> Result<Vec<u8>, Error> {
        self.item.target().map_err(|trouble| self.context.error(Some(&self.entry.path), trouble))
    }

    /// The content of a file, part by part, each with the place where it begins, upwards. What is left out between
    /// them, and before the file's size, reads as zero.
    ///
    /// # Errors
    /// What `take` returns; `Inside` when it is no file, is damaged, or kept in a form that only its guest can read,
    /// and then what was given out before is the right beginning; as [`Disk::read_at`](crate::chain::Disk::read_at).
    pub fn read(&mut self, take: &mut TakePart<'_>) -> Result<(), Error> {
        if self.entry.kind != EntryKind::File {
            return Err(self.context.problem(Some(&self.entry.path), InsideProblemKind::NotAFile));
        }
        let read = self.item.content(&mut |at, bytes| Ok(take(at, bytes)?));
        read.map_err(|trouble| self.context.error(Some(&self.entry.path), trouble))
    }
}

/// Something that could not be read.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LeftOut {
    /// What.
    pub path: InnerPath,
    /// Why.
    pub why: String,
}

impl LeftOut {
    pub(crate) fn of(path: &InnerPath, error: &Error) -> Self {
        let why = match error {
            // The place is told beside it.
            Error::Inside(problem) => problem.kind.to_string(),
            other => other.with_causes(),
        };
        Self { path: path.clone(), why }
    }
}

/// What a walk has met.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Walked {
    /// How many files, folders and others.
    pub entries: u64,
    /// What was left out, wholly or in part; at most fifty.
    pub left_out: Vec<LeftOut>,
    /// How many that are, named or not.
    pub left_out_count: u64,
}

impl Walked {
    /// Adds what another walk has met.
    pub(super) fn join(&mut self, other: Self) {
        self.entries += other.entries;
        self.left_out_count += other.left_out_count;
        let room = MOST_NAMED.saturating_sub(self.left_out.len());
        self.left_out.extend(other.left_out.into_iter().take(room));
    }

    pub(super) fn leave_out(&mut self, path: &InnerPath, why: impl Into<String>) {
        self.left_out_count += 1;
        if self.left_out.len() < MOST_NAMED {
            self.left_out.push(LeftOut { path: path.clone(), why: why.into() });
        }
    }
}

/// A folder that is still to be gone over.
struct Pending {
    above: Rc<InnerPath>,
    name: Vec<u8>,
    number: u64,
    depth: usize,
}

/// What is done with an entry; the item is there when its content may be read. `false` ends the walk.
pub(super) type Visitor<'a> = dyn FnMut(&Entry, Option<(&mut dyn Item, &Context)>) -> Result<bool, Error> + 'a;

impl FileTree {
    /// What stands at a path.
    ///
    /// # Errors
    /// `Inside` when nothing does, or it is damaged; as [`Disk::read_at`](crate::chain::Disk::read_at).
    pub fn entry(&mut self, path: &InnerPath) -> Result<Entry, Error> {
        if path.name().is_none() {
            let kind = EntryKind::Folder;
            let facts = Facts { kind, size: None, allocated: None, modified: None, permissions: None };
            return Ok(Entry::of(path.clone(), facts));
        }
        let facts = self.with_item(path, &mut |item| item.facts())?;
        Ok(Entry::of(path.clone(), facts))
    }

    /// Goes over what is in a folder, and, `recursive`, below it, in the order of their names (of a folder of more than
    /// 100,000, of so many at a time); a path that is no folder is visited itself. What cannot be read is left out and
    /// told. `visit` returns whether to go on. Memory does not depend on how many files there are.
    ///
    /// # Errors
    /// What `visit` returns; `Inside` when nothing stands at the path.
    pub fn list(
        &mut self,
        from: &InnerPath,
        recursive: bool,
        visit: &mut dyn FnMut(&Entry) -> Result<bool, Error>,
    ) -> Result<Walked, Error> {
        self.go(from, recursive, true, &mut |entry, _| visit(entry))
    }

    /// The same in the order in which the volume has them, with their content at hand.
    ///
    /// # Errors
    /// As [`FileTree::list`].
    pub fn walk(
        &mut self,
        from: &InnerPath,
        recursive: bool,
        visit: &mut dyn FnMut(&mut Found<'_>) -> Result<bool, Error>,
    ) -> Result<Walked, Error> {
        self.go(from, recursive, false, &mut |entry, item| match item {
            Some((item, context)) => visit(&mut Found { entry, item, context }),
            None => Ok(true),
        })
    }

    pub(super) fn go(
        &mut self,
        from: &InnerPath,
        recursive: bool,
        sorted: bool,
        visit: &mut Visitor<'_>,
    ) -> Result<Walked, Error> {
        let context = self.context().clone();
        let mut walk = Walk { context, recursive, sorted, walked: Walked::default(), stop: None, visit };
        let root = self.system().root();
        let number = match from.name() {
            None => Some(root),
            Some(_) => self.with_item(from, &mut |item| walk.begin(from, item))?,
        };
        let mut seen = Seen::default();
        let (mut first, mut folders) = (number.map(|number| (Rc::new(from.clone()), number, 0)), Vec::new());
        let next = |folders: &mut Vec<Pending>| {
            folders.pop().map(|next| (Rc::new(next.above.join(&next.name)), next.number, next.depth))
        };
        while let Some((path, number, depth)) = first.take().or_else(|| next(&mut folders)) {
            if walk.stop.is_some() {
                break;
            }
            let before = folders.len();
            let place = Place { number, path: (*path).clone() };
            let mut gathered = Vec::new();
            let mut below = Vec::new();
            let each = self.system().each(&place, &mut |number| seen.insert(number), &mut |item| {
                let going_on = walk.meet(&place.path, item, &mut gathered, &mut below)?;
                if gathered.len() == MOST_SORTED {
                    return Ok(walk.flush(&mut gathered));
                }
                Ok(going_on)
            });
            walk.flush(&mut gathered);
            if let Err(trouble) = each {
                walk.left_out(&path, trouble);
            }
            if sorted {
                below.sort_unstable();
            }
            for (name, number) in below {
                match depth < MOST_DEPTH {
                    true => folders.push(Pending { above: path.clone(), name, number, depth: depth + 1 }),
                    false => walk.walked.leave_out(&path.join(&name), "it lies more than 1,000 folders deep"),
                }
            }
            folders[before..].reverse();
        }
        match walk.stop.flatten() {
            Some(error) => Err(error),
            None => Ok(walk.walked),
        }
    }
}

struct Walk<'a, 'b> {
    context: Context,
    recursive: bool,
    sorted: bool,
    walked: Walked,
    /// The end that whoever visits has asked for, with the error if it was one.
    stop: Option<Option<Error>>,
    visit: &'a mut Visitor<'b>,
}

impl Walk<'_, '_> {
    /// The item at the path that was asked for: a folder's number, or it is visited at once.
    fn begin(&mut self, path: &InnerPath, item: &mut dyn Item) -> Result<Option<u64>, Trouble> {
        let facts = item.facts()?;
        if facts.kind == EntryKind::Folder {
            return Ok(Some(item.number()));
        }
        self.emit(&Entry::of(path.clone(), facts), Some(item));
        Ok(None)
    }

    /// One item of a folder.
    fn meet(
        &mut self,
        folder: &InnerPath,
        item: &mut dyn Item,
        gathered: &mut Vec<Entry>,
        below: &mut Vec<(Vec<u8>, u64)>,
    ) -> Result<bool, Trouble> {
        let path = folder.join(item.name());
        if !is_name(item.name()) {
            self.walked.leave_out(&path, "no file can have such a name");
            return Ok(true);
        }
        let facts = match item.facts() {
            Ok(facts) => facts,
            Err(trouble) => {
                self.left_out(&path, trouble);
                return Ok(self.stop.is_none());
            }
        };
        if facts.kind == EntryKind::Folder && self.recursive {
            below.push((item.name().to_vec(), item.number()));
        }
        let entry = Entry::of(path, facts);
        match self.sorted {
            true => gathered.push(entry),
            false => self.emit(&entry, Some(item)),
        }
        Ok(self.stop.is_none())
    }

    fn flush(&mut self, gathered: &mut Vec<Entry>) -> bool {
        gathered.sort_unstable_by(|one, other| one.path.cmp(&other.path));
        for entry in gathered.drain(..) {
            if self.stop.is_none() {
                self.emit(&entry, None);
            }
        }
        self.stop.is_none()
    }

    fn emit(&mut self, entry: &Entry, item: Option<&mut dyn Item>) {
        self.walked.entries += 1;
        let context = &self.context;
        match (self.visit)(entry, item.map(|item| (item, context))) {
            Ok(true) => {}
            Ok(false) => self.stop = Some(None),
            Err(error) => self.stop = Some(Some(error)),
        }
    }

    fn left_out(&mut self, path: &InnerPath, trouble: Trouble) {
        self.walked.leave_out(path, trouble.to_string());
    }
}
