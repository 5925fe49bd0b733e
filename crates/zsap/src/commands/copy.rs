//! `zsap copy`.

use zestful_sapling::ops::{Copy, inspect};

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) fn run(console: &Console, request: &Copy) -> Result<Outcome, Failure> {
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::run(console, move |progress| plan.run(progress))?;
    let report = inspect(&outcome.path, request.target_format())?;
    console.answer(
        &outcome,
        [
            format!("made {}", console.strong(&text::path(&outcome.path))),
            format!(
                "  {} disk, {} {}; {} of data written, {} of the host taken",
                console.size(outcome.virtual_size),
                report.format,
                report.kind,
                console.size(outcome.bytes_written),
                console.size(report.allocated_size)
            ),
        ],
    )?;
    Ok(Outcome::Done)
}
