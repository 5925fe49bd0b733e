//! `zsap status`.

use std::cmp::Reverse;

use zestful_sapling::family::{CurrentDisk, Health, Status};
use zestful_sapling::grove::status_of;

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::FolderStatus;
use crate::report::problems::{Room, Troubles};
use crate::report::table::{self, Table};
use crate::report::text;
use crate::{args, settings};

/// So many disks have a line each; of more only those that are not healthy, unless all are asked for.
const MOST_DISKS: usize = 12;

pub(super) fn run(console: &Console, typed: &args::status::Status) -> Result<Outcome, Failure> {
    let status = status_of(typed.depth.folder(&typed.folder), &settings::current().settings.limits())?;
    console.answer(&FolderStatus::from(&status), lines(console, &status))?;
    Ok(match status.state {
        Health::Attention if typed.ignore.is_some() => Outcome::Done,
        state => state.into(),
    })
}

fn lines(console: &Console, status: &Status) -> Vec<String> {
    let place = std::fs::canonicalize(&status.folder).unwrap_or_else(|_| status.folder.clone());
    let verdict = verdict(console, status.state);
    let troubles = Troubles::new(&status.folder, &status.problems, &status.under_way);
    let count = match troubles.count() {
        count if count.is_empty() => count,
        count => format!(" ({count})"),
    };
    let mut lines = vec![format!("{}: {verdict}{count}", console.strong(&text::safe(&place.to_string_lossy())))];
    lines.extend(troubles.lines(console, Room::AMPLE));
    lines.extend(status.held.iter().map(|held| text::held(&held.path, &held.holder)));
    lines.extend(status.not_seen.iter().map(|what| text::wrapped(&format!("  {}", text::message(what)), "    ")));
    lines.extend(disk_lines(console, status));
    let totals = &status.totals;
    let mut facts = vec![format!("{} in {}", text::images(totals), text::count(status.families, "family", "families"))];
    if status.deepest > 1 {
        facts.push(format!("the deepest chain has {} layers", status.deepest));
    }
    if let Some(oldest) = &status.oldest_frozen {
        facts.push(format!("oldest frozen layer {}, {}", text::name(&oldest.path), text::age(Some(oldest.since))));
    }
    if !status.pinned.is_empty() {
        let names: Vec<String> = status.pinned.iter().map(|path| text::name(path)).collect();
        facts.push(text::listed("pinned: ", &names));
    }
    lines.push(text::wrapped(&format!("  {}", facts.join("; ")), "    "));
    let fits = match status.most_growth <= status.host_free {
        true => "fits".to_owned(),
        false => format!("does {}", console.alarming("not fit")),
    };
    lines.push(text::wrapped(
        &format!(
            "  {} on the host for {} promised to guests; these can still grow by {}, which {fits}: {} free",
            console.size(totals.allocated),
            console.size(totals.promised),
            console.size(status.most_growth),
            console.size(status.host_free)
        ),
        "    ",
    ));
    let end = troubles.end(console, &verdict, lines.len());
    lines.extend(end);
    lines
}

/// The disks that guests write to, the worst first.
fn disk_lines(console: &Console, status: &Status) -> Vec<String> {
    let mut disks: Vec<&CurrentDisk> = status.current.iter().collect();
    disks.sort_by_key(|disk| Reverse(disk.state));
    let told = match disks.len() > MOST_DISKS && !console.common().verbose {
        true => disks.iter().filter(|disk| disk.state != Health::Healthy).count().clamp(1, MOST_DISKS),
        false => disks.len(),
    };
    let headings = ["guests write to", "state", ">disk", ">on host", ">can grow by", ">layers below"];
    let mut table = Table::new(&headings).folding(&["layers below", "on host", "disk"]);
    for disk in &disks[..told] {
        table.row(vec![
            text::below(&disk.path, &status.folder),
            state_cell(disk.state),
            console.size(disk.virtual_size),
            console.size(disk.allocated_size),
            console.size(disk.most_growth),
            disk.depth.to_string(),
        ]);
    }
    let mut lines = if told > 0 { table.lines(console) } else { Vec::new() };
    if told < disks.len() {
        let left = text::count(disks.len() - told, "disk", "disks");
        let all_well = disks[told..].iter().all(|disk| disk.state == Health::Healthy);
        let how = if all_well { ", all healthy" } else { "" };
        lines.push(format!("  and {left} more{how}; -v lists them"));
    }
    lines
}

fn verdict(console: &Console, state: Health) -> String {
    match state {
        Health::Healthy | Health::Attention => state_word(state).to_owned(),
        _ => console.alarming(state_word(state)),
    }
}

/// The same in a table.
pub(super) fn state_cell(state: Health) -> String {
    match state {
        Health::Healthy | Health::Attention => state_word(state).to_owned(),
        _ => table::alarming(state_word(state)),
    }
}

/// The state of a disk, in the words of every table.
pub(super) fn state_word(state: Health) -> &'static str {
    match state {
        Health::Healthy => "healthy",
        Health::Attention => "worth a look",
        Health::Unfinished => "unfinished",
        _ => "BROKEN",
    }
}
