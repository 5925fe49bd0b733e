//! `zsap checkpoint list`: the tree of a machine's checkpoints.

use std::path::Path;

use zestful_sapling::grove::{CheckpointList, CheckpointReport, Grove, checkpoints_of};

use crate::advice;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::table::Table;
use crate::report::text;

/// Checkpoints that are drawn one step to the right of the one before.
const MOST_INDENT: usize = 6;
/// Of a note so much is shown in the table.
const MOST_NOTE: usize = 28;

pub(super) fn run(console: &Console, folder: &Path) -> Result<Outcome, Failure> {
    let found = checkpoints_of(&Grove::open(folder)?)?;
    console.answer(&found, lines(console, &found))?;
    Ok(Outcome::Done)
}

fn lines(console: &Console, found: &CheckpointList) -> Vec<String> {
    let mut table =
        Table::new(&["checkpoint", "taken", ">holds", ">moves", ">frees", "note"]).folding(&["moves", "frees"]);
    let mut tree = Tree { console, found, table: &mut table };
    tree.grow(None, "", 0);
    let mut lines = vec![format!(
        "{}: {}",
        console.strong(&text::safe(&found.machine)),
        text::count(found.checkpoints.len(), "checkpoint", "checkpoints")
    )];
    lines.extend(table.lines(console));
    if found.checkpoints.is_empty() {
        lines.push("  none yet: `zsap checkpoint take` keeps what the tracked disks hold now".to_owned());
    } else {
        lines.push("  moves and frees: what forgetting that one alone would move, at most, and free".to_owned());
    }
    for layer in &found.shared {
        let line = format!("  {} has no name: other images grow from it", text::path(layer));
        lines.push(text::wrapped(&line, "    "));
    }
    for (one, layer) in found.checkpoints.iter().flat_map(|one| one.disks.iter().map(move |layer| (one, layer))) {
        if !layer.is_there {
            let what = format!("{} of {}", text::safe(&layer.label), text::safe(&one.name));
            lines.push(format!("  {} {what}: {}", console.alarming("missing"), text::path(&layer.path)));
        }
    }
    if let Some(work) = &found.under_way {
        let line = text::wrapped(&format!("  unfinished: {}", text::safe(&work.message)), "    ");
        lines.push(line.replacen("unfinished:", &console.alarming("unfinished:"), 1));
        lines.extend(advice::lines(&advice::next_for_work(work), "    "));
    }
    lines
}

struct Tree<'a> {
    console: &'a Console,
    found: &'a CheckpointList,
    table: &'a mut Table,
}

impl Tree<'_> {
    /// What goes on from a checkpoint, or stands at the root: other checkpoints, and the present last.
    fn grow(&mut self, parent: Option<&str>, below: &str, depth: usize) {
        let found = self.found;
        let children: Vec<&CheckpointReport> =
            found.checkpoints.iter().filter(|one| one.parent.as_deref() == parent).collect();
        let is_present = found.present.after.as_deref() == parent;
        let count = children.len() + usize::from(is_present);
        for (number, child) in children.into_iter().enumerate() {
            let (lead, under) = branch(number + 1 == count, below, depth);
            self.row(child, &lead);
            self.grow(Some(&child.name), &under, depth + 1);
        }
        if is_present {
            let (lead, _) = branch(true, below, depth);
            let changed = self.console.size(found.present.changed_bytes);
            let cells = [format!("{lead}the present"), "now".into(), changed, "-".into(), "-".into(), String::new()];
            self.table.row(cells.into());
        }
    }

    fn row(&mut self, one: &CheckpointReport, lead: &str) {
        let mut note: String = text::safe(&one.note);
        if note.chars().count() > MOST_NOTE {
            note = note.chars().take(MOST_NOTE - 3).chain("...".chars()).collect();
        }
        if one.protected {
            note = if note.is_empty() { "protected".to_owned() } else { format!("protected; {note}") };
        }
        self.table.row(vec![
            format!("{lead}{}", text::safe(&one.name)),
            text::age(Some(one.taken)),
            self.console.size(one.held_bytes),
            self.console.size(one.moves_bytes),
            self.console.size(one.frees_bytes),
            note,
        ]);
    }
}

/// What stands before a name, and before those below it.
fn branch(is_last: bool, below: &str, depth: usize) -> (String, String) {
    if depth == 0 {
        return (String::new(), String::new());
    }
    let (branch, under) = if is_last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
    // Deeper ones stand below each other.
    let under = if depth < MOST_INDENT { under } else { "" };
    (format!("{below}{branch}"), format!("{below}{under}"))
}
