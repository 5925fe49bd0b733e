//! `zsap tree`.

use std::path::{Path, PathBuf};

use zestful_sapling::family::{Family, Health, Node, Role};
use zestful_sapling::grove::{Grove, family_of};
use zestful_sapling::storage::free_space;

use crate::advice;
use crate::args::tree::Tree;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::compact::{FEW_JUMPS, jumps};
use crate::report::table::Table;
use crate::report::{json, text};
use crate::settings;

pub(super) fn run(console: &Console, typed: &Tree) -> Result<Outcome, Failure> {
    let path = &if typed.machine.is_used() { typed.machine.image(&typed.path)? } else { typed.path.clone() };
    let family = if path.is_dir() {
        family_of(path, &settings::current().settings.limits())?
    } else {
        Family::of_image(path, None)?
    };
    let drawn = Drawn { moments: moments(&typed.path), tells_order: family.roots.iter().any(is_scattered) };
    let mut headings = vec!["image", ">depth", "state", ">disk", ">on host", ">share", ">grew in", "changed"];
    if drawn.tells_order {
        headings.insert(6, ">jumps/GiB");
    }
    let mut table = Table::new(&headings);
    for root in &family.roots {
        rows(console, &drawn, root, "", "", &mut table);
    }
    let place = std::fs::canonicalize(path).unwrap_or_else(|_| path.clone());
    let mut lines = vec![console.strong(&text::path(&place))];
    let totals = &family.totals;
    if totals.images > 0 {
        lines.extend(table.lines(console));
        lines.push(format!(
            "  {}, {}: {} on the host for {} promised to guests; {} free",
            text::count(totals.images, "image", "images"),
            text::count(family.roots.len(), "family", "families"),
            console.size(totals.allocated),
            console.size(totals.promised),
            console.size(free_space(path)?)
        ));
        if family.saved > 0 {
            let saved = console.size(family.saved);
            lines.push(format!("  sharing layers saves {saved} against a full copy for each current disk"));
        }
    } else if family.problems.is_empty() {
        lines.push("  no images here (files that end in .vhdx, .vhd, .raw or .img)".to_owned());
    }
    let mut waiting: Vec<&Node> = family.roots.iter().rev().collect();
    while let Some(node) = waiting.pop() {
        lines.extend(node.in_use.as_ref().map(|holder| text::held(&node.path, holder)));
        waiting.extend(node.children.iter().rev());
    }
    for work in &family.under_way {
        let text = text::wrapped(&format!("  unfinished: {}", text::safe(&work.message)), "    ");
        lines.push(text.replacen("unfinished:", &console.alarming("unfinished:"), 1));
        lines.extend(advice::lines(&advice::next_for_work(work), "    "));
    }
    for problem in &family.problems {
        let word = if problem.severity == Health::Broken { "broken:" } else { "note:" };
        let text = text::wrapped(&format!("  {word} {}", text::safe(&problem.message)), "    ");
        lines.push(text.replacen(word, &console.alarming(word), 1));
        lines.extend(advice::lines(&advice::next_for(problem), "    "));
    }
    console.answer(&json::Tree::from(&family), lines)?;
    Ok(Outcome::Done)
}

/// Layers that are drawn one step to the right of the one before.
const MOST_INDENT: usize = 5;

/// The images of a machine's checkpoints, each with the checkpoint's name.
type Moments = Vec<(PathBuf, String)>;

/// What the rows have in common.
struct Drawn {
    moments: Moments,
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

fn rows(console: &Console, drawn: &Drawn, node: &Node, lead: &str, below: &str, table: &mut Table) {
    let place = node.path.canonicalize().unwrap_or_else(|_| node.path.clone());
    let moment = drawn.moments.iter().find(|(path, _)| *path == place);
    let role = match (node.state == Health::Broken, node.role) {
        (true, _) => "BROKEN",
        (false, Role::Base) => "base",
        (false, Role::Frozen) => "frozen",
        // A checkpoint needs no child to be kept.
        (false, _) if node.read_only && moment.is_some() => "frozen",
        (false, _) if node.read_only => "frozen, no child seen",
        (false, _) => "current",
    };
    let states = [(node.pinned, "pinned"), (node.in_use.is_some(), "in use"), (node.under_way, "unfinished")];
    let state = states.iter().filter(|(is, _)| *is).fold(role.to_owned(), |all, (_, word)| format!("{all}, {word}"));
    let mut cells = vec![
        match moment {
            Some((_, name)) => format!("{lead}{} @ {}", text::name(&node.path), text::safe(name)),
            None => format!("{lead}{}", text::name(&node.path)),
        },
        node.depth.to_string(),
        state,
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
    table.row(cells);
    for (number, child) in node.children.iter().enumerate() {
        let last = number + 1 == node.children.len();
        let (branch, under) = if last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
        // Deeper layers stand below each other, and the column beside them tells their depth.
        let under = if node.depth < MOST_INDENT { under } else { "" };
        rows(console, drawn, child, &format!("{below}{branch}"), &format!("{below}{under}"), table);
    }
}
