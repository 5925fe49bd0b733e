//! `zsap derive`.

use zestful_sapling::Error;
use zestful_sapling::family::inspect;
use zestful_sapling::grove::Grove;
use zestful_sapling::ops;

use super::run::{asked, perform};
use crate::args::derive::Derive;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::Grown;
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Derive) -> Result<Outcome, Failure> {
    if typed.base.is_dir() && typed.machine.checkpoint.is_none() && Grove::at(&typed.base)?.is_some() {
        let message = format!("a child would freeze what the guest of {} writes to", typed.base.display());
        return Err(Error::usage(message, "name a checkpoint to grow from, with --checkpoint").into());
    }
    let base = typed.machine.image(&typed.base)?;
    let derive = ops::Derive::new(&base, typed.child.clone()).with_absolute(typed.absolute);
    let derive = with(derive, typed.block_size, ops::Derive::with_block_size);
    let Some(outcome) = perform(console, &asked(derive, None, &typed.force))? else { return Ok(Outcome::Done) };
    let reports = typed.child.iter().map(|child| inspect(child, None)).collect::<Result<Vec<_>, _>>()?;
    let mut lines = Vec::new();
    if outcome.newly_frozen {
        lines.push(format!(
            "froze {}: marked read-only, as children depend on it now",
            console.strong(&text::path(&base))
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
