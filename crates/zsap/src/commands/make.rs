//! `zsap make`.

use std::path::Path;

use zestful_sapling::family::inspect;
use zestful_sapling::ops::Make;

use super::asking;
use crate::args::ImageOptions;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) fn run(
    console: &Console,
    path: &Path,
    size: Option<u64>,
    filled_from: Option<&Path>,
    options: &ImageOptions,
) -> Result<Outcome, Failure> {
    let request = match (filled_from, size) {
        (Some(other), size) => Make::filled_from(path, other, options.source_format(other)?).with_size(size),
        (None, size) => Make::new(path, size.unwrap_or_default()),
    };
    let plan = asking(console, |yes| request.clone().with_image(options.image(yes)).plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::run(console, |progress| plan.run(progress))?;
    let report = inspect(&outcome.path, Some(outcome.format))?;
    let blocks = report.block_size.map_or_else(String::new, |bytes| format!(", blocks of {}", console.size(bytes)));
    let disk = format!("  {} disk, {} {}{blocks}", console.size(report.virtual_size), report.format, report.kind);
    let content = match filled_from {
        Some(_) => format!("; {}", super::copy::what_was_filled(console, &outcome)),
        None => String::new(),
    };
    console.answer(
        &report,
        [
            format!("made {}", console.strong(&text::path(&outcome.path))),
            format!("{disk}{content}"),
            super::space_taken(console, &report),
        ],
    )?;
    Ok(Outcome::Done)
}
