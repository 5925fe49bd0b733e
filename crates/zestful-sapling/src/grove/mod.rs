//! Groves: the folder of a machine, its disks, and its checkpoints, all together or not at all.
//!
//! `grove.json` in the folder is the catalogue. The current image of each disk keeps its path for good; a checkpoint
//! keeps what the disks held, under other names in `history/`, with a record of its own, so that the catalogue can be
//! made anew from the files. Nobody but one command at a time changes a grove; what is cut short is found by the next
//! one, which finishes it or takes it back.
//!
//! ```
//! use zestful_sapling::grove::{AddDisk, Forget, Grove, NewGrove, Present, Revert, TakeCheckpoint, Which};
//! use zestful_sapling::ops::{Make, Operation, Planned};
//! use zestful_sapling::progress::Progress;
//!
//! # fn main() -> zestful_sapling::Result<()> {
//! # let folder = tempfile::tempdir().unwrap();
//! # let folder = folder.path().join("herbarium");
//! let progress = Progress::new();
//! NewGrove::new(&folder, "herbarium").plan()?.run(&progress)?;
//! for disk in ["system.vhdx", "records.vhdx"] {
//!     Make::new(folder.join(disk), 64 << 30).plan()?.run(&progress)?;
//!     AddDisk::new(&folder, folder.join(disk)).plan()?.run(&progress)?;
//! }
//! TakeCheckpoint::new(&folder, "before-upgrade").with_note("new catalogue program").plan()?.run(&progress)?;
//! // The upgrade goes wrong ...
//! Revert::new(&folder, "before-upgrade", Present::KeptAs("failed-upgrade".into())).plan()?.run(&progress)?;
//! Forget::new(&folder, Which::Named("failed-upgrade".into())).plan()?.run(&progress)?;
//! let names: Vec<_> = Grove::open(&folder)?.catalogue().checkpoints.iter().flat_map(|one| one.name.clone()).collect();
//! assert_eq!(names, ["before-upgrade"]);
//! # Ok(())
//! # }
//! ```

mod begun;
mod copy;
mod copying;
mod cost;
mod disks;
mod folder;
mod forget;
mod found;
mod health;
mod hooks;
mod lineage;
mod list;
mod name;
mod rebuild;
mod remove;
mod rename;
mod resume;
mod switch;

pub use begun::Begun;
pub use copy::{CopyGrove, CopyGroveOutcome, CopyGrovePlan};
pub use disks::{AddDisk, AddDiskOutcome, AddDiskPlan, ReleaseDisk, ReleaseDiskOutcome, ReleaseDiskPlan};
pub use folder::{Grove, Place};
pub use forget::{Forget, ForgetOutcome, ForgetPlan, ForgetStep, Which};
pub use found::{GroveOutcome, NewGrove, NewGrovePlan};
pub use health::{Limits, family_of, inspect_folder, problems_of, status_of};
pub use hooks::{HOOK_TIMEOUT, Hooked, Hooks};
pub use list::{
    CheckpointList, CheckpointReport, DiskReport, GroveReport, LayerReport, PresentReport, checkpoints_of, disks_of,
};
pub use rebuild::{Rebuild, RebuildOutcome, RebuildPlan};
pub use remove::{RemoveGrove, RemoveGroveOutcome, RemoveGrovePlan};
pub use rename::{DescribeCheckpoint, DescribeCheckpointOutcome, DescribeCheckpointPlan};
pub use switch::{
    PAUSE_AT_MOST, Present, Revert, RevertOutcome, RevertPlan, TakeCheckpoint, TakeOutcome, TakePlan, TakeRunning,
    TakeRunningPlan,
};

pub(crate) use resume::{carry_on, carry_on_forgetting, give_up, give_up_forgetting};

pub use crate::sidecar::{Catalogue, Checkpoint, GroveDisk, Layer, Role};
