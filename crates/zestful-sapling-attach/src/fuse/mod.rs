//! A disk as files of this host (FUSE), and what of that is mounted.

mod exposure;
mod files;
mod filesystem;
mod holders;
mod mounts;
mod view;

pub use exposure::Exposure;
pub(crate) use holders::holders_of;
pub(crate) use mounts::{Mount, mounts, unmount};
pub use view::HostFiles;
