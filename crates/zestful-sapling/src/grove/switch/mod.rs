//! The present of a machine becomes another one, on all its disks or on none: a checkpoint is taken, or the machine
//! goes back to one.
//!
//! Both are the same work. The current image of each disk gets a second name in a new folder of the history; a finished
//! child, of that image or of the one to go back to, takes its place under the first name, which is never empty. Then
//! the catalogue follows; and where the present was not to be kept, its images go.
//!
//! Until all children are made, nothing is visible, and it is taken back. From then on it can be done to its end as
//! long as no image was written to that is yet to be frozen, and taken back as long as no child was.

mod draft;
mod prepare;
mod recover;
mod revert;
mod run;
mod running;
mod stand;
mod take;

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use uuid::Uuid;

pub(in crate::grove) use recover::{carry_on, give_up, recover};
pub use revert::{Present, Revert, RevertOutcome, RevertPlan};
pub use running::{PAUSE_AT_MOST, TakeRunning, TakeRunningPlan};
pub use take::{TakeCheckpoint, TakeOutcome, TakePlan};

use crate::sidecar::{Checkpoint, Member, Payload, Record, Work};
use crate::transfer::Stamp;

/// A switch that is under way: the members are the current images, and the images to go back to.
pub(super) type SwitchRecord = Record<Switch>;

/// What the journal of a switch says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(in crate::grove) struct Switch {
    work: Work,
    /// Where the present goes: its entry in the catalogue. Without a name it is not kept.
    kept: Checkpoint,
    /// What the new present goes on from.
    after: Option<u64>,
    disks: Vec<SwitchedDisk>,
}

/// One of the disks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct SwitchedDisk {
    /// The member that is the current image.
    current: usize,
    /// The member that the new current image grows from; `None` when it is the old one.
    base: Option<usize>,
    /// Whether the old current image records the absolute path of its own parent.
    absolute: bool,
}

/// How far a switch is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(in crate::grove) enum SwitchMark {
    /// All children are made: what tells them, and the images in whose place they come, from others.
    Ready(Vec<ReadyDisk>),
}

/// What a disk's two images looked like when all was ready.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(in crate::grove) struct ReadyDisk {
    old: Stamp,
    new: Stamp,
    /// The data identity of the new one.
    identity: Uuid,
}

impl Payload for Switch {
    type Mark = SwitchMark;

    fn work(&self) -> Work {
        self.work
    }
}

/// One of the disks, with its places on this host.
struct Switched<'a> {
    disk: &'a SwitchedDisk,
    /// The current image, as it was when the work began.
    old: &'a Member,
    /// What the new one grows from, unless it is the old one.
    base: Option<&'a Member>,
    /// Where the old one goes.
    kept: PathBuf,
}

impl Switched<'_> {
    /// The path of the disk's current image.
    fn path(&self) -> &Path {
        &self.old.path
    }

    /// Where the image stands that the new one grows from.
    fn base_path(&self) -> &Path {
        self.base.map_or(&self.kept, |base| &base.path)
    }

    fn base_identity(&self) -> Uuid {
        self.base.map_or(self.old.identity, |base| base.identity)
    }
}

/// The disks of a switch in the grove at `folder`.
fn switched<'a>(folder: &Path, record: &'a SwitchRecord) -> Vec<Switched<'a>> {
    let members = &record.header.members;
    let payload = &record.payload;
    let disk = |(disk, layer): (&'a SwitchedDisk, &'a crate::sidecar::Layer)| {
        let base = disk.base.map(|base| members.get(base));
        // A journal that names a member which it does not hold is not ours.
        Some(Switched {
            disk,
            old: members.get(disk.current)?,
            base: base.map_or(Some(None), |base| base.map(Some))?,
            kept: folder.join(&layer.path),
        })
    };
    payload.disks.iter().zip(&payload.kept.disks).filter_map(disk).collect()
}
