//! What lies in ranges of a disk, as it is told.

use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;

use crate::guest::files::{EntryKind, InnerPath};
use crate::ranges::DiskRange;

/// Hits beyond so many are counted and added up, and not named.
const MOST_HITS: usize = 100_000;
/// The same of what could not be told.
const MOST_DOUBTS: usize = 50;

/// What something that lies on a disk is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum HitKind {
    /// A partition table, or one of its copies.
    PartitionTable,
    /// A structure of a file system.
    Structure,
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A device, a pipe, a socket, or what only its guest can read.
    Other,
    /// A file that no folder names.
    Nameless,
    /// What the volume marks as in use, and nothing that can be told holds; or what cannot be told.
    Unknown,
    /// A volume whose files are not read here.
    Volume,
    /// In no volume, and no partition table.
    Outside,
    /// A part of a volume behind its file system.
    Behind,
    /// What the volume marks as free, and nothing holds.
    Free,
}

impl HitKind {
    pub(super) fn of_entry(kind: EntryKind) -> Self {
        match kind {
            EntryKind::File => Self::File,
            EntryKind::Folder => Self::Folder,
            EntryKind::Link => Self::Link,
            EntryKind::Other => Self::Other,
        }
    }

    /// The words for one, and for several.
    fn words(self) -> (&'static str, &'static str) {
        match self {
            Self::PartitionTable => ("the partition table", "partition tables"),
            Self::Structure => ("one structure of a file system", "structures of file systems"),
            Self::File => ("one file", "files"),
            Self::Folder => ("one folder", "folders"),
            Self::Link => ("one link", "links"),
            Self::Other => ("one that only its guest can read", "that only their guest can read"),
            Self::Nameless => ("one file without a name", "files without a name"),
            Self::Unknown => ("what cannot be told", "what cannot be told"),
            Self::Volume => ("one volume whose files are not read here", "volumes whose files are not read here"),
            Self::Outside => ("the room between volumes", "the room between volumes"),
            Self::Behind => ("the room behind a file system", "the room behind file systems"),
            Self::Free => ("free space", "free space"),
        }
    }

    fn is_counted(self) -> bool {
        !matches!(self, Self::PartitionTable | Self::Unknown | Self::Outside | Self::Behind | Self::Free)
    }
}

/// One thing in one of the ranges. Places and sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Hit {
    /// The range that was asked about.
    pub range: DiskRange,
    /// The volume, counted from 1; none of what lies in no volume.
    pub volume: Option<u32>,
    /// What it is.
    pub what: HitKind,
    /// What a structure, or a file without a name, is called.
    pub name: Option<String>,
    /// Where a file is named; the first of its names, if it has several.
    pub path: Option<InnerPath>,
    /// How much of the range it takes.
    pub bytes: u64,
    /// Structures contradict each other about it: a bitmap says that it is free, or another one holds it, too.
    pub doubtful: bool,
}

impl fmt::Display for Hit {
    /// What it is and where, without how much.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (&self.path, &self.name, self.what) {
            (Some(path), _, HitKind::Folder) if path.name().is_some() => write!(f, "{path}/")?,
            (Some(path), ..) => write!(f, "{path}")?,
            (None, Some(name), _) => f.write_str(name)?,
            (None, None, HitKind::Volume) => f.write_str("nothing that is known")?,
            (None, None, what) => f.write_str(what.words().0)?,
        }
        if self.doubtful { f.write_str(" (doubtful)") } else { Ok(()) }
    }
}

/// How much of one kind lies in all of the ranges.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct HitSum {
    /// What it is.
    pub what: HitKind,
    /// How many there are, each counted once however many ranges it lies in.
    pub count: u64,
    /// What they take of the ranges, in bytes.
    pub bytes: u64,
}

/// What lies in ranges of a disk.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Impact {
    /// What lies in them, in the order of the ranges; of more than 100,000 the first that were met.
    pub hits: Vec<Hit>,
    /// How many that are, named or not.
    pub hit_count: u64,
    /// The sums of each kind; what matters most comes first.
    pub sums: Vec<HitSum>,
    /// What could not be told, and why; at most fifty.
    pub doubts: Vec<String>,
    /// How many that are, named or not.
    pub doubt_count: u64,
}

impl Impact {
    /// Whether it is certain that nothing but free space lies in the ranges, and what nobody uses.
    pub fn is_nothing_but_free(&self) -> bool {
        let is_nothing = |sum: &HitSum| matches!(sum.what, HitKind::Free | HitKind::Behind);
        self.doubt_count == 0 && self.sums.iter().all(is_nothing)
    }

    /// One thing more, with what it takes of each range.
    pub(super) fn add(&mut self, thing: &Hit, parts: impl IntoIterator<Item = (DiskRange, u64, bool)>) {
        let mut sum = 0;
        for (range, bytes, doubtful) in parts.into_iter().filter(|(_, bytes, _)| *bytes > 0) {
            sum += bytes;
            self.hit_count += 1;
            if self.hits.len() < MOST_HITS {
                self.hits.push(Hit { range, bytes, doubtful: doubtful || thing.doubtful, ..thing.clone() });
            }
        }
        if sum == 0 {
            return;
        }
        let found = self.sums.iter_mut().find(|known| known.what == thing.what);
        match found {
            Some(known) => (known.count, known.bytes) = (known.count + 1, known.bytes + sum),
            None => self.sums.push(HitSum { what: thing.what, count: 1, bytes: sum }),
        }
    }

    pub(super) fn doubt(&mut self, what: impl Into<String>) {
        self.doubt_count += 1;
        if self.doubts.len() < MOST_DOUBTS {
            self.doubts.push(what.into());
        }
    }

    pub(super) fn sort(&mut self) {
        self.sums.sort_by_key(|sum| sum.what);
        self.hits.sort_by(|one, other| {
            let key = |hit: &Hit| (hit.range.offset, hit.volume, hit.what);
            key(one).cmp(&key(other)).then_with(|| (&one.path, &one.name).cmp(&(&other.path, &other.name)))
        });
    }
}

/// The sums, in the words that every part of the program uses for them.
impl fmt::Display for Impact {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use crate::size::format_size;
        if self.sums.is_empty() {
            return f.write_str("nothing");
        }
        if self.is_nothing_but_free() {
            return f.write_str("nothing but free space");
        }
        for (number, sum) in self.sums.iter().enumerate() {
            let separator = if number == 0 { "" } else { ", " };
            let (one, many) = sum.what.words();
            match sum.count {
                count if count > 1 && sum.what.is_counted() => write!(f, "{separator}{count} {many}")?,
                _ => write!(f, "{separator}{one}")?,
            }
            write!(f, " ({})", format_size(sum.bytes))?;
        }
        Ok(())
    }
}
