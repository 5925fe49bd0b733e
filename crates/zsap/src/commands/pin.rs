//! `zsap pin` and `zsap unpin`.

use std::path::Path;

use zestful_sapling::family::{Override, Search};
use zestful_sapling::ops::{PinImage, PinReport, Plan, unpin, verify_pin};

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::{text, watch};

pub(super) fn pin(console: &Console, path: &Path, overrides: &[Override]) -> Result<Outcome, Failure> {
    let request = overrides.iter().copied().fold(PinImage::new(path), PinImage::with_override);
    let plan = watch::patiently(console, || request.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::run(console, |progress| plan.run(progress))?;
    let lines = [
        format!("pinned {}", console.strong(&text::path(path))),
        format!(
            "  {} of {} that hold data; digest of the whole {}",
            text::count(outcome.pieces as usize, "piece", "pieces"),
            console.size(outcome.piece_size),
            &outcome.digest[..16]
        ),
        format!("  kept in {}", text::path(&outcome.companion)),
    ];
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}

pub(super) fn verify(console: &Console, path: &Path, search: &Search) -> Result<Outcome, Failure> {
    let report = watch::run(console, |progress| watch::patiently(console, || verify_pin(path, search, progress)))?;
    console.answer(&report, report_lines(console, &report))?;
    Ok(if report.ok { Outcome::Done } else { Outcome::FoundDamage })
}

fn report_lines(console: &Console, report: &PinReport) -> Vec<String> {
    let name = console.strong(&text::path(&report.path));
    if report.ok {
        let mut lines = vec![format!("{name} is what was pinned {}", text::age(Some(report.pinned)))];
        if report.record_renewed {
            lines.push(
                "  its file had been touched or copied; its content is the same, and the record says so now".to_owned(),
            );
        }
        lines.extend(report.record_stale.iter().map(|why| {
            let line =
                format!("  its file had been touched or copied, and the record of that stays: {}", text::safe(why));
            text::wrapped(&line, "  ")
        }));
        return lines;
    }
    let mut lines =
        vec![format!("{name}: {} since it was pinned {}", console.alarming("changed"), text::age(Some(report.pinned)))];
    lines.extend(
        report.identity_changed.then(|| "  its data identity is another one: no child finds it any more".to_owned()),
    );
    for range in &report.changed {
        lines.push(format!("  {:>12} at byte {}", console.size(range.length), range.offset));
    }
    for child in &report.children {
        lines.push(format!(
            "  {} reads {} of these through it",
            text::path(&child.path),
            console.size(child.bytes_read_through)
        ));
    }
    let advice = "  put it back from a copy; until then nothing that its children read in these ranges is certain";
    lines.push(text::wrapped(advice, "  "));
    lines
}

pub(super) fn take_away(console: &Console, path: &Path, search: &Search) -> Result<Outcome, Failure> {
    let mut plan = Plan { operation: "unpin", ..Plan::default() };
    plan.steps.push(format!("forget the digests of {}", path.display()));
    if console.show_plan(&plan)? {
        return Ok(Outcome::Done);
    }
    let outcome = watch::patiently(console, || unpin(path, search))?;
    let state = match outcome.writable {
        true => "it can be written to again",
        false => "it stays read-only on this host, as parents are",
    };
    let lines = [
        format!("unpinned {}; {state}", console.strong(&text::path(path))),
        "  while it was pinned children may have grown from it that nobody recorded".to_owned(),
    ];
    console.answer(&outcome, lines)?;
    Ok(Outcome::Done)
}
