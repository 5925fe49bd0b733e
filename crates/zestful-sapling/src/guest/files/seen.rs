//! Which folders of a volume were met already: one that is met twice leads in a circle.

use std::collections::HashMap;

/// Numbers of a page.
const PAGE: u64 = 4096;

/// A set of numbers that lie close together, at an eighth of a byte for each that there may be.
#[derive(Default)]
pub(super) struct Seen(HashMap<u64, Box<[u64; 64]>>);

impl Seen {
    /// Adds a number; `false` when it was there.
    pub(super) fn insert(&mut self, number: u64) -> bool {
        let page = self.0.entry(number / PAGE).or_insert_with(|| Box::new([0; 64]));
        let (word, bit) = ((number % PAGE / 64) as usize, 1 << (number % 64));
        let is_new = page[word] & bit == 0;
        page[word] |= bit;
        is_new
    }

    /// Whether a number was added.
    pub(super) fn contains(&self, number: u64) -> bool {
        let page = self.0.get(&(number / PAGE));
        page.is_some_and(|page| page[(number % PAGE / 64) as usize] & 1 << (number % 64) != 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_number_is_new_once() {
        let mut seen = Seen::default();
        for number in [0, 1, 63, 64, 4095, 4096, u64::MAX, 1 << 40] {
            assert!(!seen.contains(number));
            assert!(seen.insert(number));
            assert!(seen.contains(number));
            assert!(!seen.insert(number));
        }
    }
}
