//! The one way in which a command runs an operation of the library: plan it, show the plan, run it.

use zestful_sapling::Error;
use zestful_sapling::error::Refusal;
use zestful_sapling::family::Override;
use zestful_sapling::ops::{Operation, Planned};

use crate::args::options::SearchOption;
use crate::console::Console;
use crate::exit::Failure;
use crate::watch;

/// An operation with what was typed about relatives and overrides.
pub(super) fn asked<O: Operation>(operation: O, search: Option<&SearchOption>, force: &[Override]) -> O {
    let operation = match search {
        Some(search) => operation.with_search(search.search()),
        None => operation,
    };
    force.iter().copied().fold(operation, Operation::with_override)
}

/// Plans and runs; `None` when only the plan was asked for.
pub(super) fn perform<O>(console: &Console, operation: &O) -> Result<Option<Outcome<O>>, Failure>
where
    O: Operation + Clone,
    O::Planned: Sync,
    Outcome<O>: Send,
{
    let plan = watch::patiently(console, || operation.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(None);
    }
    finish(console, &plan).map(Some)
}

/// Runs a plan that was shown.
pub(super) fn finish<P>(console: &Console, plan: &P) -> Result<P::Outcome, Failure>
where
    P: Planned + Sync,
    P::Outcome: Send,
{
    Ok(watch::run(console, |progress| watch::patiently(console, || plan.run(progress)))?)
}

/// Plans something that a device's content may be in the way of: asks, or takes `--yes` for the answer.
pub(super) fn perform_on_device<O>(console: &Console, operation: &O) -> Result<Option<Outcome<O>>, Failure>
where
    O: Operation + Clone,
    O::Planned: Sync,
    Outcome<O>: Send,
{
    let allowed = || operation.clone().with_override(Override::DeviceContent);
    let plan = |yes: bool| watch::patiently(console, || if yes { allowed() } else { operation.clone() }.plan());
    let plan = match plan(console.common().yes) {
        Err(Error::Refused(Refusal::HasContent { .. }, advice)) if console.confirms(&advice.message) => plan(true),
        other => other,
    }?;
    if console.show_plan(plan.summary())? {
        return Ok(None);
    }
    finish(console, &plan).map(Some)
}

type Outcome<O> = <<O as Operation>::Planned as Planned>::Outcome;
