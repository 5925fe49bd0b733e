//! `zsap make`.

use std::path::Path;

use zestful_sapling::image::Format;
use zestful_sapling::ops::{Make, inspect};

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) fn run(console: &Console, path: &Path, request: Make, format: Option<Format>) -> Result<Outcome, Failure> {
    let plan = request.plan()?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    watch::run(console, |progress| plan.run(progress))?;
    let report = inspect(path, format)?;
    let blocks = report.block_size.map_or_else(String::new, |bytes| format!(", blocks of {}", console.size(bytes)));
    console.answer(
        &report,
        [
            format!("made {}", console.strong(&text::path(path))),
            format!("  {} disk, {} {}{blocks}", console.size(report.virtual_size), report.format, report.kind),
            format!(
                "  takes {} of the host so far; {} are free",
                console.size(report.allocated_size),
                console.size(report.host_free)
            ),
        ],
    )?;
    Ok(Outcome::Done)
}
