//! `zsap diff`.

use std::path::PathBuf;
use std::sync::Arc;

use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::guest::{self, Impact};
use zestful_sapling::ops::{self, Difference};
use zestful_sapling::ranges::Ranges;

use super::run::perform;
use crate::args::diff::Diff;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::impact::{self, Fate, ImpactTold};
use crate::report::json::{DifferingFiles, Differs};
use crate::report::table::Table;
use crate::report::text;
use crate::watch;

/// Cells of the map.
const CELLS: u64 = 64;
/// Ranges that are listed unless all are asked for.
const MOST_LISTED: usize = 20;

pub(super) fn run(console: &Console, typed: &Diff) -> Result<Outcome, Failure> {
    let (one, other) = &typed.disks.images()?;
    let diff = ops::Diff::new(one, other).with_contents(typed.contents);
    let Some(found) = perform(console, &diff)? else { return Ok(Outcome::Done) };
    let files = if typed.files { Some(files_in(console, [one, other], &found)?) } else { None };
    let how = if found.compared { "differ" } else { "may differ" };
    let mut lines = vec![format!("{} and {}", console.strong(&text::path(one)), console.strong(&text::path(other)))];
    if found.bytes == 0 {
        lines.push("  the same, as a guest sees them".to_owned());
    } else {
        let ranges = text::count(found.differ.len(), "range", "ranges");
        let disk = console.size(found.virtual_size);
        lines.push(format!("  {} in {ranges} of {disk} {how}", console.size(found.bytes)));
        lines.push(format!("  0 {} {disk}", map(&found)));
        let cell = console.size(found.virtual_size.div_ceil(CELLS).max(1));
        lines.push(
            console.faint(&format!(
                "  each mark is {cell}, of which differs:  . nothing  - under 1/4  + up to 3/4  # more"
            )),
        );
        let listed = if console.common().verbose { found.differ.len() } else { MOST_LISTED };
        let mut table = Table::new(&[">at byte", ">length", ">share"]);
        for range in found.differ.iter().take(listed) {
            table.row(vec![
                range.offset.to_string(),
                console.size(range.length),
                text::share(range.length, found.virtual_size),
            ]);
        }
        lines.extend(table.lines(console));
        if let Some(more) = found.differ.len().checked_sub(listed).filter(|more| *more > 0) {
            lines.push(format!("  and {} more (-v lists all)", text::count(more, "range", "ranges")));
        }
    }
    if !found.same_size {
        lines.push("  they have different sizes; past its end the smaller one counts as zeros".to_owned());
    }
    match &files {
        Some([one, other]) if one == other => lines.extend(impact::lines(console, "in both that is", one)),
        Some(files) => {
            for (path, impact) in [one, other].into_iter().zip(files) {
                lines.extend(impact::lines(console, &format!("in {} that is", text::name(path)), impact));
            }
        }
        None => {}
    }
    let files = files.as_ref().map(|[one, other]| DifferingFiles { one: told(one), other: told(other) });
    console.answer(&Differs { found: &found, files }, lines)?;
    Ok(Outcome::Done)
}

/// What lies in the ranges that differ, in each of both.
fn files_in(console: &Console, disks: [&PathBuf; 2], found: &Difference) -> Result<[Impact; 2], Failure> {
    let of = |path: &PathBuf| {
        watch::run(console, |progress| {
            let (disk, _) = Chain::open_for_look(path, &OpenOptions::new())?;
            let ranges: Ranges = found.differ.iter().map(|range| range.offset..range.end()).collect();
            guest::impact(Arc::new(disk), &ranges, progress)
        })
    };
    Ok([of(disks[0])?, of(disks[1])?])
}

fn told(impact: &Impact) -> ImpactTold {
    let mut told = ImpactTold::default();
    told.add(impact, Fate::Changed);
    told
}

/// The disk from end to end; the fuller a cell, the more of it differs.
fn map(found: &Difference) -> String {
    let cell = found.virtual_size.div_ceil(CELLS).max(1);
    let mut shares = vec![0u64; found.virtual_size.div_ceil(cell) as usize];
    for range in &found.differ {
        let (mut at, end) = (range.offset, range.offset + range.length);
        while at < end {
            let step = (cell - at % cell).min(end - at);
            shares[(at / cell) as usize] += step;
            at += step;
        }
    }
    let mark = |share: u64| match share as f64 / cell as f64 {
        0.0 => '.',
        share if share < 0.25 => '-',
        share if share < 0.75 => '+',
        _ => '#',
    };
    shares.into_iter().map(mark).collect()
}
