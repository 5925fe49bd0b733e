//! Work on a whole machine that was cut short: carried on, or given up.

use super::folder::Locked;
use super::forget::{self, ForgetOutcome};
use super::switch::{self, Begun};
use crate::error::Result;
use crate::family::Guard;
use crate::progress::Progress;
use crate::sidecar::Header;

/// Does a checkpoint, or a way back to one, to its end that was cut short.
///
/// # Errors
/// `Refused` when an image was written to meanwhile, or somebody is at it; `UnderWay` when it could not be finished.
pub(crate) fn carry_on(begun: &Header, guard: &Guard) -> Result<Begun> {
    let locked = Locked::take(begun.image())?;
    let guard = guard.clone().of_grove(locked.grove.folder());
    switch::carry_on(locked.grove.folder(), locked.grove.catalogue(), begun, &guard)
}

/// Takes it back; where an image was written to, each disk stays as it reads now.
///
/// # Errors
/// As [`carry_on`].
pub(crate) fn give_up(begun: &Header, guard: &Guard) -> Result<Begun> {
    let locked = Locked::take(begun.image())?;
    let guard = guard.clone().of_grove(locked.grove.folder());
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
