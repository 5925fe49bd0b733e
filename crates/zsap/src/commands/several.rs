//! The same for each of several paths: one that fails takes no other with it.

use std::path::{Path, PathBuf};

use serde::Serialize;
use serde_json::Value;
use zestful_sapling::Error;
use zestful_sapling::ops::{Operation, Planned};

use super::run::finish;
use crate::advice;
use crate::console::Console;
use crate::exit::{Failure, Outcome, status};
use crate::report::json::ErrorTold;
use crate::report::several::{Failed, Several};
use crate::watch;

/// What came of one path.
pub(super) struct Told {
    document: Value,
    lines: Vec<String>,
    outcome: Outcome,
}

impl Told {
    pub(super) fn new(document: &impl Serialize, lines: Vec<String>, outcome: Outcome) -> Result<Self, Failure> {
        let document = serde_json::to_value(document).map_err(std::io::Error::other)?;
        Ok(Self { document, lines, outcome })
    }
}

/// Plans an operation and runs it, or tells the plan where only that was asked for.
pub(super) fn one<O>(
    console: &Console,
    operation: O,
    told: impl FnOnce(<O::Planned as Planned>::Outcome) -> Result<Told, Failure>,
) -> Result<Told, Failure>
where
    O: Operation + Clone,
    O::Planned: Sync,
    <O::Planned as Planned>::Outcome: Send,
{
    let plan = watch::patiently(console, || operation.clone().plan())?;
    if console.common().plan {
        return Told::new(plan.summary(), console.plan_lines(plan.summary()), Outcome::Done);
    }
    console.tell_warnings(plan.summary());
    told(finish(console, &plan)?)
}

/// Does the same for each path, in this order. For one path the answer is what came of it; for several it is a list.
pub(super) fn each(
    console: &Console,
    paths: &[PathBuf],
    mut one: impl FnMut(&Path) -> Result<Told, Failure>,
) -> Result<Outcome, Failure> {
    if let [path] = paths {
        let told = one(path)?;
        console.answer(&told.document, told.lines)?;
        return Ok(told.outcome);
    }
    let (mut several, mut worst, mut failed_with) = (Several::default(), Outcome::Done, None);
    for path in paths {
        let done = if watch::is_stopped() { Err(Error::Cancelled.into()) } else { one(path) };
        match done {
            Ok(told) => {
                console.say(&told.lines)?;
                several.answers.push(told.document);
                worst = worst.max(told.outcome);
            }
            Err(Failure::Library(error)) => {
                let (message, next) = (error.with_causes(), advice::next(&error));
                if !console.json() {
                    console.error(&message);
                    advice::lines(&next, "  ").iter().for_each(|line| console.hint(line));
                }
                failed_with.get_or_insert(status(&error));
                let error = ErrorTold { kind: error.family().name(), message, next: advice::first(&next) };
                several.failed.push(Failed { path: path.as_path().into(), error });
            }
            Err(other) => return Err(other),
        }
    }
    if console.json() {
        console.document(&several)?;
    } else if !several.failed.is_empty() {
        console.hint(&format!("{} of {} failed", several.failed.len(), paths.len()));
    }
    match failed_with {
        // Damage that was found says more than that another one could not be read.
        Some(status) if worst != Outcome::FoundDamage => Err(Failure::Told(status)),
        _ => Ok(worst),
    }
}
