//! `zsap identity`.

use std::path::Path;

use zestful_sapling::ops::FreshIdentity;

use crate::args::WriteOptions;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) fn run(console: &Console, path: &Path, options: &WriteOptions) -> Result<Outcome, Failure> {
    let request = FreshIdentity::new(path).with_format(options.format(path)?).with_search(options.search.search());
    let request = options.force.iter().copied().fold(request, FreshIdentity::with_override);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::patiently(console, || plan.run())?;
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
