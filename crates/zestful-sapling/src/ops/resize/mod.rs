//! A disk gets another size, and what lies on it follows.

mod judge;
mod plan;
mod record;
mod request;
mod run;
mod volume;

pub use plan::ResizePlan;
pub use request::{NewSize, PartitionToExtend, Resize};
pub use run::{ResizeOutcome, ResizedPartition};
pub(crate) use run::{carry_on, give_up};
pub use volume::ShowVolume;
