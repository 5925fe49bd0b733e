//! `zsap abandon`: what was cut short is given up.

use zestful_sapling::family::Work;
use zestful_sapling::repair;

use super::run::{asked, perform};
use crate::args::abandon::Abandon;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Abandon) -> Result<Outcome, Failure> {
    let abandon = asked(repair::Abandon::new(&typed.path), Some(&typed.options.search), &typed.options.force);
    let Some(given_up) = perform(console, &abandon)? else { return Ok(Outcome::Done) };
    let path = console.strong(&text::path(&given_up.path));
    let lines = match given_up.work {
        Some(Work::Repair) => vec![format!("gave up the repair of {path}: it is bit for bit what it was")],
        Some(Work::Undo) => vec![format!("gave up taking the repair back: {path} is as the repair left it")],
        Some(Work::Resize) => vec![format!("gave up the resize of {path}: it has the size and the content it had")],
        Some(work) => vec![
            format!("gave up {work} of {path}"),
            "  it reads as before; what was written already stays and takes its space".to_owned(),
        ],
        None => vec![format!("nothing is owed to the guest of {path} any more")],
    };
    console.answer(&given_up, lines)?;
    Ok(Outcome::Done)
}
