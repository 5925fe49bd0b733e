//! Bulk data from here to there: read, compared, digested and written side by side.

mod delta;
mod digest;
mod marked;
mod piece_digests;
pub(crate) mod pipeline;

pub(crate) use delta::{Delta, cost_of};
pub(crate) use digest::{ContentDigest, digest_of, layer_digest};
pub(crate) use marked::{Mark, Stamp, Transfer, stamp_of};
pub(crate) use piece_digests::{PIECE, changed_since, digest_pieces};
