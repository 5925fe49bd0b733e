//! A blank disk gets its partition table, its volumes and their file systems.
//!
//! Every volume is made ready beside the disk, in a scratch file; only then anything is written to the disk: first a
//! mark, then the volumes, the table last of all, and of that the one sector last that makes it one. Cut short at any
//! moment before that the disk has no table, and the mark tells that what lies on it is nobody's.

mod fat;
mod fat_writer;
mod fill;
mod host_tools;
mod judge;
mod layout;
mod plan;
mod request;
mod run;
mod scratch;

pub use plan::{PrepareOutcome, PreparePlan};
pub use request::{NewFileSystem, NewVolume, Prepare, VolumeSize};
