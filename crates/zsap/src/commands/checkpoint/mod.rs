//! `zsap checkpoint`: taken, gone back to, forgotten, named.

mod list;
mod take;

use zestful_sapling::grove::{self, Begun, DescribeCheckpoint, ForgetOutcome, Present, RevertOutcome, Which};
use zestful_sapling::ops::{Operation, Planned};

use super::run::{asked, finish, perform};
use crate::args::checkpoint::{Checkpoint, Forget, Note, Rename, Revert};
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::ForgetPlanned;
use crate::report::text;
use crate::watch;

pub(super) fn run(console: &Console, typed: &Checkpoint) -> Result<Outcome, Failure> {
    match typed {
        Checkpoint::Take(typed) => take::run(console, typed),
        Checkpoint::List(typed) => list::run(console, &typed.grove),
        Checkpoint::Revert(typed) => revert(console, typed),
        Checkpoint::Forget(typed) => forget(console, typed),
        Checkpoint::Rename(typed) => rename(console, typed),
        Checkpoint::Note(typed) => note(console, typed),
    }
}

fn labels(disks: &[String]) -> String {
    text::safe(&disks.join(", "))
}

/// What became of work that was cut short.
pub(super) fn settled(begun: &Begun) -> String {
    let what = match &begun.checkpoint {
        Some(name) => format!("{} ({})", begun.work, text::safe(name)),
        None => begun.work.to_string(),
    };
    match begun.done {
        true => format!("finished {what}, which was cut short"),
        false => format!("took back {what}, which was cut short; all disks are as before"),
    }
}

fn revert(console: &Console, typed: &Revert) -> Result<Outcome, Failure> {
    let present = typed.keep_as.clone().map_or(Present::Discarded, Present::KeptAs);
    let revert = grove::Revert::new(&typed.grove, &typed.name, present).with_note(&typed.note);
    let Some(outcome) = perform(console, &asked(revert, None, &typed.force))? else { return Ok(Outcome::Done) };
    console.answer(&outcome, reverted(console, &outcome))?;
    Ok(Outcome::Done)
}

fn reverted(console: &Console, outcome: &RevertOutcome) -> Vec<String> {
    let mut lines: Vec<String> = outcome.begun.iter().map(settled).collect();
    let (machine, name) = (text::safe(&outcome.machine), console.strong(&text::safe(&outcome.name)));
    lines.push(format!("{machine} is back at the checkpoint {name}"));
    lines.push(match &outcome.kept_as {
        Some(kept) => format!("  what was there before is the checkpoint {}", text::safe(kept)),
        None => format!("  threw away what was there before: {}", console.size(outcome.discarded_bytes)),
    });
    lines
}

fn forget(console: &Console, typed: &Forget) -> Result<Outcome, Failure> {
    let which = match (&typed.name, typed.keep, typed.older_than) {
        (Some(name), ..) if typed.with_descendants => Which::WithDescendants(name.clone()),
        (Some(name), ..) => Which::Named(name.clone()),
        (None, Some(count), _) => Which::AllBut(count),
        (None, None, Some(age)) => Which::OlderThan(age),
        (None, None, None) => Which::AllBut(usize::MAX),
    };
    let forget = grove::Forget::new(&typed.grove, which);
    let forget = asked(forget, Some(&typed.options.search), &typed.options.force);
    let plan = watch::patiently(console, || forget.clone().plan())?;
    if console.common().plan && console.json() {
        let (checkpoints, layers) = (plan.checkpoints(), plan.layers());
        console.document(&ForgetPlanned { plan: plan.summary(), checkpoints, layers })?;
        return Ok(Outcome::Done);
    }
    if console.show_plan(plan.summary())? {
        let frees: u64 = plan.layers().iter().map(|step| step.frees_bytes).sum();
        console.say([format!("  gives the host about {} back in the end", console.size(frees))])?;
        return Ok(Outcome::Done);
    }
    let outcome = finish(console, &plan)?;
    console.answer(&outcome, forgotten(console, &outcome))?;
    Ok(Outcome::Done)
}

pub(super) fn forgotten(console: &Console, outcome: &ForgetOutcome) -> Vec<String> {
    let mut lines: Vec<String> = outcome.begun.iter().map(settled).collect();
    if outcome.forgotten.is_empty() {
        lines.push(format!("no checkpoint of {} was meant", text::safe(&outcome.machine)));
    } else {
        let names = console.strong(&text::safe(&outcome.forgotten.join(", ")));
        lines.push(format!("forgot {names} of {}", text::safe(&outcome.machine)));
    }
    let (moved, freed) = (console.size(outcome.bytes_moved), console.size(outcome.freed_bytes));
    lines.push(format!("  moved {moved}; the host has {freed} back"));
    lines.extend(
        outcome
            .shared
            .iter()
            .map(|layer| format!("  {} stays as a layer without a name: other images grow from it", text::path(layer))),
    );
    lines
}

fn rename(console: &Console, typed: &Rename) -> Result<Outcome, Failure> {
    let rename = DescribeCheckpoint::new(&typed.grove, &typed.old).with_name(&typed.new);
    let Some(outcome) = perform(console, &rename)? else { return Ok(Outcome::Done) };
    let line = format!("{} is {} now", text::safe(&typed.old), console.strong(&text::safe(&outcome.name)));
    console.answer(&outcome, [line])?;
    Ok(Outcome::Done)
}

fn note(console: &Console, typed: &Note) -> Result<Outcome, Failure> {
    let note = DescribeCheckpoint::new(&typed.grove, &typed.name);
    let note = with(note, typed.text.as_ref(), |note, text| note.with_note(text));
    let protection = match (typed.protect, typed.unprotect) {
        (true, _) => Some(true),
        (_, true) => Some(false),
        _ => None,
    };
    let note = with(note, protection, DescribeCheckpoint::with_protection);
    let Some(outcome) = perform(console, &note)? else { return Ok(Outcome::Done) };
    let mut lines = vec![console.strong(&text::safe(&outcome.name))];
    lines.extend((!outcome.note.is_empty()).then(|| format!("  note: {}", text::safe(&outcome.note))));
    lines.extend(outcome.protected.then(|| "  protected: it stays when old checkpoints are forgotten".to_owned()));
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}
