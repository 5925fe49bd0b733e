//! `zsap unpin`.

use zestful_sapling::ops;

use super::run::{asked, perform};
use crate::args::unpin::Unpin;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Unpin) -> Result<Outcome, Failure> {
    let unpin = asked(ops::Unpin::new(&typed.base), Some(&typed.search), &[]);
    let Some(outcome) = perform(console, &unpin)? else { return Ok(Outcome::Done) };
    let state = match outcome.writable {
        true => "it can be written to again",
        false => "it stays read-only on this host, as parents are",
    };
    let lines = [
        format!("unpinned {}; {state}", console.strong(&text::path(&typed.base))),
        "  while it was pinned children may have grown from it that nobody recorded".to_owned(),
    ];
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}
