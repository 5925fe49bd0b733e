//! `zsap repair`: damage is put right, after the plan was shown, and a repair taken back.

use std::path::Path;

use zestful_sapling::Error;
use zestful_sapling::finding::{Finding, Severity};
use zestful_sapling::grove::{Grove, Rebuild};
use zestful_sapling::ops::{Operation, Planned};
use zestful_sapling::repair::{self, RepairOutcome, RepairPlan, RepairStep, UndoRepair};

use super::grove::rebuilt;
use super::run::{asked, finish, perform};
use crate::args::repair::Repair;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::impact::{self, ImpactTold};
use crate::report::json::RepairPlanned;
use crate::report::text;
use crate::{advice, watch};

pub(super) fn run(console: &Console, typed: &Repair) -> Result<Outcome, Failure> {
    if typed.path.is_dir() {
        return of_machine(console, typed);
    }
    if typed.undo {
        return take_back(console, typed);
    }
    let wanted = with(repair::Repair::new(&typed.path), typed.format.map(Into::into), repair::Repair::with_format);
    let wanted = typed.lossy.iter().fold(wanted, |wanted, code| wanted.losing(code.as_str()));
    let wanted = asked(wanted, Some(&typed.search), &typed.force);
    let plan = watch::patiently(console, || wanted.clone().plan())?;
    let impact = match typed.impact {
        true => Some(watch::run(console, |progress| plan.impact(progress))?),
        false => None,
    };
    if console.common().plan {
        let mut lines = planned(console, typed, &plan);
        let warnings = plan.summary().warnings.iter();
        lines.extend(warnings.map(|warning| text::wrapped(&format!("  warning: {}", text::safe(warning)), "    ")));
        let next = advice::lines(&next_of(typed, &plan), "  ");
        lines.extend(next.iter().cloned());
        let told = impact.as_ref().map(ImpactTold::of_losses).unwrap_or_default();
        let at = lines.len() - next.len();
        lines.splice(at..at, impact.iter().flat_map(|impact| impact::lines_of_losses(console, impact)));
        console.answer(&RepairPlanned::of(&plan, told), lines)?;
        return Ok(Outcome::Done);
    }
    if !plan.steps().is_empty() {
        console.show_plan(plan.summary())?;
        if !console.common().yes {
            console.say(planned(console, typed, &plan))?;
            console.say(impact.iter().flat_map(|impact| impact::lines_of_losses(console, impact)))?;
            let question = format!("mend {} as shown", typed.path.display());
            if !console.confirms(&question) {
                let message = "nothing was changed: nobody said yes to the plan, and --yes says it".to_owned();
                return Err(Failure::Unsafe(message));
            }
        }
    }
    let outcome = finish(console, &plan)?;
    console.answer(&outcome, mended(console, typed, &outcome))?;
    Ok(if outcome.damaged { Outcome::FoundDamage } else { Outcome::Done })
}

/// What would be done, what could be, and what would stay.
fn planned(console: &Console, typed: &Repair, plan: &RepairPlan) -> Vec<String> {
    let path = console.strong(&text::path(&typed.path));
    let mut lines = vec![match plan.steps().is_empty() {
        true => format!("{path}: there is nothing that could be mended without a loss"),
        false => format!("plan for the repair of {path}: nothing was changed"),
    }];
    if plan.steps().is_empty() && plan.offered().is_empty() && !plan.left().iter().any(is_damage) {
        lines = vec![format!("{path}: there is nothing to mend")];
    }
    lines.extend(plan.steps().iter().flat_map(|step| step_lines(console, step)));
    if !plan.steps().is_empty() {
        let sum = if plan.content().is_empty() { "all content stays".to_owned() } else { plan.content().to_string() };
        lines.push(text::wrapped(&format!("  in all: {sum}"), "    "));
        lines.push(text::wrapped(
            &format!(
                "  what is overwritten is kept first, in an undo file beside the image; all in all {} are written",
                console.size(plan.summary().bytes_written)
            ),
            "    ",
        ));
    }
    lines.extend(offered(console, plan.offered(), plan.steps()));
    lines.extend(left(console, plan.left(), plan.offered()));
    lines
}

/// What may be typed once the plan was read.
fn next_of(typed: &Repair, plan: &RepairPlan) -> Vec<advice::Next> {
    let does_it = (!plan.steps().is_empty()).then(|| advice::mend(&typed.path, &typed.lossy));
    does_it.into_iter().chain(more_lossy(typed, plan.offered())).collect()
}

/// The same with all that could be given up as well.
fn more_lossy(typed: &Repair, offered: &[RepairStep]) -> Option<advice::Next> {
    let codes = typed.lossy.iter().cloned().chain(offered.iter().map(|step| step.code.to_owned()));
    (!offered.is_empty()).then(|| advice::mend_plan(&typed.path, &codes.collect::<Vec<_>>()))
}

fn step_lines(console: &Console, step: &RepairStep) -> Vec<String> {
    let word = if step.lossy { console.alarming("with loss") } else { "safe".to_owned() };
    let pad = if step.lossy { "  " } else { "       " };
    let indent = " ".repeat(13);
    let mut lines = vec![
        format!("  {word}{pad}{}", step.code),
        text::wrapped(&format!("{indent}{}", text::safe(&step.what)), &indent),
    ];
    if !step.content.is_empty() {
        lines.push(text::wrapped(&format!("{indent}{}", step.content), &indent));
    }
    lines
}

/// What could be mended with a loss that nobody has consented to.
fn offered(console: &Console, offered: &[RepairStep], steps: &[RepairStep]) -> Vec<String> {
    if offered.is_empty() {
        return Vec::new();
    }
    let more = if steps.is_empty() { "" } else { " beside that" };
    let mut lines = vec![format!("  what could be mended{more} only by giving something up:")];
    lines.extend(offered.iter().flat_map(|step| step_lines(console, step)));
    lines
}

fn is_damage(finding: &Finding) -> bool {
    finding.severity() == Severity::Error
}

/// What stays damaged, and is not offered to be mended.
fn left(console: &Console, left: &[Finding], offered: &[RepairStep]) -> Vec<String> {
    let stays = left.iter().filter(|finding| is_damage(finding));
    let stays = stays.filter(|finding| offered.iter().all(|step| step.code != finding.code()));
    let told = stays.flat_map(|finding| {
        let indent = " ".repeat(13);
        [
            format!("  {}     {}", console.alarming("stays"), finding.code()),
            text::wrapped(&format!("{indent}{}", text::safe(&finding.message())), &indent),
        ]
    });
    told.collect()
}

fn mended(console: &Console, typed: &Repair, outcome: &RepairOutcome) -> Vec<String> {
    let path = console.strong(&text::path(&typed.path));
    let mut lines = vec![match (outcome.steps.is_empty(), outcome.damaged) {
        (true, false) => format!("{path}: there was nothing to mend"),
        (true, true) => format!("{path}: {}, and nothing of it could be mended so", console.alarming("damaged")),
        (false, false) => format!("mended {path}: it is whole again"),
        (false, true) => format!("mended a part of {path}: it is still {}", console.alarming("damaged")),
    }];
    lines.extend(outcome.steps.iter().flat_map(|step| step_lines(console, step)));
    if !outcome.content.is_empty() {
        lines.push(text::wrapped(&format!("  in all: {}", outcome.content), "    "));
    }
    lines.extend(offered(console, &outcome.offered, &outcome.steps));
    lines.extend(left(console, &outcome.left, &outcome.offered));
    let mut next: Vec<advice::Next> = more_lossy(typed, &outcome.offered).into_iter().collect();
    if let Some(undo) = &outcome.undo_file {
        lines.push(text::wrapped(&format!("  what was overwritten is kept in {}", text::path(undo)), "    "));
        next.push(advice::take_back(&typed.path));
    }
    lines.extend(advice::lines(&next, "  "));
    lines
}

fn take_back(console: &Console, typed: &Repair) -> Result<Outcome, Failure> {
    let undo = asked(UndoRepair::new(&typed.path), Some(&typed.search), &typed.force);
    let plan = watch::patiently(console, || undo.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    if !console.common().yes {
        console.say(plan.summary().steps.iter().map(|step| text::wrapped(&text::safe(step), "  ")))?;
        if !console.confirms(&format!("take the last repair of {} back", typed.path.display())) {
            return Err(Failure::Unsafe("nothing was changed: nobody said yes, and --yes says it".to_owned()));
        }
    }
    let outcome = finish(console, &plan)?;
    let mut lines = vec![
        format!("took the repair of {} back: it is bit for bit what it was", console.strong(&text::path(&typed.path))),
        text::wrapped(&format!("  damaged again: {}", outcome.codes.join(", ")), "    "),
    ];
    if outcome.earlier > 0 {
        lines.push(format!(
            "  {} before that can be taken back as well",
            text::count(outcome.earlier, "repair", "repairs")
        ));
        lines.extend(advice::lines(&[advice::take_back(&typed.path)], "  "));
    }
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}

/// The catalogue of a machine is made anew where it is what is broken.
fn of_machine(console: &Console, typed: &Repair) -> Result<Outcome, Failure> {
    let path: &Path = &typed.path;
    match Grove::open(path) {
        Err(Error::Damaged(_)) => {}
        Err(other) => return Err(other.into()),
        Ok(_) => {
            return Err(Error::usage(
                format!("the catalogue of {} is whole", path.display()),
                "name the image that is damaged; a check of the disks tells which",
            )
            .into());
        }
    }
    if typed.undo || !typed.lossy.is_empty() {
        return Err(Error::usage(
            format!("the catalogue of {} is made anew from the files", path.display()),
            "nothing of that is given up by a code, or undone: the damaged catalogue stays beside the new one",
        )
        .into());
    }
    if !console.common().plan && !console.common().yes && !console.confirms("make the catalogue anew from the files") {
        return Err(Failure::Unsafe("nothing was changed: nobody said yes; with --yes it is not asked".to_owned()));
    }
    let Some(outcome) = perform(console, &Rebuild::new(path))? else { return Ok(Outcome::Done) };
    console.answer(&outcome, rebuilt(console, &outcome))?;
    Ok(Outcome::Done)
}
