//! Operations: each is a plan that can be shown, and its run.
//!
//! A plan changes nothing. Its run checks again what the plan relied on, reports progress, and can be stopped; stopped
//! or killed it leaves the state before.

mod bytes;
mod compact;
mod compare_files;
mod create;
mod deleted;
mod diff;
mod merge;
mod names;
mod pin;
mod prepare;
mod resize;
mod take_out;

pub use crate::operation::{FileChanges, Operation, Plan, Planned, Renamed};
pub use bytes::{ReadBytes, ReadBytesPlan, WriteBytes, WriteBytesPlan};
pub use compact::{Compact, CompactOutcome, CompactPlan, GivenBack, KeptVolume, Size, Staying};
pub use compare_files::CompareFiles;
pub(crate) use create::{BlankChild, copy_of};
pub use create::{
    CopyChain, CopyChainOutcome, CopyChainPlan, CopyDisk, CopyDiskPlan, CopyOnto, CopyOntoOutcome, CopyOntoPlan,
    CopyStream, CopyStreamPlan, Derive, DeriveOutcome, DerivePlan, Identity, Make, MakePlan, NewDiskOutcome, NewImage,
};
pub use deleted::{Deleted, DeletedFiles, FoundDeleted};
pub use diff::{Diff, DiffPlan, Difference};
pub use merge::{
    Direction, KeepName, Merge, MergeEstimate, MergeOutcome, MergePlan, Transplant, TransplantOutcome, TransplantPlan,
};
pub(crate) use merge::{carry_on as carry_on_merge, carry_on_transplant, give_up as give_up_merge, give_up_transplant};
pub use names::{
    FreshIdentity, FreshIdentityOutcome, FreshIdentityPlan, MoveImage, MoveOutcome, MovePlan, Relink, RelinkOutcome,
    RelinkPlan, Remove, RemoveOutcome, RemovePlan, Unfreeze, UnfreezeOutcome, UnfreezePlan,
};
pub(crate) use names::{carry_on_move, give_up_move};
pub use pin::{
    PinImage, PinOutcome, PinPlan, PinReport, PinnedChild, Unpin, UnpinOutcome, UnpinPlan, VerifyPin, VerifyPinPlan,
};
pub use prepare::{NewFileSystem, NewVolume, Prepare, PrepareOutcome, PreparePlan, VolumeSize};
pub use resize::{NewSize, PartitionToExtend, Resize, ResizeOutcome, ResizePlan, ResizedPartition, ShowVolume};
pub(crate) use resize::{carry_on as carry_on_resize, give_up as give_up_resize};
pub use take_out::{TakeOut, TakeOutOutcome, TakeOutPlan};
