//! Integers and text at offsets of a structure, and numbers on their way between files and memory.
//!
//! Offsets are constants of a structure whose length its parser has checked before, so a place outside is a
//! mistake of ours; it reads as zero rather than stopping the program. A sum that has no room ends at the largest
//! number: that is past the end of every file, and reading or writing there fails.

use std::io::{self, SeekFrom};
use std::ops::Range;

/// A place or a length in memory. What has no room there lies past the end of everything.
pub(crate) const fn index(number: u64) -> usize {
    if number > usize::MAX as u64 { usize::MAX } else { number as usize }
}

/// A length in memory as one in a file.
pub(crate) const fn wide(length: usize) -> u64 {
    length as u64
}

/// How often a unit goes into a number, and what is left. Nothing goes into no unit.
pub(crate) const fn split(number: u64, unit: u64) -> (u64, u64) {
    match (number.checked_div(unit), number.checked_rem(unit)) {
        (Some(units), Some(rest)) => (units, rest),
        _ => (0, number),
    }
}

/// A part of a range that lies in one unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Step {
    /// The unit's number.
    pub(crate) unit: u64,
    /// Where the part begins in the unit.
    pub(crate) within: u64,
    /// Where it begins in the range.
    pub(crate) done: u64,
    /// Its length, never zero.
    pub(crate) len: u64,
}

/// A range as parts that lie in one unit each: in one block, or in one page.
pub(crate) fn in_units(offset: u64, len: u64, unit: u64) -> impl Iterator<Item = Step> {
    let mut done = 0;
    std::iter::from_fn(move || {
        let (number, within) = split(offset.checked_add(done)?, unit);
        let step = len.checked_sub(done)?.min(unit.checked_sub(within)?);
        let part = Step { unit: number, within, done, len: step };
        done = done.checked_add(step)?;
        (step > 0).then_some(part)
    })
}

/// Where the entry of this number stands in a list. One that has no room lies past the end of everything.
pub(crate) const fn nth(first: usize, len: usize, number: usize) -> usize {
    first.saturating_add(len.saturating_mul(number))
}

/// A number for a field of 32 bits. Who writes a field has bounded it; one that has no room becomes the largest, which
/// is no place and no length.
pub(crate) fn fit_u32(number: u64) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

/// The same for 16 bits.
pub(crate) fn fit_u16(number: u64) -> u16 {
    u16::try_from(number).unwrap_or(u16::MAX)
}

pub(crate) fn le_u16(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(array(bytes, at))
}

pub(crate) fn le_u32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(array(bytes, at))
}

pub(crate) fn le_u64(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(array(bytes, at))
}

pub(crate) fn be_u32(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(array(bytes, at))
}

pub(crate) fn be_u64(bytes: &[u8], at: usize) -> u64 {
    u64::from_be_bytes(array(bytes, at))
}

/// `N` bytes at `at`.
pub(crate) fn array<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    debug_assert!(at + N <= bytes.len());
    bytes.get(at..).and_then(|rest| rest.first_chunk()).copied().unwrap_or([0; N])
}

pub(crate) fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
}

/// UTF-16LE text; what is no valid text becomes replacement characters.
pub(crate) fn utf16le(bytes: &[u8]) -> String {
    let units = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
    char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
}

pub(crate) fn to_utf16le(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// Whether every byte is zero.
///
/// Folds 256 bytes at a time without a branch, which compilers turn into wide vector code.
pub fn is_zero(bytes: &[u8]) -> bool {
    let (chunks, rest) = bytes.as_chunks::<256>();
    chunks.iter().all(|chunk| chunk.iter().fold(0, |all, byte| all | byte) == 0) && rest.iter().all(|byte| *byte == 0)
}

/// Where a stream of this length goes, from this place.
pub(crate) fn sought(to: SeekFrom, position: u64, len: u64) -> io::Result<u64> {
    let target = match to {
        SeekFrom::Start(at) => Some(at),
        SeekFrom::End(by) => len.checked_add_signed(by),
        SeekFrom::Current(by) => position.checked_add_signed(by),
    };
    target.ok_or_else(|| io::ErrorKind::InvalidInput.into())
}

/// The parts that are not zero, in whole grains of this length.
pub(crate) fn data_runs(bytes: &[u8], grain: usize) -> Vec<Range<usize>> {
    let mut runs: Vec<Range<usize>> = Vec::new();
    for (number, part) in bytes.chunks(grain).enumerate() {
        if is_zero(part) {
            continue;
        }
        let start = number.saturating_mul(grain);
        let end = start.saturating_add(part.len());
        match runs.last_mut().filter(|run| run.end == start) {
            Some(run) => run.end = end,
            None => runs.push(start..end),
        }
    }
    runs
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn zero_test_sees_a_single_byte_anywhere() {
        let mut bytes = vec![0; 1000];
        assert!(is_zero(&bytes) && is_zero(&[]));
        for at in [0, 255, 256, 767, 768, 999] {
            bytes[at] = 1;
            assert!(!is_zero(&bytes), "byte {at}");
            bytes[at] = 0;
        }
    }

    #[test]
    fn text_survives_the_disk_form() {
        for text in ["", "Eltern äö 日本", "🌱.vhdx"] {
            assert_eq!(utf16le(&to_utf16le(text)), text);
        }
        assert_eq!(utf16le(&[0x00, 0xD8]), "\u{FFFD}");
    }
}
