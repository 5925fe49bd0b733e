//! Files out of a disk, into a folder of this host.

mod outcome;
mod plan;
mod read;
mod write;

pub use outcome::TakeOutOutcome;
pub use plan::{TakeOut, TakeOutPlan};
