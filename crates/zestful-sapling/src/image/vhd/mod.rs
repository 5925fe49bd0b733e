//! VHD, by the open specification (version 1.0): fixed, dynamic and differencing images.
//!
//! One file a structure (footer, header, locator): the parsers take bytes and do no I/O. `layout` puts them together
//! for opening and for checking; reader, writer and create stand on that.

mod arrange;
mod bitmap;
mod blocks;
mod check;
mod create;
mod footer;
mod header;
mod layout;
mod locator;
mod mend;
mod mend_footer;
mod mend_table;
mod reader;
mod resize;
mod session;
mod shape;
mod space;
mod state;
mod writer;

pub(crate) use check::doubt_of_unreadable;
pub use check::{check, check_data};
pub use create::CreateOptions;
pub(crate) use footer::COOKIE;
pub(crate) use mend::{mend, mend_data};
pub use reader::Vhd;
pub(crate) use resize::back_to_footer;
pub use state::VhdMut;

/// Everything in the format is counted in sectors of this size.
pub(crate) const SECTOR: u64 = 512;
const SECTOR_BYTES: u32 = 512;
/// The largest disk that is made.
pub const MAX_VIRTUAL_SIZE: u64 = 2040 << 30;
/// The block size unless another is asked for.
pub const DEFAULT_BLOCK_SIZE: u64 = 2 << 20;

/// The ones' complement of the sum of all bytes, the checksum's own four counted as zero.
fn checksum(bytes: &[u8], at: usize) -> u32 {
    let (before, from_here) = bytes.split_at(at.min(bytes.len()));
    let counted = before.iter().chain(from_here.iter().skip(4));
    !counted.fold(0u32, |sum, byte| sum.wrapping_add(u32::from(*byte)))
}
