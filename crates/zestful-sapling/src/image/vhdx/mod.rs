//! VHDX, by the open specification (version 1): dynamic and differencing images, and fixed ones for reading and
//! writing.
//!
//! One file a structure (header, region, metadata, locator, table, bitmap, log): the parsers take bytes and do no I/O.
//! `layout` puts them together for opening and for checking; reader, writer and create stand on that.

mod arrange;
mod bitmap;
mod blocks;
mod check;
mod create;
mod grow;
mod header;
mod judge;
mod layout;
mod locator;
mod log;
mod log_writer;
mod mend;
mod mend_table;
mod metadata;
mod metadata_edits;
mod pages;
mod reader;
mod region;
mod replay;
mod session;
mod shrink;
mod space;
mod state;
mod table;
mod writer;

pub use check::check;
pub use create::{CreateOptions, default_block_size};
pub(crate) use header::SIGNATURE;
pub(crate) use judge::doubt_of_unreadable;
pub(crate) use mend::mend;
pub use reader::Vhdx;
pub use state::VhdxMut;

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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use uuid::Uuid;

    use super::region::Region;
    use super::*;
    use crate::bytes::put;
    use crate::storage::{MemoryStorage, Storage};

    fn noise(most: usize) -> impl Strategy<Value = Vec<u8>> {
        // Zeros between the noise, so that counts and offsets are not always absurd.
        proptest::collection::vec(prop_oneof![2 => Just(0), 1 => any::<u8>()], 0..most)
    }

    /// A structure of this length that begins with a signature, then noise, its checksum made right.
    fn sealed(noise: &[u8], signature: &[u8], len: usize) -> Vec<u8> {
        let mut bytes = noise.to_vec();
        bytes.resize(len, 0);
        put(&mut bytes, 0, signature);
        let sum = checksum(&bytes);
        put(&mut bytes, 4, &sum.to_le_bytes());
        bytes
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(600) })]

        /// Whatever the bytes, every parser returns.
        #[test]
        fn parsers_survive_arbitrary_bytes(noise in noise(5000), plain in any::<bool>()) {
            let header = sealed(&noise, if plain { b"" } else { b"head" }, header::HEADER_LEN);
            _ = header::Header::parse(header.first_chunk().unwrap());
            _ = region::parse(&noise);
            _ = region::parse(&sealed(&noise, b"regi", region::TABLE_LEN));
            _ = locator::parse(&noise);
            let mut item = noise.clone();
            item.resize(item.len().max(20), 0);
            put(&mut item, 0, &locator::TYPE.to_bytes_le());
            _ = locator::parse(&item);
            _ = crate::bytes::utf16le(&noise);

            let storage = MemoryStorage::new();
            storage.set_len(3 << 20).unwrap();
            let place = Region { id: region::METADATA, offset: 1 << 20, len: 1 << 20, required: true };
            storage.write_at(&noise, place.offset).unwrap();
            storage.write_at(b"metadata", place.offset).unwrap();
            storage.write_at(&noise, place.offset + metadata::TABLE_LEN as u64).unwrap();
            _ = metadata::read(&storage, place, &mut Vec::new());

            // Log entries of every length that the noise asks for, under the right id.
            let mut entry = sealed(&noise, b"loge", noise.len().max(64).next_multiple_of(4096));
            put(&mut entry, 32, &Uuid::from_u128(5).to_bytes_le());
            let len = (entry.len() as u32).to_le_bytes();
            put(&mut entry, 8, &len);
            put(&mut entry, 12, &[0; 4]);
            put(&mut entry, 24, &[noise.len() as u8, 0, 0, 0]);
            let sum = checksum(&entry);
            put(&mut entry, 4, &sum.to_le_bytes());
            storage.write_at(&entry, place.offset).unwrap();
            let ring = log::Ring { storage: &storage, place };
            for entry in ring.sequences(Uuid::from_u128(5)).unwrap().active.into_iter().flatten() {
                ring.changes(&entry, |_, _| Ok(())).unwrap();
            }
        }
    }
}
