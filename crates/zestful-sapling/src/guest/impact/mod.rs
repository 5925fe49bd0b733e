//! From ranges of a disk to the files, structures and free space that lie in them.

mod asked;
mod free;
mod hit;
mod survey;
mod torn;

pub use free::free_space;
pub use hit::{Hit, HitKind, HitSum, Impact};
pub use survey::impact;
pub(crate) use torn::TornDisk;
