//! `zsap abandon`: what was cut short is given up.

use zestful_sapling::repair;

use super::run::{asked, perform};
use crate::args::abandon::Abandon;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Abandon) -> Result<Outcome, Failure> {
    let abandon = asked(repair::Abandon::new(&typed.path), Some(&typed.options.search), &typed.options.force);
    let Some(given_up) = perform(console, &abandon)? else { return Ok(Outcome::Done) };
    let lines = [
        format!("gave up {} of {}", given_up.work, console.strong(&text::path(&given_up.path))),
        "  it reads as before; what was written already stays and takes its space".to_owned(),
    ];
    console.answer(&given_up, lines)?;
    Ok(Outcome::Done)
}
