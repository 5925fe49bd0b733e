//! `zsap tree`.

use std::path::{Path, PathBuf};

use zestful_sapling::family::{Family, Health, Node, PlaceReport, Role};
use zestful_sapling::grove::{Grove, family_of};
use zestful_sapling::storage::free_space;

use crate::args::tree::Tree;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::compact::{FEW_JUMPS, jumps};
use crate::report::problems::{Room, Troubles};
use crate::report::table::{self, Table};
use crate::report::{json, text};
use crate::settings;

pub(super) fn run(console: &Console, typed: &Tree) -> Result<Outcome, Failure> {
    let path = &if typed.machine.is_used() { typed.machine.image(&typed.path)? } else { typed.path.clone() };
    let family = if path.is_dir() {
        family_of(typed.depth.folder(path), &settings::current().settings.limits())?
    } else {
        Family::of_image(path, None)?
    };
    console.answer(&json::Tree::from(&family), lines(console, path, &moments(&typed.path), &family)?)?;
    Ok(Outcome::Done)
}

fn lines(console: &Console, path: &Path, moments: &Moments, family: &Family) -> Result<Vec<String>, Failure> {
    let above = path.parent().filter(|above| !above.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let folder = if path.is_dir() { path } else { above };
    let drawn = Drawn { folder, moments, tells_order: family.roots.iter().any(is_scattered) };
    let mut headings = vec!["image", ">depth", "state", ">disk", ">on host", ">share", ">grew for", "changed"];
    if drawn.tells_order {
        headings.insert(6, ">jumps/GiB");
    }
    let mut table = Table::new(&headings).folding(&["jumps/GiB", "grew for", "share", "depth", "changed", "disk"]);
    for root in &family.roots {
        rows(console, &drawn, root, "", "", &mut table);
    }
    let place = std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let mut lines = vec![console.strong(&text::safe(&place.to_string_lossy()))];
    let totals = &family.totals;
    if totals.images > 0 {
        lines.extend(table.lines(console));
        let elsewhere = match family.roots.iter().map(count_elsewhere).sum::<usize>() {
            0 => String::new(),
            count => format!(", and {count} elsewhere"),
        };
        let saved = match family.saved {
            0 => String::new(),
            saved => format!("; sharing layers saves {}", console.size(saved)),
        };
        let sums = format!(
            "  {}{elsewhere}, {}: {} on the host for {} promised to guests; {} free{saved}",
            text::images(totals),
            text::count(family.roots.len(), "family", "families"),
            console.size(totals.allocated),
            console.size(totals.promised),
            console.size(free_space(path)?)
        );
        lines.push(text::wrapped(&sums, "    "));
    } else if family.problems.is_empty() {
        lines.push("  no images here (files that end in .vhdx, .vhd, .raw or .img)".to_owned());
    }
    let mut waiting: Vec<&Node> = family.roots.iter().rev().collect();
    while let Some(node) = waiting.pop() {
        lines.extend(node.in_use.as_ref().map(|holder| text::held(&node.path, holder)));
        waiting.extend(node.children.iter().rev());
    }
    let troubles = Troubles::new(folder, &family.problems, &family.under_way);
    lines.extend(troubles.lines(console, if path.is_dir() { Room::below(lines.len()) } else { Room::AMPLE }));
    // What an image is, its row says.
    lines.extend(troubles.end(console, "", 0));
    Ok(lines)
}

fn count_elsewhere(node: &Node) -> usize {
    usize::from(node.elsewhere) + node.children.iter().map(count_elsewhere).sum::<usize>()
}

/// Layers that are drawn one step to the right of the one before.
const MOST_INDENT: usize = 5;

/// The images of a machine's checkpoints, each with the checkpoint's name.
type Moments = Vec<(PathBuf, String)>;

/// What the rows have in common.
struct Drawn<'a> {
    /// Where was looked.
    folder: &'a Path,
    moments: &'a Moments,
    /// Whether it is told of each image how scattered it is: where all are in order nobody asks.
    tells_order: bool,
}

fn is_scattered(node: &Node) -> bool {
    node.scatter.is_some_and(|found| found.jumps >= FEW_JUMPS) || node.children.iter().any(is_scattered)
}

fn moments(folder: &Path) -> Moments {
    let Some(grove) = Grove::at(folder).ok().flatten() else { return Vec::new() };
    let named = grove.catalogue().checkpoints.iter();
    let of = |(name, path): (&str, &PathBuf)| (grove.folder().join(path), name.to_owned());
    named
        .flat_map(|one| one.disks.iter().map(|layer| (one.name.as_deref().unwrap_or("no name"), &layer.path)))
        .map(of)
        .collect()
}

fn rows(console: &Console, drawn: &Drawn<'_>, node: &Node, lead: &str, below: &str, table: &mut Table) {
    let place = node.path.canonicalize().unwrap_or_else(|_| node.path.clone());
    let moment = drawn.moments.iter().find(|(path, _)| *path == place);
    let name = match node.elsewhere {
        true => text::path(&node.path),
        false => text::below(&node.path, drawn.folder),
    };
    let mut cells = vec![
        match moment {
            Some((_, moment)) => format!("{lead}{} @ {}", text::name(&node.path), text::safe(moment)),
            None => format!("{lead}{name}"),
        },
        node.depth.to_string(),
        state_of(node, moment.is_some()),
        console.size(node.virtual_size),
        console.size(node.allocated_size),
        text::share(node.allocated_size, node.virtual_size),
        // A frozen layer grew until it was frozen.
        node.since.map_or_else(
            || "-".to_owned(),
            |since| text::span(since, node.modified.filter(|_| node.role != Role::Current)),
        ),
        text::age(node.modified),
    ];
    if drawn.tells_order {
        cells.insert(6, node.scatter.map_or_else(|| "-".to_owned(), |found| jumps(&found)));
    }
    if node.elsewhere {
        cells.iter_mut().for_each(|cell| *cell = table::faint(cell));
    }
    table.row(cells);
    for (number, child) in node.children.iter().enumerate() {
        let last = number + 1 == node.children.len();
        let (branch, under) = if last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
        // Deeper layers stand below each other, and the column beside them tells their depth.
        let under = if node.depth < MOST_INDENT { under } else { "" };
        rows(console, drawn, child, &format!("{below}{branch}"), &format!("{below}{under}"), table);
    }
}

/// What an image is in its family, and what else is to be known of it.
fn state_of(node: &Node, is_checkpoint: bool) -> String {
    let role = match (node.place, node.role) {
        _ if node.state == Health::Broken => table::alarming("BROKEN"),
        (PlaceReport::Pieces, _) => "in pieces".to_owned(),
        (_, Role::Base) => "base".to_owned(),
        (_, Role::Frozen) => "frozen".to_owned(),
        // A checkpoint needs no child to be kept.
        _ if node.read_only && is_checkpoint => "frozen".to_owned(),
        _ if node.read_only => "frozen, no child here".to_owned(),
        _ => "current".to_owned(),
    };
    let more = [
        (node.pinned, "pinned".to_owned()),
        (node.in_use.is_some(), "in use".to_owned()),
        (node.under_way, table::alarming("unfinished")),
        (node.place == PlaceReport::Device, "device".to_owned()),
    ];
    let more = more.into_iter().filter(|(is, _)| *is).map(|(_, word)| word);
    std::iter::once(role).chain(more).collect::<Vec<_>>().join(", ")
}
