//! Operations: each is a plan that can be shown, and its run.
//!
//! A plan changes nothing. Its run checks again what the plan relied on, reports progress, and can be stopped; stopped
//! or killed it leaves the state before.

mod blank;
mod bytes;
mod copy;
mod derive;
mod family;
mod inspect;
mod make;
mod plan;

pub use blank::Space;
pub use bytes::{WriteBytes, WriteBytesPlan, read_bytes};
pub use copy::{Copy, CopyOutcome, CopyPlan};
pub use derive::{Derive, DerivePlan};
pub use family::{Family, Node, Problem, Role, children_beside};
pub use inspect::{LogReport, ParentReport, ParentState, Report, inspect};
pub use make::{Make, MakePlan};
pub use plan::{FileChanges, Plan};
