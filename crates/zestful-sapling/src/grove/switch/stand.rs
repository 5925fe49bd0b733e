//! How far a switch came on each of its disks, and which ways are open.

use super::{ReadyDisk, SwitchRecord, Switched};
use crate::error::{Error, Refusal};
use crate::image::data_identity_at;
use crate::storage::FileId;
use crate::transfer::stamp_of;

/// What stands under the name of a disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Stand {
    /// The old image, as it was when all was ready, or before.
    Old,
    /// The old image, written to since.
    OldChanged,
    /// The new image, as it was made.
    New,
    /// The same, and the old one is gone.
    NewAlone,
    /// The new image, written to since.
    NewChanged,
    /// Another file.
    Other,
}

impl Stand {
    pub(super) fn is_old(self) -> bool {
        matches!(self, Stand::Old | Stand::OldChanged)
    }

    /// Whether the disk can be switched, or was.
    pub(super) fn can_go_on(self) -> bool {
        matches!(self, Stand::Old | Stand::New | Stand::NewAlone | Stand::NewChanged)
    }

    /// Whether nothing is lost when the disk is as before.
    pub(super) fn can_go_back(self) -> bool {
        matches!(self, Stand::Old | Stand::OldChanged | Stand::New)
    }

    pub(super) fn of(disk: &Switched<'_>, record: &SwitchRecord, ready: Option<&ReadyDisk>) -> Self {
        let path = disk.path();
        let Ok(file) = FileId::of(path) else { return Stand::Other };
        let identity = data_identity_at(path);
        let is_copy = record.header.copied;
        // A copy of the folder has other files with other times.
        let is_as = |then| is_copy || stamp_of(path).is_ok_and(|now| now == then);
        let is_old = if is_copy { identity == Some(disk.old.identity) } else { file == disk.old.file };
        match ready {
            None if is_old => Stand::Old,
            Some(ready) if is_old => match identity == Some(disk.old.identity) && is_as(ready.old) {
                true => Stand::Old,
                false => Stand::OldChanged,
            },
            Some(ready) if identity == Some(ready.identity) => match is_as(ready.new) {
                true if disk.kept.exists() => Stand::New,
                true => Stand::NewAlone,
                false => Stand::NewChanged,
            },
            Some(_) if is_child_of(disk) => Stand::NewChanged,
            _ => Stand::Other,
        }
    }
}

fn is_child_of(disk: &Switched<'_>) -> bool {
    let base = disk.base_identity();
    crate::image::recognise(disk.path())
        .ok()
        .flatten()
        .is_some_and(|(image, _)| image.info().parent.as_ref().is_some_and(|parent| parent.accepted.contains(&base)))
}

/// A switch that can neither be done to its end nor be taken back.
pub(super) fn stuck(record: &SwitchRecord, disks: &[Switched<'_>], stands: &[Stand]) -> Error {
    let what = |(disk, stand): (&Switched<'_>, &Stand)| {
        let path = disk.path().display();
        match stand {
            Stand::OldChanged => Some(format!("{path} was written to before it could be frozen")),
            Stand::NewChanged => Some(format!("{path} was written to after it was frozen")),
            Stand::Other => Some(format!("{path} is another file, or gone")),
            Stand::Old | Stand::New | Stand::NewAlone => None,
        }
    };
    let reasons: Vec<String> = disks.iter().zip(stands).filter_map(what).collect();
    Error::refused(
        Refusal::UnderWay { image: record.header.image().to_owned(), must_go_on: false },
        format!("{} was cut short, and a guest was started too early: {}", record.header.work, reasons.join("; ")),
        "giving it up leaves each disk as it reads now, and keeps what was frozen as a checkpoint of its own",
    )
}

/// The ways that are open.
pub(super) fn open_ways(stands: &[Stand]) -> (bool, bool) {
    (stands.iter().all(|stand| stand.can_go_on()), stands.iter().all(|stand| stand.can_go_back()))
}

/// How far it came on each disk; `ready` is empty as long as nothing was to be seen.
pub(super) fn stands_of(record: &SwitchRecord, disks: &[Switched<'_>], ready: &[ReadyDisk]) -> Vec<Stand> {
    disks.iter().enumerate().map(|(number, disk)| Stand::of(disk, record, ready.get(number))).collect()
}
