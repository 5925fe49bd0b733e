//! `zsap pin`.

use std::path::Path;
use std::sync::Arc;

use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::family::Health;
use zestful_sapling::guest;
use zestful_sapling::ops::{PinImage, PinReport, VerifyPin};
use zestful_sapling::ranges::Ranges;

use super::run::asked;
use super::several::{Told, each, one};
use crate::args::pin::Pin;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::impact::{self, Fate, ImpactTold};
use crate::report::json::PinVerified;
use crate::report::text;
use crate::watch;

pub(super) fn run(console: &Console, typed: &Pin) -> Result<Outcome, Failure> {
    each(console, &typed.base, |base| match typed.verify {
        true => verify(console, typed, base),
        false => pin(console, typed, base),
    })
}

fn pin(console: &Console, typed: &Pin, base: &Path) -> Result<Told, Failure> {
    one(console, asked(PinImage::new(base), Some(&typed.search), &typed.force), |outcome| {
        let lines = vec![
            format!("pinned {}", console.strong(&text::path(base))),
            format!(
                "  {} of {} that hold data; digest of the whole {}",
                text::count(outcome.pieces as usize, "piece", "pieces"),
                console.size(outcome.piece_size),
                &outcome.digest[..16]
            ),
            format!("  kept in {}", text::path(&outcome.companion)),
        ];
        Told::new(&outcome, lines, Outcome::Done)
    })
}

fn verify(console: &Console, typed: &Pin, base: &Path) -> Result<Told, Failure> {
    one(console, asked(VerifyPin::new(base), Some(&typed.search), &[]), |report| {
        let mut lines = report_lines(console, &report);
        let mut told = ImpactTold::default();
        if typed.impact {
            let ranges: Ranges = report.changed.iter().map(|range| range.offset..range.end()).collect();
            let found = watch::run(console, |progress| {
                let disk = Arc::new(Chain::open(base, &OpenOptions::new())?);
                guest::impact(disk, &ranges, progress)
            })?;
            told.add(&found, Fate::Changed);
            if found.hit_count > 0 {
                lines.extend(impact::lines(console, "what changed lies in", &found));
            }
        }
        Told::new(&PinVerified { report: &report, impact: told }, lines, report.state.into())
    })
}

fn report_lines(console: &Console, report: &PinReport) -> Vec<String> {
    let name = console.strong(&text::path(&report.path));
    if report.state == Health::Healthy {
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
