//! `zsap merge`.

use std::path::PathBuf;

use zestful_sapling::ops::{self, MergeEstimate, MergeOutcome, Operation, Plan, Planned};

use super::run::{asked, finish};
use crate::args::merge::Merge;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::BothWays;
use crate::report::text;
use crate::watch;

pub(super) fn run(console: &Console, typed: &Merge) -> Result<Outcome, Failure> {
    let merge = with(ops::Merge::new(&typed.child), typed.into.clone(), ops::Merge::with_ancestor);
    let merge = with(merge, typed.keep_name.map(Into::into), ops::Merge::with_name_of);
    let merge = asked(merge, Some(&typed.options.search), &typed.options.force);
    let plan = watch::patiently(console, || merge.clone().plan())?;
    if show_both(console, plan.summary(), plan.estimates())? {
        return Ok(Outcome::Done);
    }
    let outcome = finish(console, &plan)?;
    console.answer(&outcome, merged(console, &outcome))?;
    Ok(Outcome::Done)
}

/// The plan, and what the other way would have cost.
fn show_both(console: &Console, plan: &Plan, estimates: &[MergeEstimate]) -> Result<bool, Failure> {
    if console.common().plan && console.json() {
        console.document(&BothWays { plan, ways: estimates })?;
        return Ok(true);
    }
    if !console.show_plan(plan)? {
        return Ok(false);
    }
    console.say(estimates.iter().map(|way| text::wrapped(&told(console, way, estimates), "     ")))?;
    Ok(true)
}

/// What a way costs, and why it was chosen, or not.
fn told(console: &Console, way: &MergeEstimate, estimates: &[MergeEstimate]) -> String {
    if let Some(why) = &way.refused {
        return format!("     {}: not possible: {}", way.direction, text::message(why));
    }
    let other = estimates.iter().find(|other| other.direction != way.direction && other.refused.is_none());
    let (mark, why) = match (way.chosen, other) {
        (false, _) => ("  ", ""),
        (true, None) => ("->", " (chosen: the only way)"),
        (true, Some(other)) if other.bytes_moved > way.bytes_moved => ("->", " (chosen: it moves less)"),
        (true, Some(_)) => ("->", " (chosen: the other one moves no less)"),
    };
    let cost = format!(
        "  {mark} {}{why}: {} to move, {} more on the host at the most",
        way.direction,
        console.size(way.bytes_moved),
        console.size(way.peak_extra_space),
    );
    // A file that takes another's name is changed, and the name that it had goes.
    let renamed: Vec<PathBuf> = way.changed.iter().filter(|path| way.removed.contains(path)).cloned().collect();
    let changed: Vec<PathBuf> = way.changed.iter().filter(|path| !way.removed.contains(path)).cloned().collect();
    match renamed.is_empty() {
        true => format!("{cost}; writes into {}, removes {}", names(&changed), names(&way.removed)),
        false => format!(
            "{cost}; writes into {}, which then takes the name {}; the name {} goes",
            names(&renamed),
            names(&changed),
            names(&way.removed)
        ),
    }
}

fn names(paths: &[PathBuf]) -> String {
    paths.iter().map(|path| text::name(path)).collect::<Vec<_>>().join(", ")
}

pub(super) fn merged(console: &Console, outcome: &MergeOutcome) -> Vec<String> {
    let mut lines = vec![format!("merged into {}", console.strong(&text::path(&outcome.path)))];
    lines.push(format!("  moved {}", console.size(outcome.bytes_moved)));
    lines.extend(outcome.removed.iter().map(|path| format!("  removed {}", text::path(path))));
    lines.extend(outcome.relinked.iter().map(|path| format!("  told {}", text::path(path))));
    lines.extend(outcome.missing.iter().map(|path| {
        format!("  {} {}: was not there, or has another parent now", console.alarming("not told"), text::path(path))
    }));
    lines
}
