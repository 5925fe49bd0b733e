//! `zsap identity`.

use zestful_sapling::ops::FreshIdentity;

use super::run::{asked, perform};
use crate::args::identity::Identity;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Identity) -> Result<Outcome, Failure> {
    let options = &typed.options;
    let request = FreshIdentity::new(&typed.path);
    let request = with(request, options.format(&typed.path)?, FreshIdentity::with_format);
    let request = asked(request, Some(&options.search), &options.force);
    let Some(outcome) = perform(console, &request)? else { return Ok(Outcome::Done) };
    let before = outcome.before.map_or_else(|| "none".to_owned(), |id| id.to_string());
    console.answer(
        &outcome,
        [
            format!("{} has an identity of its own now", console.strong(&text::path(&outcome.path))),
            format!("  before    {before}"),
            format!("  now       {}", outcome.identity),
        ],
    )?;
    Ok(Outcome::Done)
}
