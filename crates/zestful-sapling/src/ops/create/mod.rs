//! New disks: empty, filled with the content of another, or grown from one.

mod base;
mod blank;
mod copy;
mod copy_chain;
mod copy_onto;
mod derive;
mod fill;
mod from_stream;
mod go_on_in;
mod input;
mod make;
mod new_disk;
mod new_image;
mod target;
mod unchanged;

pub(crate) use blank::BlankChild;
pub(crate) use copy::copy_of;
pub use copy::{CopyDisk, CopyDiskPlan};
pub use copy_chain::{CopyChain, CopyChainOutcome, CopyChainPlan};
pub use copy_onto::{CopyOnto, CopyOntoOutcome, CopyOntoPlan};
pub use derive::{Derive, DeriveOutcome, DerivePlan};
pub use from_stream::{CopyStream, CopyStreamPlan};
pub use make::{Make, MakePlan};
pub use new_disk::{Identity, NewDiskOutcome};
pub use new_image::NewImage;
