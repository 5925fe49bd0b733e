//! `zsap salvage`.

use zestful_sapling::finding::Losses;
use zestful_sapling::ops::{Operation, Planned};
use zestful_sapling::ranges::Ranges;
use zestful_sapling::repair::{self, SalvageOutcome};

use super::run::{asked, finish};
use crate::args::salvage::Salvage;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::impact::{self, ImpactTold};
use crate::report::json::{SavePlanned, Saved};
use crate::report::text;
use crate::watch;

/// Ranges that are shown one by one; the list has all of them.
const MOST_RANGES: usize = 10;

pub(super) fn run(console: &Console, typed: &Salvage) -> Result<Outcome, Failure> {
    let format = typed.image.source_format(&typed.source, &typed.force)?;
    let salvage = repair::Salvage::new(&typed.source, &typed.target).with_image(typed.image.image(&typed.target));
    let salvage = with(salvage, format, repair::Salvage::with_source_format);
    let salvage = typed.without.iter().fold(salvage, repair::Salvage::without);
    let salvage = with(salvage, typed.below.as_ref(), repair::Salvage::with_below);
    let salvage = asked(salvage, Some(&typed.search), &typed.force);
    let plan = watch::patiently(console, || salvage.clone().plan())?;
    let hit = |losses: &Losses| match typed.impact {
        true => watch::run(console, |progress| plan.impact(losses, progress)).map(Some),
        false => Ok(None),
    };
    if console.common().plan && typed.impact {
        let found = hit(plan.content())?;
        let impact = found.as_ref().map(ImpactTold::of_losses).unwrap_or_default();
        let mut lines = console.plan_lines(plan.summary());
        lines.extend(found.iter().flat_map(|found| impact::lines_of_losses(console, found)));
        console.answer(&SavePlanned { plan: plan.summary(), impact }, lines)?;
        return Ok(Outcome::Done);
    }
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = finish(console, &plan)?;
    let found = hit(&outcome.content)?;
    let impact = found.as_ref().map(ImpactTold::of_losses).unwrap_or_default();
    let mut lines = saved(console, typed, &outcome);
    lines.extend(found.iter().flat_map(|found| impact::lines_of_losses(console, found)));
    console.answer(&Saved { outcome: &outcome, impact }, lines)?;
    Ok(if outcome.content.is_empty() { Outcome::Done } else { Outcome::FoundDamage })
}

fn saved(console: &Console, typed: &Salvage, outcome: &SalvageOutcome) -> Vec<String> {
    let (source, target) = (text::path(&typed.source), console.strong(&text::path(&outcome.path)));
    let size = console.size(outcome.virtual_size);
    let mut lines = vec![match (outcome.taken_up, outcome.content.is_empty()) {
        (false, true) => format!("saved all of {source} into {target}: {size}, nothing is missing"),
        (false, false) => format!("saved what can be read of {source} into {target}: {size}"),
        (true, true) => format!("took up what was missing in {target}: nothing is missing any more"),
        (true, false) => format!("took up what was missing in {target}"),
    }];
    for layer in &outcome.layers {
        for step in layer.steps.iter().filter(|step| step.lossy) {
            let told =
                format!("  in memory, of {}: {} [{}]", text::name(&layer.path), text::safe(&step.what), step.code);
            lines.push(text::wrapped(&told, "    "));
        }
        if layer.unreadable_bytes > 0 {
            let bytes = console.size(layer.unreadable_bytes);
            lines.push(format!("  {bytes} of {} cannot be read by the host", text::name(&layer.path)));
        }
    }
    lines.extend(outcome.skipped.iter().map(|path| format!("  went on past {}", text::path(path))));
    if !outcome.content.is_empty() {
        lines.push(text::wrapped(&format!("  {}", outcome.content), "    "));
        lines.extend(ranges(console, "lost", &outcome.content.lost));
        lines.extend(ranges(console, "doubtful", &outcome.content.doubtful));
    }
    lines.extend(
        outcome
            .list
            .iter()
            .map(|list| text::wrapped(&format!("  all of it is listed in {}", text::path(list)), "    ")),
    );
    lines
}

fn ranges(console: &Console, fate: &str, ranges: &Ranges) -> Vec<String> {
    let told = ranges.list().iter().take(MOST_RANGES);
    let told = told.map(|range| format!("    {:<9}{} at byte {}", fate, console.size(range.length), range.offset));
    let more = ranges.list().len().saturating_sub(MOST_RANGES);
    told.chain((more > 0).then(|| format!("    {fate:<9}and {more} more"))).collect()
}
