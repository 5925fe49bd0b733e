//! Sector bitmaps: which sectors of a partially present block stand in this file (specification: "sector bitmap
//! block"). The least significant bit comes first.

use super::PAGE;
use super::table::Table;
use crate::bytes::{Step, in_units, index, le_u64, split};
use crate::error::Result;
use crate::finding::{Finding, VhdxFinding};

/// Bits in a page.
const PAGE_BITS: u64 = PAGE * 8;

impl Table {
    /// Where the bit of the block's sector 0 stands: the bitmap's place in the file, and a bit number in it.
    fn bits_of(&self, block: u64) -> Result<(u64, u64)> {
        let (chunk, within) = split(block, self.geometry.chunk_ratio);
        let Some(offset) = self.bitmap(chunk)? else {
            let at = self.place(self.geometry.payload_index(block));
            return Err(Finding::new(VhdxFinding::BitmapMissing { block, chunk }, at).into());
        };
        Ok((offset, within.saturating_mul(self.geometry.sectors())))
    }

    /// Whether the block's sector `first` is present, and for how many sectors (at most `most`) the same holds.
    pub(super) fn bit_run(&self, block: u64, first: u64, most: u64) -> Result<(bool, u64)> {
        let (offset, base) = self.bits_of(block)?;
        let most = most.min(self.geometry.sectors().saturating_sub(first));
        let (mut value, mut run) = (None, 0u64);
        for step in in_units(base.saturating_add(first), most, PAGE_BITS) {
            let here = self.pages.with(page_at(offset, &step), |page, _| {
                let value = *value.get_or_insert(bit(page, step.within));
                run_length(page, step.within, step.len, value)
            })?;
            run = run.saturating_add(here);
            if here < step.len {
                break;
            }
        }
        Ok((value.unwrap_or(false), run))
    }

    /// Sets or clears the bits of `count` sectors from `first` on; pages that hold them already stay unchanged.
    pub(super) fn set_bits(&self, block: u64, first: u64, count: u64, value: bool) -> Result<()> {
        let (offset, base) = self.bits_of(block)?;
        for step in in_units(base.saturating_add(first), count, PAGE_BITS) {
            let at = page_at(offset, &step);
            let already = self.pages.with(at, |page, _| run_length(page, step.within, step.len, value))?;
            if already < step.len {
                self.pages.change(at, |page, _| fill(page, step.within, step.len, value))?;
            }
        }
        Ok(())
    }
}

/// Where the page stands that holds some of the bits of a bitmap.
fn page_at(bitmap: u64, step: &Step) -> u64 {
    bitmap.saturating_add(step.unit.saturating_mul(PAGE))
}

fn bit(page: &[u8], number: u64) -> bool {
    page.get(index(number / 8)).is_some_and(|byte| byte & (1 << (number % 8)) != 0)
}

/// How many bits from `from` on (at most `upto`) have this value.
fn run_length(page: &[u8], from: u64, upto: u64, value: bool) -> u64 {
    for step in in_units(from, upto, 64) {
        let word = le_u64(page, index(step.unit.saturating_mul(8)));
        let differs = (if value { !word } else { word }) >> (step.within % 64);
        let same = u64::from(differs.trailing_zeros());
        if same < step.len {
            return step.done.saturating_add(same);
        }
    }
    upto
}

/// Sets or clears so many bits.
pub(super) fn fill(page: &mut [u8], from: u64, count: u64, value: bool) {
    for step in in_units(from, count, 8) {
        let Some(byte) = page.get_mut(index(step.unit)) else { break };
        // The bits of the byte from `within` on, so many of them.
        let mask = ((0xFF_u16 << (step.within % 8)) & !(0xFF_u16 << step.within.saturating_add(step.len).min(8)))
            .to_le_bytes()[0];
        *byte = if value { *byte | mask } else { *byte & !mask };
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
