//! Operations: each is a plan that can be shown, and its run.
//!
//! A plan changes nothing. Its run checks again what the plan relied on, reports progress, and can be stopped; stopped
//! or killed it leaves the state before.

mod bytes;
mod create;
mod diff;
mod merge;
mod names;
mod pin;
mod plan;
mod resume;

pub use bytes::{WriteBytes, WriteBytesPlan, read_bytes};
pub use create::{
    Copy, CopyChain, CopyChainOutcome, CopyChainPlan, CopyPlan, Derive, DeriveOutcome, DerivePlan, Identity, Make,
    MakePlan, NewDiskOutcome, NewImage,
};
pub use diff::{Diff, DiffRange, Difference};
pub use merge::{
    Direction, KeepName, Merge, MergeOutcome, MergePlan, Transplant, TransplantOutcome, TransplantPlan, Weighed,
};
pub use names::{
    FreshIdentity, FreshIdentityOutcome, FreshIdentityPlan, MoveImage, MoveOutcome, MovePlan, Relink, RelinkOutcome,
    RelinkPlan, Remove, RemoveOutcome, RemovePlan, Unfreeze, UnfreezeOutcome, UnfreezePlan,
};
pub use pin::{PinImage, PinOutcome, PinPlan, PinReport, PinnedChild, UnpinOutcome, unpin, verify_pin};
pub use plan::{FileChanges, Plan};
pub use resume::{Abandoned, OverOutcome, Resumed, abandon, abandon_guarded, resume, resume_guarded};
