//! Operations: each is a plan that can be shown, and its run.
//!
//! A plan changes nothing. Its run checks again what the plan relied on, reports progress, and can be stopped; stopped
//! or killed it leaves the state before.

mod blank;
mod bytes;
mod carry;
mod copy;
mod copy_chain;
mod derive;
mod diff;
mod digest;
mod family;
mod fill;
mod identity;
mod inspect;
mod make;
mod merge;
mod move_image;
mod mover;
mod new_disk;
mod new_image;
mod pin;
mod pipeline;
mod plan;
mod relink;
mod remove;
mod sapling;
mod status;
mod target;
mod totals;
mod transplant;
mod unchanged;
mod unfinished;
mod unfreeze;

pub use crate::family::{Children, Guard, Override, Search, UnknownChild, children_of};
pub use bytes::{WriteBytes, WriteBytesPlan, read_bytes};
pub use copy::{Copy, CopyPlan};
pub use copy_chain::{CopyChain, CopyChainOutcome, CopyChainPlan};
pub use derive::{Derive, DeriveOutcome, DerivePlan};
pub use diff::{Diff, DiffRange, Difference};
pub use family::{Family, Node, Problem, Role, UnderWay};
pub use identity::{FreshIdentity, FreshIdentityOutcome, FreshIdentityPlan};
pub use inspect::{LogReport, ParentReport, ParentState, PlaceReport, Report, inspect};
pub use make::{Make, MakePlan};
pub use merge::{Direction, KeepName, Merge, MergeOutcome, MergePlan, Weighed};
pub use move_image::{MoveImage, MoveOutcome, MovePlan};
pub use new_disk::{Identity, NewDiskOutcome};
pub use new_image::{NewImage, Space};
pub use pin::{PinImage, PinOutcome, PinPlan, PinReport, PinnedChild, UnpinOutcome, unpin, verify_pin};
pub use plan::{FileChanges, Plan};
pub use relink::{Relink, RelinkOutcome, RelinkPlan};
pub use remove::{Remove, RemoveOutcome, RemovePlan};
pub use status::{CurrentDisk, Held, Status, status_of};
pub use totals::Totals;
pub use transplant::{Transplant, TransplantOutcome, TransplantPlan};
pub use unfinished::{Resumed, abandon, abandon_guarded, resume, resume_guarded, unfinished_in};
pub use unfreeze::{Unfreeze, UnfreezeOutcome, UnfreezePlan};
