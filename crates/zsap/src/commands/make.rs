//! `zsap make`.

use zestful_sapling::family::inspect;
use zestful_sapling::ops;

use super::run::{asked, perform_on_device};
use crate::args::make::Make;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Make) -> Result<Outcome, Failure> {
    let make = match (&typed.filled_from, typed.size) {
        (Some(other), size) => {
            let filled = ops::Make::filled_from(&typed.path, other, typed.image.source_format(other, &typed.force)?);
            with(filled, size, ops::Make::with_size)
        }
        (None, size) => ops::Make::new(&typed.path, size.unwrap_or_default()),
    };
    let make = asked(make.with_image(typed.image.image(&typed.path)), None, &typed.force);
    let Some(outcome) = perform_on_device(console, &make)? else { return Ok(Outcome::Done) };
    let report = inspect(&outcome.path, Some(outcome.format))?;
    let blocks = report.block_size.map_or_else(String::new, |bytes| format!(", blocks of {}", console.size(bytes)));
    let disk = format!("  {} disk, {} {}{blocks}", console.size(report.virtual_size), report.format, report.kind);
    let content = match &typed.filled_from {
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
