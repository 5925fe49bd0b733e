//! `zsap compact`.

use zestful_sapling::ops::{self, Operation, Planned};

use super::run::{asked, finish};
use crate::advice;
use crate::args::compact::Compact;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::compact::{Compacted, lines};
use crate::watch;

pub(super) fn run(console: &Console, typed: &Compact) -> Result<Outcome, Failure> {
    let (path, format) = typed.on.image(&typed.force)?;
    let request = ops::Compact::new(&path)
        .with_unused(typed.unused)
        .with_same_as_parent(typed.same_as_parent)
        .with_holes_only(typed.holes_only)
        .in_order(typed.reorder);
    let request = with(request, format, ops::Compact::with_format);
    let request = asked(request, Some(&typed.on.search), &typed.force);
    let mut plan = watch::patiently(console, || request.clone().plan())?;
    if console.common().plan {
        watch::run(console, |progress| plan.look(progress))?;
    }
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = finish(console, &plan)?;
    let told = Compacted::of(&outcome);
    let mut lines = lines(console, &told);
    lines.extend(advice::lines(&advice::next_after_compact(&outcome), "    "));
    console.answer(&told, lines)?;
    Ok(Outcome::Done)
}
