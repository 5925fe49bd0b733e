//! What a reader of one file system must be able to do.

use std::ops::Range;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::path::InnerPath;
use crate::error::Error;
use crate::guest::trouble::Trouble;

/// What something in a folder is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum EntryKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A device, a pipe, a socket, or what only its guest can read.
    Other,
}

/// What is known of something in a folder.
#[derive(Clone, Debug)]
pub(super) struct Facts {
    pub(super) kind: EntryKind,
    /// Bytes of its content; of a link none.
    pub(super) size: Option<u64>,
    /// What it takes on the volume, where that is known.
    pub(super) allocated: Option<u64>,
    pub(super) modified: Option<Timestamp>,
    /// The lower nine bits of its mode, where the file system has one.
    pub(super) permissions: Option<u16>,
}

/// Where a folder is: readers know theirs by number, or by the path that leads there.
#[derive(Clone, Debug)]
pub(super) struct Place {
    pub(super) number: u64,
    pub(super) path: InnerPath,
}

/// Takes a part of a file's content, and where it begins.
pub(super) type Take<'a> = dyn FnMut(u64, &[u8]) -> Result<(), Trouble> + 'a;

/// Takes a place of the volume, in bytes.
pub(super) type TakePlace<'a> = dyn FnMut(Range<u64>) -> Result<(), Trouble> + 'a;

/// What of a volume is held by no file that a folder names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::guest) enum Own {
    /// A structure of the file system.
    Structure(&'static str),
    Root,
    /// A file that no folder names; what is known of it.
    Nameless(String),
}

/// What is left of a file that was deleted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::guest) struct Remains {
    /// How its reader finds it again.
    pub(super) key: u64,
    pub(super) path: InnerPath,
    pub(super) size: u64,
    pub(super) modified: Option<Timestamp>,
    pub(super) certainty: Certainty,
    pub(super) why: &'static str,
}

/// Takes what is left of a deleted file, or is asked now and then whether to go on: `false` ends it.
pub(in crate::guest) type TakeRemains<'a> = dyn FnMut(Option<Remains>) -> bool + 'a;

/// Hands over what was found, or asks; `Failed` when nothing more is wanted.
pub(super) fn hand_over(take: &mut TakeRemains<'_>, remains: Option<Remains>) -> Result<(), Trouble> {
    if take(remains) { Ok(()) } else { Err(Trouble::Failed(Error::Cancelled)) }
}

/// How certain it is that what lies where a deleted file lay is still its content.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Certainty {
    /// It is, as far as structures tell: nothing else has had its place since.
    Sure,
    /// Nothing has its place now, and something may have had it since.
    Unsure,
    /// Something else lies there now, or nothing tells where it lay.
    Lost,
}

/// What is told of a volume's own: what the places that follow belong to, such a place, what cannot be told.
pub(in crate::guest) enum OwnTold {
    Of(Own),
    Place(Range<u64>),
    Doubt(Trouble),
}

/// Takes what is told of a volume's own; `false` when nothing more is wanted.
pub(in crate::guest) type TakeOwn<'a> = dyn FnMut(OwnTold) -> bool + 'a;

/// Something in a folder, while the folder is gone over.
pub(super) trait Item {
    fn name(&self) -> &[u8];

    /// Where it is, if it is a folder, in a folder of that path.
    fn number(&self) -> u64;

    /// Whether it is a folder, where its name tells that already.
    fn is_folder(&self) -> Option<bool>;

    /// Where all stands that tells of it what its name does not: where that is the same, and nothing of its places has
    /// changed, nothing of it has. None when it stands at several places, or waits elsewhere.
    fn record(&mut self) -> Option<Range<u64>>;

    /// All that tells which of its places holds which part of it, and what of it lies in none of them.
    fn mapping(&mut self) -> Result<Vec<u8>, Trouble>;

    fn facts(&mut self) -> Result<Facts, Trouble>;

    /// What a link leads to.
    fn target(&mut self) -> Result<Vec<u8>, Trouble>;

    /// Where all that it takes of the volume lies, in bytes; what stands in structures that belong to all files is
    /// left out.
    fn places(&mut self, take: &mut TakePlace<'_>) -> Result<(), Trouble>;

    /// Its content, part by part, upwards; what is left out between them, and before its size, reads as zero.
    fn content(&mut self, take: &mut Take<'_>) -> Result<(), Trouble>;
}

/// Takes something in a folder; `false` when nothing more is wanted.
pub(super) type Visit<'a> = dyn FnMut(&mut dyn Item) -> Result<bool, Trouble> + 'a;

/// A reader of one file system.
pub(super) trait System {
    /// The number of the root.
    fn root(&self) -> u64;

    /// Goes over a folder. `enter` is told what tells it from all other folders, before anything is visited, and says
    /// whether to go on. A damage may leave out a part of the folder, and is told at the end.
    fn each(
        &mut self,
        folder: &Place,
        enter: &mut dyn FnMut(u64) -> bool,
        visit: &mut Visit<'_>,
    ) -> Result<(), Trouble>;

    /// Whether names that differ only in the case of letters are one.
    fn ignores_case(&self) -> bool;

    /// Whether a file may have several names; its number tells it then.
    fn has_links(&self) -> bool;

    /// The first byte behind the file system.
    fn len(&self) -> u64;

    /// Tells what of the volume no named file holds: the file system's own structures, the root folder, files that no
    /// folder names. `is_met` knows the numbers of those that one does. Damage is told and passed by.
    fn own(&mut self, is_met: &mut dyn FnMut(u64) -> bool, take: &mut TakeOwn<'_>);

    /// Calls `take` with what the volume marks as free of a range of bytes, upwards.
    fn free(&mut self, within: Range<u64>, take: &mut dyn FnMut(Range<u64>)) -> Result<(), Trouble>;

    /// Refuses to vouch for what is marked as free: where structures that say the same twice do not agree, or where
    /// features are in use that may give marks another meaning.
    fn vouch_for_free(&mut self) -> Result<(), Trouble>;

    /// Places whose newest form waits elsewhere.
    fn waiting(&self) -> Vec<Range<u64>> {
        Vec::new()
    }

    /// Calls `take` with what is left of files that were deleted; nothing where deleting leaves nothing.
    fn deleted(&mut self, _: &mut TakeRemains<'_>) -> Result<(), Trouble> {
        Ok(())
    }

    /// The content of one of them, as [`Item::content`] gives it.
    fn deleted_content(&mut self, _: &Remains, _: &mut Take<'_>) -> Result<(), Trouble> {
        Err(Trouble::Unsupported("deleting leaves nothing in this file system".to_owned()))
    }

    /// What is to be known of the volume as it is read.
    fn notes(&self) -> Vec<String> {
        Vec::new()
    }
}

/// A folder was met a second time.
pub(super) fn circle() -> Trouble {
    Trouble::Damaged("it is a folder that was met already at another place".to_owned())
}
