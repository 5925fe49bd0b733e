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
mod resume;

pub use crate::operation::{FileChanges, Operation, Plan, Planned, Renamed};
pub use bytes::{ReadBytes, ReadBytesPlan, WriteBytes, WriteBytesPlan};
pub use create::{
    CopyChain, CopyChainOutcome, CopyChainPlan, CopyDisk, CopyDiskPlan, CopyOnto, CopyOntoOutcome, CopyOntoPlan,
    Derive, DeriveOutcome, DerivePlan, Identity, Make, MakePlan, NewDiskOutcome, NewImage,
};
pub use diff::{Diff, DiffPlan, DiffRange, Difference};
pub use merge::{
    Direction, KeepName, Merge, MergeEstimate, MergeOutcome, MergePlan, Transplant, TransplantOutcome, TransplantPlan,
};
pub use names::{
    FreshIdentity, FreshIdentityOutcome, FreshIdentityPlan, MoveImage, MoveOutcome, MovePlan, Relink, RelinkOutcome,
    RelinkPlan, Remove, RemoveOutcome, RemovePlan, Unfreeze, UnfreezeOutcome, UnfreezePlan,
};
pub use pin::{
    PinImage, PinOutcome, PinPlan, PinReport, PinnedChild, Unpin, UnpinOutcome, UnpinPlan, VerifyPin, VerifyPinPlan,
};
pub use resume::{Abandon, AbandonPlan, Abandoned, OverOutcome, Resume, ResumePlan, Resumed};
