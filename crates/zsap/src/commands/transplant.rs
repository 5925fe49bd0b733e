//! `zsap transplant`.

use zestful_sapling::ops::{self, TransplantOutcome};

use super::run::{asked, perform};
use crate::args::transplant::Transplant;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Transplant) -> Result<Outcome, Failure> {
    let transplant = asked(ops::Transplant::new(&typed.child, &typed.base), None, &typed.force);
    let Some(outcome) = perform(console, &transplant)? else { return Ok(Outcome::Done) };
    console.answer(&outcome, transplanted(console, &outcome))?;
    Ok(Outcome::Done)
}

pub(super) fn transplanted(console: &Console, outcome: &TransplantOutcome) -> Vec<String> {
    outcome.unrecorded.iter().for_each(|why| console.warn(why));
    vec![
        format!("{} grows from {} now", console.strong(&text::path(&outcome.path)), text::path(&outcome.parent)),
        format!(
            "  wrote {} into it: where the new base holds something else than the old one did",
            console.size(outcome.bytes_written)
        ),
    ]
}
