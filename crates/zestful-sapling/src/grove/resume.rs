//! Work on a whole machine that was cut short: seen to by the next command, carried on, or given up.

use super::begun::Begun;
use super::copying;
use super::folder::{Locked, unfinished};
use super::forget::{self, ForgetOutcome};
use super::switch;
use crate::error::Result;
use crate::family::Guard;
use crate::operation::Plan;
use crate::progress::Progress;
use crate::sidecar::{Header, Work};

/// The plan of something, of which the first step is to see to what was begun before. By itself that is only done where
/// it takes an instant.
pub(in crate::grove) fn plan_to_settle(begun: &Header, operation: &'static str) -> Result<Plan> {
    if begun.work == Work::Forget {
        return Err(unfinished(begun));
    }
    let step = format!("finish {} that was begun {:.0} and cut short, or take it back", begun.work, begun.started);
    Ok(Plan::of(operation, vec![step]))
}

/// Sees to what was begun before with a grove, if anything was.
pub(in crate::grove) fn settle_begun(locked: &Locked, guard: &Guard) -> Result<Option<Begun>> {
    let (folder, catalogue) = (locked.grove.folder(), locked.grove.catalogue());
    let see_to = |begun: &Header| match begun.work {
        Work::Copy => copying::take_back(begun, guard),
        _ => switch::recover(folder, catalogue, begun, guard),
    };
    locked.begun.as_ref().map(see_to).transpose()
}

/// Does a checkpoint, or a way back to one, to its end that was cut short.
///
/// # Errors
/// `Refused` when an image was written to meanwhile, or somebody is at it; `UnderWay` when it could not be finished.
pub(crate) fn carry_on(begun: &Header, guard: &Guard) -> Result<Begun> {
    let locked = Locked::take(begun.image())?;
    let guard = guard.clone().of_grove(locked.grove.folder());
    if begun.work == Work::Copy {
        return copying::take_back(begun, &guard);
    }
    switch::carry_on(locked.grove.folder(), locked.grove.catalogue(), begun, &guard)
}

/// Takes it back; where an image was written to, each disk stays as it reads now.
///
/// # Errors
/// As [`carry_on`].
pub(crate) fn give_up(begun: &Header, guard: &Guard) -> Result<Begun> {
    let locked = Locked::take(begun.image())?;
    let guard = guard.clone().of_grove(locked.grove.folder());
    if begun.work == Work::Copy {
        return copying::take_back(begun, &guard);
    }
    switch::give_up(locked.grove.folder(), locked.grove.catalogue(), begun, &guard)
}

/// Goes on forgetting checkpoints.
///
/// # Errors
/// As [`carry_on`].
pub(crate) fn carry_on_forgetting(begun: &Header, guard: &Guard, progress: &Progress) -> Result<ForgetOutcome> {
    let locked = Locked::take(begun.image())?;
    forget::carry_on(&locked.grove, begun, guard, progress)
}

/// Gives the checkpoints their names back, as long as nothing of them is gone.
///
/// # Errors
/// `Refused` when something is.
pub(crate) fn give_up_forgetting(begun: &Header, guard: &Guard) -> Result<()> {
    let locked = Locked::take(begun.image())?;
    forget::give_up(&locked.grove, begun, guard)
}
