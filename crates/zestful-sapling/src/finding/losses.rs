//! What damage means for the content of a disk.

use std::ops::Range;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::ranges::Ranges;
use crate::size::format_size;

/// Which ranges of a disk are lost, and of which nobody can say whether they are right. What lies in them, partitions
/// and files, is not told yet.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[non_exhaustive]
pub struct Losses {
    /// Nothing is left of them.
    pub lost: Ranges,
    /// They can be read, or could be after a repair, and what is read may be wrong.
    pub doubtful: Ranges,
}

impl Losses {
    /// Nothing is lost, and these ranges may be wrong.
    pub fn doubting(doubtful: Ranges) -> Self {
        Self { lost: Ranges::default(), doubtful }
    }

    /// Whether no content is touched.
    pub fn is_empty(&self) -> bool {
        self.lost.is_empty() && self.doubtful.is_empty()
    }

    /// A range of which nothing is left.
    pub fn lose(&mut self, range: Range<u64>) {
        self.doubtful.remove(range.clone());
        self.lost.add(range);
    }

    /// A range that may be wrong; what is lost stays lost.
    pub fn doubt(&mut self, range: Range<u64>) {
        self.doubtful.add(range.clone());
        let lost: Vec<_> = self.lost.within(range).collect();
        lost.into_iter().for_each(|range| self.doubtful.remove(range.offset..range.end()));
    }

    /// What of it lies in these ranges.
    pub fn within(&self, ranges: &Ranges) -> Self {
        let part = |of: &Ranges| {
            let inside = ranges.list().iter().flat_map(|range| of.within(range.offset..range.end()));
            inside.map(|range| range.offset..range.end()).collect()
        };
        Self { lost: part(&self.lost), doubtful: part(&self.doubtful) }
    }

    /// Adds all of another.
    pub fn join(&mut self, other: &Self) {
        other.doubtful.list().iter().for_each(|range| self.doubt(range.offset..range.end()));
        other.lost.list().iter().for_each(|range| self.lose(range.offset..range.end()));
    }
}

/// The sums, in the words that every part of the program uses for them.
///
/// ```
/// use zestful_sapling::finding::Losses;
/// let mut losses = Losses::default();
/// assert_eq!(losses.to_string(), "no content is touched");
/// losses.lose(4 << 20..6 << 20);
/// assert_eq!(losses.to_string(), "2 MiB of the disk are lost (at byte 4194304)");
/// losses.doubt(0..4096);
/// losses.doubt(8 << 20..(8 << 20) + 4096);
/// let text = losses.to_string();
/// assert!(text.ends_with(", 8 KiB in 2 ranges are doubtful (the first at byte 0)"));
/// ```
impl std::fmt::Display for Losses {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let told = [(&self.lost, "lost"), (&self.doubtful, "doubtful")];
        let mut separator = "";
        for (ranges, fate) in told {
            let Some(first) = ranges.list().first() else { continue };
            let of_disk = if separator.is_empty() { " of the disk" } else { "" };
            write!(f, "{separator}{}{of_disk}", format_size(ranges.bytes()))?;
            match ranges.list().len() {
                1 => write!(f, " are {fate} (at byte {})", first.offset)?,
                many => write!(f, " in {many} ranges are {fate} (the first at byte {})", first.offset)?,
            }
            separator = ", ";
        }
        if separator.is_empty() { f.write_str("no content is touched") } else { Ok(()) }
    }
}
