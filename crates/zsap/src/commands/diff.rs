//! `zsap diff`.

use std::path::PathBuf;

use zestful_sapling::Error;
use zestful_sapling::ops::{self, Difference};

use super::run::perform;
use crate::args::diff::Diff;
use crate::args::disk::image;

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::table::Table;
use crate::report::text;

/// Cells of the map.
const CELLS: u64 = 64;
/// Ranges that are listed unless all are asked for.
const MOST_LISTED: usize = 20;

pub(super) fn run(console: &Console, typed: &Diff) -> Result<Outcome, Failure> {
    let (one, other) = &sides(typed)?;
    let diff = ops::Diff::new(one, other).with_contents(typed.contents);
    let Some(found) = perform(console, &diff)? else { return Ok(Outcome::Done) };
    let how = if found.compared { "differ" } else { "may differ" };
    let mut lines = vec![format!("{} and {}", console.strong(&text::path(one)), console.strong(&text::path(other)))];
    if found.bytes == 0 {
        lines.push("  the same, as a guest sees them".to_owned());
    } else {
        let ranges = text::count(found.differ.len(), "range", "ranges");
        let disk = console.size(found.virtual_size);
        lines.push(format!("  {} in {ranges} of {disk} {how}", console.size(found.bytes)));
        lines.push(format!("  0 {} {disk}", map(&found)));
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
    console.answer(&found, lines)?;
    Ok(Outcome::Done)
}

/// The images that are meant, the older one first where both are of a machine.
fn sides(typed: &Diff) -> Result<(PathBuf, PathBuf), Error> {
    let at = |checkpoint: Option<&String>| image(&typed.one, typed.disk.as_deref(), checkpoint.map(String::as_str));
    match (&typed.other, &*typed.checkpoint) {
        (Some(other), _) if typed.disk.is_some() => {
            let (disk, none) = (typed.disk.as_deref(), None);
            Ok((image(&typed.one, disk, none)?, image(other, disk, none)?))
        }
        (Some(other), _) => Ok((typed.one.clone(), other.clone())),
        (None, [one]) => Ok((at(Some(one))?, at(None)?)),
        (None, [one, other]) => Ok((at(Some(one))?, at(Some(other))?)),
        (None, _) => Err(Error::usage("a disk is compared at one or two checkpoints", "leave the others out")),
    }
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
