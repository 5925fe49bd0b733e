//! VHDX, by the open specification (version 1): dynamic and differencing images, and fixed ones for reading and
//! writing.
//!
//! One file a structure (header, region, metadata, locator, table, bitmap, log): the parsers take bytes and do no I/O.
//! `layout` puts them together for opening and for checking; reader, writer and create stand on that.

mod bitmap;
mod check;
mod create;
mod header;
mod layout;
mod locator;
mod log;
mod metadata;
mod pages;
mod reader;
mod region;
mod replay;
mod space;
mod table;
mod writer;

pub use check::check;
pub use create::{CreateOptions, default_block_size};
pub(crate) use header::SIGNATURE;
pub use reader::{BlockCounts, Vhdx};
pub use writer::VhdxMut;

/// Regions, the log and all blocks begin at multiples of this.
pub(crate) const ALIGNMENT: u64 = 1 << 20;
/// The specification's largest virtual disk.
pub const MAX_VIRTUAL_SIZE: u64 = 64 << 40;
/// The smallest block.
pub const MIN_BLOCK_SIZE: u64 = 1 << 20;
/// The largest block.
pub const MAX_BLOCK_SIZE: u64 = 256 << 20;
/// Twice the largest disk: no sound file comes near it, and tables of used space stay small.
const MAX_FILE_SIZE: u64 = 128 << 40;
/// The log and everything that goes through it is divided into pages of this size.
const PAGE: u64 = 4096;

/// CRC-32C over a structure, its own four bytes at 4 counted as zero.
fn checksum(bytes: &[u8]) -> u32 {
    let (head, rest) = bytes.split_at(8.min(bytes.len()));
    let mut first = [0; 8];
    first[..head.len()].copy_from_slice(head);
    first[4..].fill(0);
    crc32c::crc32c_append(crc32c::crc32c(&first[..head.len()]), rest)
}
