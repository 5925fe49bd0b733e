//! `zsap status`.

use zestful_sapling::family::{Status, status_of};

use crate::args;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::table::Table;
use crate::report::text;

pub(super) fn run(console: &Console, typed: &args::status::Status) -> Result<Outcome, Failure> {
    let status = status_of(&typed.folder)?;
    console.answer(&status, lines(console, &status))?;
    Ok(Outcome::Done)
}

fn lines(console: &Console, status: &Status) -> Vec<String> {
    let place = std::fs::canonicalize(&status.folder).unwrap_or_else(|_| status.folder.clone());
    let verdict = match (status.ok, status.problems.is_empty()) {
        (true, _) => "all whole, nothing unfinished".to_owned(),
        (false, true) => console.alarming("needs a hand"),
        (false, false) => console.alarming("BROKEN"),
    };
    let mut lines = vec![format!("{}: {verdict}", console.strong(&text::path(&place)))];
    let mut trouble = |word: &str, message: &str| {
        let text = text::wrapped(&format!("  {word}: {}", text::safe(message)), "    ");
        lines.push(text.replacen(word, &console.alarming(word), 1));
    };
    let word = |running: bool| if running { "under way" } else { "unfinished" };
    status.under_way.iter().for_each(|work| trouble(word(work.holder.is_some()), &work.message));
    status.problems.iter().for_each(|problem| trouble("problem", &problem.message));
    for path in &status.leftovers {
        let message = format!("{} was never finished and nothing refers to it: remove it", path.display());
        trouble("left over", &message);
    }
    lines.extend(
        status.held.iter().map(|held| format!("  held: {} by {}", text::name(&held.path), text::safe(&held.holder))),
    );
    lines.extend(status.not_seen.iter().map(|what| text::wrapped(&format!("  {}", text::safe(what)), "    ")));
    if !status.current.is_empty() {
        let mut table = Table::new(&["guests write to", "state", ">disk", ">on host", ">can grow by", ">layers below"]);
        for disk in &status.current {
            table.row(vec![
                text::name(&disk.path),
                if disk.whole { "whole" } else { "BROKEN" }.to_owned(),
                console.size(disk.virtual_size),
                console.size(disk.allocated_size),
                console.size(disk.most_growth),
                disk.depth.to_string(),
            ]);
        }
        lines.extend(table.lines(console));
    }
    let mut facts = vec![format!(
        "{} in {}",
        text::count(status.images, "image", "images"),
        text::count(status.families, "family", "families")
    )];
    if status.deepest > 1 {
        facts.push(format!("the deepest chain has {} layers", status.deepest));
    }
    if let Some((path, since)) = &status.oldest_frozen {
        facts.push(format!("oldest frozen layer {}, {}", text::name(path), text::age(Some(*since))));
    }
    if !status.pinned.is_empty() {
        facts.push(format!(
            "pinned: {}",
            status.pinned.iter().map(|path| text::name(path)).collect::<Vec<_>>().join(", ")
        ));
    }
    lines.push(text::wrapped(&format!("  {}", facts.join("; ")), "  "));
    let fits = match status.worst_growth <= status.host_free {
        true => "fits".to_owned(),
        false => format!("does {}", console.alarming("not fit")),
    };
    lines.push(text::wrapped(
        &format!(
            "  {} free on the host; all disks together can still grow by {}, which {fits}",
            console.size(status.host_free),
            console.size(status.worst_growth)
        ),
        "  ",
    ));
    lines
}
