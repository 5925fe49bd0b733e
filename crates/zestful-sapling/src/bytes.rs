//! Integers and text at offsets of a structure.
//!
//! Offsets are constants of a structure whose length its parser has checked before, so a place outside is a
//! mistake of ours; it reads as zero rather than stopping the program.

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
