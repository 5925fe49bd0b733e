//! The small files that stand beside images: what is known of an image's children and its pin, the catalogue of a
//! machine's folder, and what is under way.

#![deny(clippy::as_conversions, clippy::arithmetic_side_effects)]

mod catalogue;
mod companion;
mod journal;
mod line;
mod owed;
mod pin;
mod record;
mod redo;
mod salvaged;
mod undo;

pub(crate) use catalogue::{
    CATALOGUE, HISTORY, Kept, MOST_NUMBERS, RECORD, kept_by_grove, read_record, write_catalogue, write_record,
};
pub use catalogue::{Catalogue, Checkpoint, GroveDisk, Layer, Role};
pub(crate) use companion::{
    ChildrenChange, Companion, KnownChild, NewChild, child_at, is_companion, is_lone, lone_companions, refuse_device,
    refuse_pinned,
};
pub(crate) use journal::{
    Journal, clear_copies, read_header, refuse_under_way, stands_in, survivor_for, under_way_at, under_way_in_grove,
    waits_to_be_removed,
};
pub(crate) use owed::{Owed, Owing};
pub(crate) use pin::{Digest, Pin, PinMark, PinnedRun, modified};
pub use record::Work;
pub(crate) use record::{Header, Member, Payload, Reader, Record, image_of_journal, is_journal, journal_of};
pub(crate) use redo::{Redo, RedoPiece, RedoWriter, StoredRedo, is_redo, remove_redo};
pub(crate) use salvaged::{Salvaged, is_salvage_list};
pub(crate) use undo::{Stand, Undo, image_of_undo, remove_undo, size_of_undo, take_undo_along, undo_files};
