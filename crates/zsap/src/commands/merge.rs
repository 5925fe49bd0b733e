//! `zsap merge` and `zsap transplant`, and `zsap resume` and `zsap abandon` for what was cut short of them.

use std::path::Path;

use serde::Serialize;
use serde_json::json;
use zestful_sapling::family::{Guard, Override, Search};
use zestful_sapling::ops::{
    KeepName, Merge, MergeOutcome, Plan, Resumed, Transplant, TransplantOutcome, Weighed, abandon_guarded,
    resume_guarded,
};

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) struct MergeRequest<'a> {
    pub(super) child: &'a Path,
    pub(super) into: Option<&'a Path>,
    pub(super) keep: Option<KeepName>,
    pub(super) search: Search,
    pub(super) overrides: Vec<Override>,
}

pub(super) fn merge(console: &Console, request: MergeRequest<'_>) -> Result<Outcome, Failure> {
    let mut merge =
        Merge::new(request.child).with_ancestor(request.into.map(Path::to_owned)).with_search(request.search);
    if let Some(keep) = request.keep {
        merge = merge.with_name_of(keep);
    }
    let merge = request.overrides.into_iter().fold(merge, Merge::with_override);
    let plan = watch::patiently(console, || merge.clone().plan())?;
    if show_both(console, plan.summary(), plan.weighed())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::run(console, |progress| plan.run(progress))?;
    console.answer(&outcome, merged(console, &outcome))?;
    Ok(Outcome::Done)
}

#[derive(Serialize)]
struct BothWays<'a> {
    #[serde(flatten)]
    plan: &'a Plan,
    ways: &'a [Weighed],
}

/// The plan, and what the other way would have cost.
fn show_both(console: &Console, plan: &Plan, weighed: &[Weighed]) -> Result<bool, Failure> {
    if console.common().plan && console.json() {
        console.document(&BothWays { plan, ways: weighed })?;
        return Ok(true);
    }
    if !console.show_plan(plan)? {
        return Ok(false);
    }
    console.say(weighed.iter().map(|way| {
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

fn merged(console: &Console, outcome: &MergeOutcome) -> Vec<String> {
    let mut lines = vec![format!("merged into {}", console.strong(&text::path(&outcome.path)))];
    lines.push(format!("  moved {}", console.size(outcome.bytes_moved)));
    lines.extend(outcome.removed.iter().map(|path| format!("  removed {}", text::path(path))));
    lines.extend(outcome.relinked.iter().map(|path| format!("  told {}", text::path(path))));
    lines.extend(outcome.missing.iter().map(|path| {
        format!("  {} {}: was not there, or has another parent now", console.alarming("not told"), text::path(path))
    }));
    lines
}

pub(super) fn transplant(
    console: &Console,
    child: &Path,
    base: &Path,
    overrides: Vec<Override>,
) -> Result<Outcome, Failure> {
    let request = overrides.into_iter().fold(Transplant::new(child, base), Transplant::with_override);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::run(console, |progress| plan.run(progress))?;
    console.answer(&outcome, transplanted(console, &outcome))?;
    Ok(Outcome::Done)
}

fn transplanted(console: &Console, outcome: &TransplantOutcome) -> Vec<String> {
    outcome.unrecorded.iter().for_each(|why| console.warn(why));
    vec![
        format!("{} grows from {} now", console.strong(&text::path(&outcome.path)), text::path(&outcome.parent)),
        format!("  wrote {} into it that the new base has otherwise", console.size(outcome.bytes_written)),
    ]
}

fn guard(search: Search, overrides: Vec<Override>) -> Guard {
    overrides.into_iter().fold(Guard::new(), Guard::with_override).with_search(search)
}

pub(super) fn carry_on(
    console: &Console,
    path: &Path,
    search: Search,
    overrides: Vec<Override>,
) -> Result<Outcome, Failure> {
    if refuses_plan(console, path)? {
        return Ok(Outcome::Done);
    }
    let guard = guard(search, overrides);
    let resume = |progress: &_| watch::patiently(console, || resume_guarded(path, &guard, progress));
    let outcome = watch::run(console, resume)?;
    let lines = match &outcome {
        Resumed::Merge(outcome) => merged(console, outcome),
        Resumed::Transplant(outcome) => transplanted(console, outcome),
        Resumed::Move(outcome) => super::kin::moved(console, "the image", outcome),
        Resumed::Over(outcome) => {
            vec![format!(
                "what was begun with {} was over; the copies of its journal are gone",
                text::path(&outcome.path)
            )]
        }
    };
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}

pub(super) fn give_up(
    console: &Console,
    path: &Path,
    search: Search,
    overrides: Vec<Override>,
) -> Result<Outcome, Failure> {
    if refuses_plan(console, path)? {
        return Ok(Outcome::Done);
    }
    let guard = guard(search, overrides);
    let given_up = watch::patiently(console, || abandon_guarded(path, &guard))?;
    let lines = [
        format!("gave up {} of {}", given_up.work, console.strong(&text::path(&given_up.path))),
        "  it reads as before; what was written already stays and takes its space".to_owned(),
    ];
    console.answer(&json!({ "abandoned": given_up.path.to_string_lossy(), "work": given_up.work }), lines)?;
    Ok(Outcome::Done)
}

/// With `--plan`, says what is under way and changes nothing.
fn refuses_plan(console: &Console, path: &Path) -> Result<bool, Failure> {
    if !console.common().plan {
        return Ok(false);
    }
    let folder = if path.is_dir() { path } else { path.parent().unwrap_or(path) };
    let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    let status = zestful_sapling::family::status_of(folder)?;
    let lines: Vec<String> = match status.under_way.is_empty() {
        true => vec!["nothing is under way there".to_owned()],
        false => status.under_way.iter().map(|work| text::wrapped(&text::safe(&work.message), "  ")).collect(),
    };
    console.answer(&json!({ "under_way": status.under_way }), lines)?;
    Ok(true)
}
