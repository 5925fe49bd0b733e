//! The findings of one table, which may have millions of entries.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use super::Finding;

/// Findings of one kind that are worth listing.
const MOST_OF_A_KIND: usize = 50;

/// Findings, of each kind no more than are worth listing; the last of them tells the content that all others touch.
#[derive(Default)]
pub(crate) struct FindingList {
    found: Vec<Finding>,
    /// How many of each code there were, and where the last listed one stands.
    counts: BTreeMap<&'static str, (usize, usize)>,
}

impl FindingList {
    pub(crate) fn push(&mut self, finding: Finding) {
        let (count, last) = self.counts.entry(finding.code()).or_default();
        *count = count.saturating_add(1);
        match (*count).cmp(&MOST_OF_A_KIND) {
            Ordering::Greater => {
                self.found[*last].more = true;
                self.found[*last].content.join(&finding.content);
            }
            _ => {
                *last = self.found.len();
                self.found.push(finding);
            }
        }
    }

    pub(crate) fn into_vec(self) -> Vec<Finding> {
        self.found
    }
}
