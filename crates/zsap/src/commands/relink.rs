//! `zsap relink`.

use zestful_sapling::ops;

use super::run::{asked, perform};
use crate::args::relink::Relink;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Relink) -> Result<Outcome, Failure> {
    let relink = with(ops::Relink::new(&typed.child), typed.parent.clone(), ops::Relink::with_parent);
    let relink = asked(relink, Some(&typed.search), &typed.force);
    let Some(outcome) = perform(console, &relink)? else { return Ok(Outcome::Done) };
    let (child, parent) = (console.strong(&text::path(&typed.child)), text::path(&outcome.parent));
    let line = match outcome.changed {
        true => format!("{child} has {parent} as its parent now"),
        false => format!("{child} finds its parent {parent} where it is recorded; nothing was changed in it"),
    };
    outcome.unrecorded.iter().for_each(|why| console.warn(why));
    console.answer(&outcome, [line])?;
    Ok(Outcome::Done)
}
