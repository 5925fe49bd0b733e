//! Units of which something holds, gathered into rows.

use std::ops::Range;

/// The row that was begun last.
#[derive(Default)]
pub(super) struct Row(Option<Range<u64>>);

impl Row {
    /// One unit more, which follows the last one; a row that it ends is handed over.
    pub(super) fn see(&mut self, unit: Range<u64>, holds: bool, take: &mut dyn FnMut(Range<u64>)) {
        match (&mut self.0, holds) {
            (Some(row), true) => row.end = unit.end,
            (None, true) => self.0 = Some(unit),
            (_, false) => self.0.take().into_iter().for_each(take),
        }
    }

    /// No more follow.
    pub(super) fn end(self, take: &mut dyn FnMut(Range<u64>)) {
        self.0.into_iter().for_each(take);
    }
}
