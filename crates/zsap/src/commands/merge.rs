//! `zsap merge`.

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
    console.say(estimates.iter().map(|way| {
        let cost = format!(
            "  {}: {} to move, {} more at the most; changes {}, removes {}",
            way.direction,
            console.size(way.bytes_moved),
            console.size(way.peak_extra_space),
            names(&way.changed),
            names(&way.removed)
        );
        let cost = match &way.refused {
            None => cost,
            Some(why) => format!("  {}: not possible: {}", way.direction, text::safe(why)),
        };
        text::wrapped(&cost, "    ")
    }))?;
    Ok(true)
}

fn names(paths: &[std::path::PathBuf]) -> String {
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
