//! The run of a merge: from its beginning, from wherever it was cut short, or back.

use std::sync::Arc;

use super::finish::{self, MergeOutcome};
use super::record::MergePayload;
use super::{data, relatives};
use crate::error::{Error, Refusal, Result};
use crate::family::Guard;
use crate::progress::Progress;
use crate::sidecar::{Header, Journal, Reader};
use crate::storage::Held;
use crate::transfer::Mark;

/// Goes on with a merge from wherever it is.
pub(crate) fn carry_on(begun: &Header, held: &Arc<Held>, guard: &Guard, progress: &Progress) -> Result<MergeOutcome> {
    begun.refuse_unproven()?;
    let (journal, marks) = Journal::<MergePayload>::reopen(begun)?;
    let work = journal.record().clone();
    let take = || {
        guard.refuse_other_host(&work.header)?;
        relatives::take(&work, held)?;
        guard.refuse_writers(work.header.changing())?;
        relatives::count_again(&work, held, guard)
    };
    let children = take().map_err(|error: Error| error.under_way(work.header.image()))?;
    finish(journal, &marks, &children, held, guard, progress)
}

/// Moves the data that is not moved yet, and then names and records; all files are locked by now.
pub(super) fn finish(
    journal: Journal<MergePayload>,
    marks: &[Mark],
    children: &[Reader],
    held: &Arc<Held>,
    guard: &Guard,
    progress: &Progress,
) -> Result<MergeOutcome> {
    let work = journal.record().clone();
    let run = || {
        let moved = match marks.contains(&Mark::Moved) {
            true => 0,
            false => data::run(&journal, marks, held, progress)?,
        };
        progress.check()?;
        let mut outcome = finish::run(&work, children, held, guard)?;
        outcome.bytes_moved = moved;
        Ok(outcome)
    };
    let outcome = run().map_err(|error: Error| error.under_way(work.header.image()))?;
    journal.end()?;
    Ok(outcome)
}

/// Gives a merge up whose data is not all moved yet: the child and all that grew from it read as before.
pub(crate) fn give_up(begun: &Header, guard: &Guard) -> Result<()> {
    let (journal, marks) = Journal::<MergePayload>::reopen(begun)?;
    let work = journal.record().clone();
    let held = Arc::new(Held::default());
    relatives::take(&work, &held)?;
    guard.refuse_writers(work.header.changing())?;
    if marks.contains(&Mark::Moved) && finish::has_begun(&work) {
        return Err(Error::refused(
            Refusal::UnderWay { image: work.header.image().to_owned(), must_go_on: true },
            format!(
                "all data of {} has been moved, and its relatives record the merged image already",
                work.header.image().display()
            ),
            "only going on is left",
        ));
    }
    data::take_back(&work, &held)?;
    journal.end()
}
