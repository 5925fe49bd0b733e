//! Sector bitmaps: which sectors of a partially present block stand in this file (specification: "sector bitmap
//! block"). The least significant bit comes first.

use super::PAGE;
use super::table::Table;
use crate::bytes::le_u64;
use crate::error::Result;
use crate::finding::{Finding, VhdxFinding};

/// Bits in a page.
const PAGE_BITS: u64 = PAGE * 8;

impl Table {
    /// Where the bit of the block's sector 0 stands: the bitmap's place in the file, and a bit number in it.
    fn bits_of(&self, block: u64) -> Result<(u64, u64)> {
        let chunk = block / self.geometry.chunk_ratio;
        let Some(offset) = self.bitmap(chunk)? else {
            let at = self.place(self.geometry.payload_index(block));
            return Err(Finding::new(VhdxFinding::BitmapMissing { block, chunk }, at).into());
        };
        let sectors = self.geometry.block_size / self.geometry.sector;
        Ok((offset, block % self.geometry.chunk_ratio * sectors))
    }

    /// Whether the block's sector `first` is present, and for how many sectors (at most `most`) the same holds.
    pub(super) fn bit_run(&self, block: u64, first: u64, most: u64) -> Result<(bool, u64)> {
        let (offset, base) = self.bits_of(block)?;
        let sectors = self.geometry.block_size / self.geometry.sector;
        let most = most.min(sectors - first);
        let (mut bit, end) = (base + first, base + first + most);
        let mut value = None;
        while bit < end {
            let at = offset + bit / PAGE_BITS * PAGE;
            let page_end = (bit / PAGE_BITS + 1) * PAGE_BITS;
            let upto = end.min(page_end) - bit;
            let run = self.pages.with(at, |page, _| {
                let from = bit % PAGE_BITS;
                let value = *value.get_or_insert(page[(from / 8) as usize] >> (from % 8) & 1 != 0);
                run_length(page, from, upto, value)
            })?;
            bit += run;
            if run < upto {
                break;
            }
        }
        Ok((value.unwrap_or(false), bit - base - first))
    }

    /// Sets or clears the bits of `count` sectors from `first` on; pages that hold them already stay unchanged.
    pub(super) fn set_bits(&mut self, block: u64, first: u64, count: u64, value: bool) -> Result<()> {
        let (offset, base) = self.bits_of(block)?;
        let (mut bit, end) = (base + first, base + first + count);
        while bit < end {
            let at = offset + bit / PAGE_BITS * PAGE;
            let upto = end.min((bit / PAGE_BITS + 1) * PAGE_BITS) - bit;
            let from = bit % PAGE_BITS;
            let already = self.pages.with(at, |page, _| run_length(page, from, upto, value))?;
            if already < upto {
                self.pages.change(at, |page, _| fill(page, from, upto, value))?;
            }
            bit += upto;
        }
        Ok(())
    }
}

/// How many bits from `from` on (at most `upto`) have this value.
fn run_length(page: &[u8; PAGE as usize], from: u64, upto: u64, value: bool) -> u64 {
    let mut done = 0;
    while done < upto {
        let bit = from + done;
        let word = le_u64(page, (bit / 64 * 8) as usize);
        let differs = (if value { !word } else { word }) >> (bit % 64);
        if differs != 0 {
            return upto.min(done + u64::from(differs.trailing_zeros()));
        }
        done += 64 - bit % 64;
    }
    upto
}

fn fill(page: &mut [u8; PAGE as usize], from: u64, count: u64, value: bool) {
    let mut bit = from;
    while bit < from + count {
        let byte = &mut page[(bit / 8) as usize];
        if bit.is_multiple_of(8) && bit + 8 <= from + count {
            *byte = if value { 0xFF } else { 0 };
            bit += 8;
            continue;
        }
        let mask = 1 << (bit % 8);
        *byte = if value { *byte | mask } else { *byte & !mask };
        bit += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_what_a_bit_by_bit_look_finds() {
        let mut page = [0; PAGE as usize];
        let ranges = [(0, 1), (3, 5), (60, 70), (200, 13), (1000, 3000), (32_760, 8)];
        for (from, count) in ranges {
            fill(&mut page, from, count, true);
        }
        let set = |bit: u64| ranges.iter().any(|(from, count)| (*from..from + count).contains(&bit));
        for from in (0..5000).chain(32_000..PAGE_BITS) {
            let value = set(from);
            assert_eq!(page[(from / 8) as usize] >> (from % 8) & 1 != 0, value, "bit {from}");
            let upto = 4000.min(PAGE_BITS - from);
            let expected = (0..upto).find(|step| set(from + step) != value).unwrap_or(upto);
            assert_eq!(run_length(&page, from, upto, value), expected, "from {from}");
            assert_eq!(run_length(&page, from, upto, !value), 0);
        }
        fill(&mut page, 0, PAGE_BITS, false);
        assert!(crate::bytes::is_zero(&page));
    }
}
