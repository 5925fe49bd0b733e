//! The small files that stand beside an image: what is known of its children and its pin, and what is under way with it.

mod companion;
mod intent;
mod journal;

pub(crate) use companion::{
    ChildrenChange, NewChild, child_at, is_lone, lone_companions, modified, refuse_device, refuse_pinned, touched_since,
};
pub use companion::{Companion, Digest, ImageMark, KnownChild, Pin, PinnedRun};
pub(crate) use intent::image_of_journal;
pub use intent::{Grandchild, Intent, Member, Work, journal_of};
pub use journal::intent_of;
pub(crate) use journal::{
    Journal, Mark, Stamp, clear_copies, read as read_journal, refuse_under_way, stamp_of, stands_in, survivor_for,
};
