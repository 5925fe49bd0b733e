//! `zsap salvage`.

use zestful_sapling::ranges::Ranges;
use zestful_sapling::repair::{self, SalvageOutcome};

use super::run::{asked, perform};
use crate::args::salvage::Salvage;
use crate::args::values::with;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::text;

/// Ranges that are shown one by one; the list has all of them.
const MOST_RANGES: usize = 10;

pub(super) fn run(console: &Console, typed: &Salvage) -> Result<Outcome, Failure> {
    let format = typed.image.source_format(&typed.source, &typed.force)?;
    let salvage = repair::Salvage::new(&typed.source, &typed.target).with_image(typed.image.image());
    let salvage = with(salvage, format, repair::Salvage::with_source_format);
    let salvage = typed.without.iter().fold(salvage, repair::Salvage::without);
    let salvage = with(salvage, typed.below.as_ref(), repair::Salvage::with_below);
    let salvage = asked(salvage, Some(&typed.search), &typed.force);
    let Some(outcome) = perform(console, &salvage)? else { return Ok(Outcome::Done) };
    console.answer(&outcome, saved(console, typed, &outcome))?;
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
