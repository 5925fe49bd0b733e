//! What a reader of one file system must be able to do.

use std::rc::Rc;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::path::InnerPath;
use crate::guest::contained::contained;
use crate::guest::trouble::Trouble;
use crate::guest::window::Patience;

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

/// Something in a folder, while the folder is gone over.
pub(super) trait Item {
    fn name(&self) -> &[u8];

    /// Where it is, if it is a folder, in a folder of that path.
    fn number(&self) -> u64;

    fn facts(&mut self) -> Result<Facts, Trouble>;

    /// What a link leads to.
    fn target(&mut self) -> Result<Vec<u8>, Trouble>;

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

    /// What is to be known of the volume as it is read.
    fn notes(&self) -> Vec<String> {
        Vec::new()
    }
}

/// A folder was met a second time.
pub(super) fn circle() -> Trouble {
    Trouble::Damaged("it is a folder that was met already at another place".to_owned())
}

/// Calls into a crate, whose errors say less than what failed below it, and whose panics end here.
pub(super) fn called<T, E>(
    patience: &Rc<Patience>,
    call: impl FnOnce() -> Result<T, E>,
    trouble: impl FnOnce(E) -> Trouble,
) -> Result<T, Trouble> {
    let outcome = contained(call).map_err(|panic| {
        patience.note_panic();
        Trouble::Panicked(panic)
    })?;
    outcome.map_err(|error| patience.take_failure().map_or_else(|| trouble(error), Trouble::Failed))
}
