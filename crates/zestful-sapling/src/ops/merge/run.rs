//! The run of a merge: from its beginning, from wherever it was cut short, or back.

use std::sync::Arc;

use super::finish::{self, MergeOutcome};
use super::{data, relatives};
use crate::error::{Error, Refusal, Result};
use crate::family::Guard;
use crate::progress::Progress;
use crate::sidecar::{Grandchild, Journal, Mark};
use crate::storage::Held;

/// Goes on with a merge from wherever it is.
pub(in crate::ops) fn carry_on(
    journal: Journal,
    marks: &[Mark],
    held: &Arc<Held>,
    guard: &Guard,
    progress: &Progress,
) -> Result<MergeOutcome> {
    let intent = journal.intent().clone();
    let take = || {
        guard.refuse_other_host(&intent)?;
        relatives::take(&intent, held)?;
        guard.refuse_writers(relatives::changing(&intent))?;
        relatives::count_again(&intent, held, guard)
    };
    let children = take().map_err(|error: Error| error.under_way(intent.child()))?;
    finish(journal, marks, &children, held, guard, progress)
}

/// Moves the data that is not moved yet, and then names and records; all files are locked by now.
pub(super) fn finish(
    journal: Journal,
    marks: &[Mark],
    children: &[Grandchild],
    held: &Arc<Held>,
    guard: &Guard,
    progress: &Progress,
) -> Result<MergeOutcome> {
    let intent = journal.intent().clone();
    let run = || {
        let moved = match marks.contains(&Mark::Moved) {
            true => 0,
            false => data::run(&journal, marks, held, progress)?,
        };
        progress.check()?;
        let mut outcome = finish::run(&intent, children, held, guard)?;
        outcome.bytes_moved = moved;
        Ok(outcome)
    };
    let outcome = run().map_err(|error: Error| error.under_way(intent.child()))?;
    journal.end()?;
    Ok(outcome)
}

/// Gives a merge up whose data is not all moved yet: the child and all that grew from it read as before.
pub(in crate::ops) fn give_up(journal: Journal, marks: &[Mark], guard: &Guard) -> Result<()> {
    let intent = journal.intent().clone();
    let held = Arc::new(Held::default());
    relatives::take(&intent, &held)?;
    guard.refuse_writers(relatives::changing(&intent))?;
    if marks.contains(&Mark::Moved) && finish::has_begun(&intent) {
        return Err(Error::refused(
            Refusal::UnderWay,
            format!(
                "all data of {} has been moved, and its relatives record the merged image already",
                intent.child().display()
            ),
            format!("only going on is left: `resume {}`", intent.child().display()),
        ));
    }
    data::take_back(&intent, &held)?;
    journal.end()
}
