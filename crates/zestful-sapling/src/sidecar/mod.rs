//! The small files that stand beside an image: what is known of its children and its pin, and what is under way with
//! it.

#![deny(clippy::as_conversions, clippy::arithmetic_side_effects)]

mod companion;
mod journal;
mod pin;
mod record;

pub(crate) use companion::{
    ChildrenChange, Companion, KnownChild, NewChild, child_at, is_lone, lone_companions, refuse_device, refuse_pinned,
};
pub(crate) use journal::{
    Journal, clear_copies, read_header, refuse_under_way, stands_in, survivor_for, under_way_at, waits_to_be_removed,
};
pub(crate) use pin::{Digest, Pin, PinMark, PinnedRun, modified};
pub use record::Work;
pub(crate) use record::{Header, Member, Payload, Reader, Record, image_of_journal, journal_of};
