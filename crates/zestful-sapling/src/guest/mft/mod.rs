//! NTFS, read record by record out of its table of files, by the layout that the Linux-NTFS project has documented.
//!
//! There is a crate that reads it, and it is only asked for labels and flags: it tells no places, reads no names where
//! clusters are larger than the blocks of a folder, no table of files that is in many pieces, and only the first part
//! of a file whose list of clusters goes on in another record.

mod folder;
mod read;
mod record;
mod table;
mod value;

pub(super) use folder::NamedRecord;
pub(super) use record::Record;
pub(super) use table::Mft;
pub(super) use value::Value;
