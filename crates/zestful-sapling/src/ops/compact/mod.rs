//! An image gives back what it does not need, and its blocks move.

mod grains;
mod plan;
mod request;
mod run;
mod survey;
mod told;
mod unused;

pub use plan::CompactPlan;
pub use request::Compact;
pub use run::{CompactOutcome, Size};
pub use survey::{GivenBack, Staying};
pub use unused::KeptVolume;
