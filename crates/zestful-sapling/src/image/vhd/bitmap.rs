//! Sector bitmaps, one before each block's data (specification: "sector bitmap"). The most significant bit comes first.

use super::layout::Layout;
use crate::bytes::{fit_u32, in_units, index};
use crate::error::Result;
use crate::image::parts::Parts;
use crate::storage::ReadAt;

/// Bytes of bitmaps that are kept, those that changed included; one bitmap has 512 bytes as a rule, 512 KiB at most.
const MOST_KEPT: usize = 2 << 20;

/// Bitmaps by the place where they stand in the file, read as they are needed.
pub(super) struct Bitmaps {
    pub(super) parts: Parts,
    /// Bytes of each.
    len: u64,
}

impl Bitmaps {
    pub(super) fn of(layout: &Layout) -> Self {
        Self { parts: Parts::new(MOST_KEPT), len: layout.blocks.as_ref().map_or(0, |blocks| blocks.shape.bitmap_len) }
    }

    /// Whether a sector of the block at a place is present, and for how many sectors (at most `most`) the same holds.
    pub(super) fn run(&self, storage: &dyn ReadAt, place: u64, first: u64, most: u64) -> Result<(bool, u64)> {
        self.parts.with(storage, place, self.len, |bytes| run(bytes, first, most))
    }

    /// Sets the bits of some sectors.
    pub(super) fn set(&self, storage: &dyn ReadAt, place: u64, first: u64, count: u64) -> Result<()> {
        match self.run(storage, place, first, count)? == (true, count) {
            true => Ok(()),
            false => self.parts.change(storage, place, self.len, |bytes| fill(bytes, first, count)),
        }
    }

    /// The bitmap of a block that is new: the bits of these sectors are set.
    pub(super) fn put(&self, place: u64, first: u64, count: u64) {
        let mut bytes = vec![0; index(self.len)];
        fill(&mut bytes, first, count);
        self.parts.put(place, bytes);
    }

    /// What the bitmap at a place holds now.
    pub(super) fn copy(&self, storage: &dyn ReadAt, place: u64) -> Result<Vec<u8>> {
        self.parts.with(storage, place, self.len, <[u8]>::to_vec)
    }
}

/// Whether sector `first` is present, and for how many sectors (at most `most`) the same holds.
pub(super) fn run(bytes: &[u8], first: u64, most: u64) -> (bool, u64) {
    let byte = |number: u64| bytes.get(index(number)).copied().unwrap_or_default();
    let value = (byte(first / 8) << (first % 8)) & 0x80 != 0;
    for step in in_units(first, most, 8) {
        let byte = byte(step.unit);
        let differs = (if value { !byte } else { byte }) << (step.within % 8);
        let same = u64::from(differs.leading_zeros());
        if same < step.len {
            return (value, step.done.saturating_add(same));
        }
    }
    (value, most)
}

/// Sets the bits of `count` sectors from `first` on.
pub(super) fn fill(bytes: &mut [u8], first: u64, count: u64) {
    for step in in_units(first, count, 8) {
        let Some(byte) = bytes.get_mut(index(step.unit)) else { break };
        let from = 0xFF_u8 >> (step.within % 8);
        *byte |= from & !0xFF_u8.checked_shr(fit_u32(step.within.saturating_add(step.len))).unwrap_or_default();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_what_a_bit_by_bit_look_finds() {
        let mut bytes = vec![0; 512];
        let ranges = [(0, 1), (3, 5), (60, 70), (200, 13), (1000, 3000), (4095, 1)];
        for (first, count) in ranges {
            fill(&mut bytes, first, count);
        }
        assert_eq!(bytes[0], 0b1001_1111, "the most significant bit comes first");
        let set = |sector: u64| ranges.iter().any(|(first, count)| (*first..first + count).contains(&sector));
        for first in 0..4096 {
            let most = 900.min(4096 - first);
            let expected = (0..most).find(|step| set(first + step) != set(first)).unwrap_or(most);
            assert_eq!(run(&bytes, first, most), (set(first), expected), "sector {first}");
        }
    }
}
