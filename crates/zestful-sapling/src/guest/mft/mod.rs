//! NTFS, read record by record out of its table of files, by the layout that the Linux-NTFS project has documented.
//!
//! There is a crate that reads it, and it is only asked for labels and flags: it tells no places, reads no names where
//! clusters are larger than the blocks of a folder, no table of files that is in many pieces, and only the first part
//! of a file whose list of clusters goes on in another record.

mod boot;
mod folder;
mod read;
mod record;
mod table;
mod value;

/// The record of the root folder.
pub(super) const ROOT: u64 = 5;
/// Records below this number are the file system's own.
pub(super) const FIRST_OF_USERS: u64 = 24;

pub(super) use boot::Boot;
pub(super) use folder::NamedRecord;
pub(super) use record::{Record, Reference};
pub(super) use table::Mft;
pub(super) use value::Value;
