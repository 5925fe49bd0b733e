//! The files inside a volume: found, listed and read, without a guest, without mounting, without a write.
//!
//! [`FileTree`] is a volume whose files can be read. What a reader of one file system must be able to do is `System`;
//! FAT and NTFS are read by crates, ext by our own reader.

mod compare;
mod deleted;
mod ext;
mod fat;
mod fat_deleted;
mod find;
mod holders;
mod ntfs;
mod ntfs_deleted;
mod path;
mod seen;
mod system;
mod tree;
mod walk;

pub(crate) use compare::FileComparison;
pub use compare::{ChangedBy, ComparedFiles, FileChange, TakeChange};
pub use deleted::DeletedFile;
pub use find::Wanted;
pub(super) use holders::{Holder, HolderTold};
pub use path::InnerPath;
pub(super) use system::Own;
pub use system::{Certainty, EntryKind};
pub use tree::FileTree;
pub use walk::{Entry, Found, LeftOut, TakePart, Walked};
