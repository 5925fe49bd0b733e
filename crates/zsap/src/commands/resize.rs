//! `zsap resize`.

use zestful_sapling::family::Override;
use zestful_sapling::image::check_ending;
use zestful_sapling::ops::{self, ResizeOutcome};

use super::run::{asked, perform};
use crate::advice;
use crate::args::disk::image;
use crate::args::resize::Resize;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::resize::{self, Resized};

pub(super) fn run(console: &Console, typed: &Resize) -> Result<Outcome, Failure> {
    let path = image(&typed.path, typed.disk.as_deref(), None)?;
    let format = typed.format.map(Into::into);
    if !typed.force.contains(&Override::Ending) {
        check_ending(&path, format)?;
    }
    if typed.size().is_none() && typed.extend_partition.is_none() {
        let advice = "say --to SIZE, or --by with + or -; or --extend-partition where only the partition is to follow";
        return Err(zestful_sapling::Error::usage("no size was given", advice).into());
    }
    let request = with(ops::Resize::new(&path), typed.size(), ops::Resize::with_size);
    let request = with(request, typed.space.map(Into::into), ops::Resize::with_space);
    let request = with(request, format, ops::Resize::with_format);
    let request = with(request, typed.extend_partition, ops::Resize::with_extended_partition);
    let request = with(request, typed.shrink_partition, ops::Resize::with_shrunk_partition);
    let request = asked(request, Some(&typed.search), &typed.force);
    let Some(outcome) = perform(console, &request)? else { return Ok(Outcome::Done) };
    let lines = resized(console, &outcome);
    console.answer(&Resized::of(&outcome), lines)?;
    Ok(Outcome::Done)
}

/// What was done, and what is left to be done.
pub(super) fn resized(console: &Console, outcome: &ResizeOutcome) -> Vec<String> {
    let told = Resized::of(outcome);
    let mut lines = resize::lines(console, &told);
    lines.extend(advice::lines(&advice::next_after_resize(&told), "  "));
    lines
}
