//! `zsap derive`.

use std::path::{Path, PathBuf};

use serde::Serialize;
use zestful_sapling::family::{Override, Report, inspect};
use zestful_sapling::ops::{Derive, DeriveOutcome};

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) fn run(
    console: &Console,
    base: &Path,
    children: &[PathBuf],
    absolute: bool,
    block_size: Option<u64>,
    overrides: &[Override],
) -> Result<Outcome, Failure> {
    let request = Derive::new(base, children.to_vec()).with_absolute(absolute).with_block_size(block_size);
    let request = overrides.iter().copied().fold(request, Derive::with_override);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::run(console, |progress| plan.run(progress))?;
    let reports = children.iter().map(|child| inspect(child, None)).collect::<Result<Vec<_>, _>>()?;
    let mut lines = Vec::new();
    if outcome.newly_frozen {
        lines.push(format!(
            "froze {}: marked read-only, as children depend on it now",
            console.strong(&text::path(base))
        ));
    }
    for report in &reports {
        lines.push(format!(
            "grew {}: {} disk, {} of the host so far",
            console.strong(&text::path(&report.path)),
            console.size(report.virtual_size),
            console.size(report.allocated_size)
        ));
    }
    outcome.unrecorded.iter().for_each(|why| console.warn(why));
    console.answer(&Grown { images: reports, outcome }, lines)?;
    Ok(Outcome::Done)
}

#[derive(Serialize)]
struct Grown {
    images: Vec<Report>,
    #[serde(flatten)]
    outcome: DeriveOutcome,
}
