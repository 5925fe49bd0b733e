//! `zsap checkpoint take`: of a machine at rest, or of one whose disks a process of ours serves.

use std::time::{Duration, Instant};

use zestful_sapling::Error;
use zestful_sapling::grove::{Grove, Hooks, TakeCheckpoint, TakeOutcome};
use zestful_sapling::ops::Planned;
use zestful_sapling_attach::{RunningMachine, TakeError, TakeRequest};

use super::super::run::{asked, perform};
use super::{labels, settled};
use crate::args::checkpoint::{Take, Words};
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;
use crate::watch;

/// How often a process is asked again that is busy.
const BETWEEN_QUESTIONS: Duration = Duration::from_millis(100);

pub(super) fn run(console: &Console, typed: &Take) -> Result<Outcome, Failure> {
    let words = |typed: &Option<Words>| typed.clone().map(|words| words.0).unwrap_or_default();
    let hooks = Hooks::new().with_before(words(&typed.before)).with_after(words(&typed.after));
    let hooks = hooks.with_timeout(Duration::from_secs(typed.hook_timeout));
    if console.common().plan {
        plan(console, typed)?;
        return Ok(Outcome::Done);
    }
    let hooked =
        watch::run(console, |progress| watch::patiently(console, || hooks.begin(&typed.grove, &typed.name, progress)))?;
    let taken = take(console, typed);
    let ended = hooked.end(matches!(taken, Ok(Some(_))));
    // What was taken is told, whatever became of the command after it.
    if let Some(outcome) = taken? {
        console.answer(&outcome, lines(console, &outcome))?;
    }
    ended?;
    Ok(Outcome::Done)
}

fn request(typed: &Take) -> TakeRequest {
    TakeRequest {
        folder: typed.grove.as_path().into(),
        name: typed.name.clone(),
        note: typed.note.clone(),
        overrides: typed.force.clone(),
        pause_at_most: u64::try_from(typed.pause_at_most.as_millis()).unwrap_or(u64::MAX),
    }
}

fn at_rest(typed: &Take) -> TakeCheckpoint {
    let take = TakeCheckpoint::new(&typed.grove, &typed.name).with_note(&typed.note);
    asked(take, None, &typed.force)
}

fn plan(console: &Console, typed: &Take) -> Result<(), Failure> {
    let hooks = [("before", &typed.before), ("after", &typed.after)];
    let hooks = hooks.into_iter().filter_map(|(when, words)| Some((when, words.as_ref()?)));
    let hooks: Vec<String> =
        hooks.map(|(when, words)| format!("run {} {when} it", text::safe(&words.0.join(" ")))).collect();
    let mut plan = match RunningMachine::of(&Grove::open(&typed.grove)?)? {
        Some(running) => running.plan(request(typed))?,
        None => {
            let plan = watch::patiently(console, || zestful_sapling::ops::Operation::plan(at_rest(typed)))?;
            plan.summary().clone()
        }
    };
    plan.steps.extend(hooks);
    console.show_plan(&plan)?;
    Ok(())
}

/// `None` when somebody stopped it before.
fn take(console: &Console, typed: &Take) -> Result<Option<TakeOutcome>, Failure> {
    let Some(running) = RunningMachine::of(&Grove::open(&typed.grove)?)? else {
        return perform(console, &at_rest(typed));
    };
    let until = Instant::now() + Duration::from_secs(console.common().wait);
    loop {
        match running.take(request(typed)) {
            Err(TakeError::NotTaken { is_busy: true, .. }) if Instant::now() < until => {
                if watch::is_stopped() {
                    return Err(Error::Cancelled.into());
                }
                std::thread::sleep(BETWEEN_QUESTIONS);
            }
            Ok(outcome) => {
                outcome.warnings.iter().for_each(|warning| console.warn(&text::safe(warning)));
                return Ok(Some(outcome));
            }
            Err(error) => return Err(error.into()),
        }
    }
}

fn lines(console: &Console, outcome: &TakeOutcome) -> Vec<String> {
    let mut lines: Vec<String> = outcome.begun.iter().map(settled).collect();
    lines.push(format!(
        "took the checkpoint {} of {}: {}",
        console.strong(&text::safe(&outcome.name)),
        text::safe(&outcome.machine),
        labels(&outcome.disks)
    ));
    lines.push(match outcome.paused_milliseconds {
        Some(0) => "  the guest goes on; its requests waited for less than 1 ms".to_owned(),
        Some(paused) => format!("  the guest goes on; its requests waited for {paused} ms"),
        None => "  the guest goes on under the same paths; what it writes from now on is kept apart".to_owned(),
    });
    lines
}
