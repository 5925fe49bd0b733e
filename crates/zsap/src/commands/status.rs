//! `zsap status`.

use zestful_sapling::family::{Health, Problem, Status};
use zestful_sapling::grove::status_of;

use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::FolderStatus;
use crate::report::table::Table;
use crate::report::text;
use crate::settings;
use crate::{advice, args};

pub(super) fn run(console: &Console, typed: &args::status::Status) -> Result<Outcome, Failure> {
    let status = status_of(&typed.folder, &settings::current().settings.limits())?;
    console.answer(&FolderStatus::from(&status), lines(console, &status))?;
    Ok(match status.state {
        Health::Attention if typed.ignore.is_some() => Outcome::Done,
        state => state.into(),
    })
}

fn lines(console: &Console, status: &Status) -> Vec<String> {
    let place = std::fs::canonicalize(&status.folder).unwrap_or_else(|_| status.folder.clone());
    let verdict = match status.state {
        Health::Healthy => "healthy".to_owned(),
        Health::Attention => "worth a look".to_owned(),
        Health::Unfinished => console.alarming("unfinished"),
        _ => console.alarming("BROKEN"),
    };
    let mut lines = vec![format!("{}: {verdict}", console.strong(&text::path(&place)))];
    let trouble = |word: &str, message: &str| {
        let text = text::wrapped(&format!("  {word}: {}", text::safe(message)), "    ");
        text.replacen(word, &console.alarming(word), 1)
    };
    let told = |problem: &Problem| {
        let word = if problem.severity == Health::Broken { "broken" } else { "note" };
        let next = advice::lines(&advice::next_for(problem), "    ");
        std::iter::once(trouble(word, &problem.message)).chain(next)
    };
    // The worst comes first.
    let (broken, notes): (Vec<&Problem>, Vec<&Problem>) =
        status.problems.iter().partition(|problem| problem.severity == Health::Broken);
    let several = status.problems.len() + status.under_way.len() > 1;
    let first = broken.iter().flat_map(|problem| advice::next_for(problem)).next();
    let first = first.or_else(|| status.under_way.iter().flat_map(advice::next_for_work).next());
    lines.extend(broken.into_iter().flat_map(told));
    for work in &status.under_way {
        lines.push(trouble(if work.holder.is_some() { "under way" } else { "unfinished" }, &work.message));
        lines.extend(advice::lines(&advice::next_for_work(work), "    "));
    }
    lines.extend(notes.into_iter().flat_map(told));
    lines.extend(status.held.iter().map(|held| text::held(&held.path, &held.holder)));
    lines.extend(status.not_seen.iter().map(|what| text::wrapped(&format!("  {}", text::safe(what)), "    ")));
    if !status.current.is_empty() {
        let mut table = Table::new(&["guests write to", "state", ">disk", ">on host", ">can grow by", ">layers below"]);
        for disk in &status.current {
            table.row(vec![
                text::name(&disk.path),
                state_word(disk.state).to_owned(),
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
    if let Some(oldest) = &status.oldest_frozen {
        facts.push(format!("oldest frozen layer {}, {}", text::name(&oldest.path), text::age(Some(oldest.since))));
    }
    if !status.pinned.is_empty() {
        facts.push(format!(
            "pinned: {}",
            status.pinned.iter().map(|path| text::name(path)).collect::<Vec<_>>().join(", ")
        ));
    }
    lines.push(text::wrapped(&format!("  {}", facts.join("; ")), "  "));
    let fits = match status.most_growth <= status.host_free {
        true => "fits".to_owned(),
        false => format!("does {}", console.alarming("not fit")),
    };
    lines.push(text::wrapped(
        &format!(
            "  {} free on the host; all disks together can still grow by {}, which {fits}",
            console.size(status.host_free),
            console.size(status.most_growth)
        ),
        "  ",
    ));
    // Of several the worst comes first, and says what to type.
    lines.extend(advice::lines(&first.filter(|_| several).into_iter().collect::<Vec<_>>(), "  "));
    lines
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
