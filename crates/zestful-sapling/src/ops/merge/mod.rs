//! Layers of a chain become one image, and nothing that a guest sees changes.
//!
//! Two ways lead there. *Into the parent*: what the child and the layers between hold goes into the ancestor, which a
//! child that still overrides it hides; then the child goes. *Into the child*: the child takes in what it lacks; then
//! its parents go. Either may be cut short at any moment and repeated.

mod data;
mod estimate;
mod finish;
mod plan;
mod record;
mod relatives;
mod run;
mod transplant;

pub use estimate::{Direction, KeepName, MergeEstimate};
pub use finish::MergeOutcome;
pub use plan::{Merge, MergePlan};
pub(crate) use run::{carry_on, give_up};
pub use transplant::{Transplant, TransplantOutcome, TransplantPlan};
pub(crate) use transplant::{carry_on as carry_on_transplant, give_up as give_up_transplant};
