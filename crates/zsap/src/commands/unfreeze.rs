//! `zsap unfreeze`.

use zestful_sapling::ops;

use super::run::{asked, perform};
use crate::args::unfreeze::Unfreeze;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Unfreeze) -> Result<Outcome, Failure> {
    let unfreeze = asked(ops::Unfreeze::new(&typed.image), Some(&typed.options.search), &typed.options.force);
    let Some(outcome) = perform(console, &unfreeze)? else { return Ok(Outcome::Done) };
    let line = format!("freed {}: it can be written to again", console.strong(&text::path(&typed.image)));
    console.answer(&outcome, [line])?;
    Ok(Outcome::Done)
}
