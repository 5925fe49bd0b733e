//! `zsap remove`.

use zestful_sapling::ops;

use super::run::{asked, perform};
use crate::args::remove::Remove;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Remove) -> Result<Outcome, Failure> {
    let remove = asked(ops::Remove::new(&typed.path), Some(&typed.options.search), &typed.options.force);
    let Some(outcome) = perform(console, &remove)? else { return Ok(Outcome::Done) };
    outcome.still_recorded.iter().for_each(|why| console.warn(why));
    let mut lines = vec![format!("removed {}", console.strong(&text::path(&typed.path)))];
    if let Some(parent) = &outcome.frozen_parent {
        let line = format!(
            "  {0} is still frozen, and nothing is known to grow from it any more: `zsap unfreeze {0}` frees it",
            text::path(parent)
        );
        lines.push(text::wrapped(&line, "  "));
    }
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}
