//! `zsap prepare`.

use zestful_sapling::ops::{self, Operation, Planned};

use super::run::{asked, finish};
use crate::args::prepare::Prepare;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;
use crate::report::volumes::{self, Prepared};
use crate::watch;

pub(super) fn run(console: &Console, typed: &Prepare) -> Result<Outcome, Failure> {
    let (path, format) = typed.on.image(&typed.force)?;
    let request = ops::Prepare::new(&path).with_table(typed.table.into()).with_wipe(typed.wipe);
    let request = typed.volumes.iter().cloned().fold(request, ops::Prepare::with_volume);
    let request = with(request, typed.scratch.as_ref(), ops::Prepare::with_scratch);
    let request = with(request, format, ops::Prepare::with_format);
    let request = asked(request, Some(&typed.on.search), &typed.force);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let steps = plan.summary().steps.iter().enumerate();
    let steps = steps.map(|(n, step)| text::wrapped(&format!("  {}. {}", n + 1, text::safe(step)), "     "));
    console.say(std::iter::once(format!("preparing {}", console.strong(&text::path(&path)))).chain(steps))?;
    let outcome = finish(console, &plan)?;
    let mut lines = vec![format!("prepared {}", console.strong(&text::path(&path)))];
    lines.extend(volumes::lines(console, &Ok(outcome.volumes.clone())).into_iter().skip(1));
    console.answer(&Prepared::of(&outcome), lines)?;
    Ok(Outcome::Done)
}
