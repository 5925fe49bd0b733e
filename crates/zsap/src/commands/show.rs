//! `zsap show`.

use std::path::{Path, PathBuf};

use zestful_sapling::Error;
use zestful_sapling::family::{FolderReport, ParentState, PlaceReport, Problem, Report, Totals, inspect};
use zestful_sapling::finding::Severity;
use zestful_sapling::grove::inspect_folder;
use zestful_sapling::guest::Volumes;
use zestful_sapling::image::Kind;
use zestful_sapling::storage::free_space;

use super::status::state_cell;
use crate::advice;
use crate::args::show::Show;
use crate::console::Console;
use crate::exit::{Failure, Outcome, status};
use crate::report::compact::scatter;
use crate::report::json::Shown;
use crate::report::problems::{Room, Troubles};
use crate::report::table::{self, Table};
use crate::report::text;
use crate::report::volumes::{self, Inside};

pub(super) fn run(console: &Console, typed: &Show) -> Result<Outcome, Failure> {
    let Show { path: paths, machine, format, depth } = typed;
    let named = |path: &PathBuf| if machine.is_used() { machine.image(path) } else { Ok(path.clone()) };
    let paths = &paths.iter().map(named).collect::<Result<Vec<PathBuf>, _>>()?;
    let (mut images, mut inside, mut problems, mut lines) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let (mut failed, mut unread, mut totals) = (None, 0usize, Totals::default());
    for path in paths {
        if path.is_dir() {
            let mut found = inspect_folder(depth.folder(path))?;
            lines.extend(folder_lines(console, path, &found));
            // A folder is a list of images; what is inside of each is told when it is named.
            inside.extend(found.images.iter().map(|_| Inside::default()));
            images.append(&mut found.images);
            problems.append(&mut found.problems);
            totals.join(&found.totals);
            continue;
        }
        match format.of(path).and_then(|format| inspect(path, format)) {
            Ok(report) => {
                let (told, found) = volumes::look(path, Some(report.format));
                lines.extend(image_lines(console, &report));
                lines.extend(volume_lines(console, &found));
                totals.join(&Totals::of_reports(std::slice::from_ref(&report)));
                images.push(report);
                inside.push(told);
            }
            // One that cannot be read does not take the others with it.
            Err(error) if paths.len() > 1 => {
                lines.push(console.strong(&text::path(path)));
                lines.push(trouble(console, "unreadable", &error.with_causes()));
                lines.extend(advice::lines(&advice::next(&error), "    "));
                problems.push(Problem::of_error(path, &error));
                failed.get_or_insert(status(&error));
                unread += 1;
            }
            Err(error) => return Err(error.into()),
        }
    }
    console.answer(&Shown::new(&images, &inside, &problems, totals), lines)?;
    let Some(status) = failed else { return Ok(Outcome::Done) };
    if !console.json() {
        console.error(&format!("{unread} of {} could not be read", paths.len()));
    }
    Err(Failure::Told(status))
}

fn folder_lines(console: &Console, folder: &Path, found: &FolderReport) -> Vec<String> {
    let headings = ["image", "state", "format", "kind", ">disk", ">on host", ">share", "parent"];
    let mut table = Table::new(&headings).folding(&["share", "kind", "format"]);
    for report in &found.images {
        let parent = match &report.parent {
            None => "-".to_owned(),
            Some(parent) => {
                let name = parent.found_path.as_deref().map_or_else(|| "?".to_owned(), text::name);
                match parent.state {
                    ParentState::Ok => name,
                    state => format!("{name}: {}", table::alarming(state_word(state))),
                }
            }
        };
        table.row(vec![
            text::below(&report.path, folder),
            state_cell(report.state),
            report.format.to_string(),
            report.kind.to_string(),
            console.size(report.virtual_size),
            console.size(report.allocated_size),
            text::share(report.allocated_size, report.virtual_size),
            parent,
        ]);
    }
    let place = std::fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
    let mut lines = vec![console.strong(&text::safe(&place.to_string_lossy()))];
    lines.extend(table.lines(console));
    let free = free_space(folder).map_or_else(|_| String::new(), |free| format!("; {} free", console.size(free)));
    let sums = format!(
        "  {}: {} on the host for {} promised to guests{free}",
        text::images(&found.totals),
        console.size(found.totals.allocated),
        console.size(found.totals.promised)
    );
    lines.push(text::wrapped(&sums, "    "));
    let troubles = Troubles::new(folder, &found.problems, &[]);
    lines.extend(troubles.lines(console, Room::below(found.images.len())));
    lines.extend(troubles.end(console, "", 0));
    lines
}

fn state_word(state: ParentState) -> &'static str {
    match state {
        ParentState::Ok => "ok",
        ParentState::Missing => "missing",
        ParentState::Mismatch => "changed, or another disk",
        _ => "unusable",
    }
}

fn image_lines(console: &Console, report: &Report) -> Vec<String> {
    let mut lines = vec![console.strong(&text::path(&report.path))];
    if let Some(problem) = report.parent.as_ref().and_then(|parent| parent.problem.as_ref()) {
        lines.push(trouble(console, "problem", problem));
    }
    if let Some(work) = &report.under_way {
        lines.push(trouble(console, "unfinished", &work.message));
        lines.extend(advice::lines(&advice::next_for_work(work), "    "));
    }
    lines.extend(report.findings.iter().map(|warning| {
        let word = if warning.severity() == Severity::Error { "damage" } else { "warning" };
        trouble(console, word, &warning.to_string())
    }));
    let mut line = |label: &str, text: String| {
        lines.push(text::wrapped(&format!("  {label:<12}{text}"), &" ".repeat(14)));
    };
    line(
        "disk",
        format!(
            "{}, sectors of {} bytes (physical {})",
            console.size(report.virtual_size),
            report.logical_sector,
            report.physical_sector
        ),
    );
    let blocks = report.block_size.map_or_else(String::new, |bytes| format!(", blocks of {}", console.size(bytes)));
    let place = match report.place {
        PlaceReport::Device => ", a block device of the host",
        PlaceReport::Pieces => ", in pieces",
        _ => "",
    };
    line("image", format!("{}, {}{blocks}{place}", report.format, report.kind));
    let space = report.space.map_or_else(String::new, |space| format!("; {space}"));
    let taken = format!(
        "{} on the host ({} of the disk), the file is {} long{space}",
        console.size(report.allocated_size),
        text::share(report.allocated_size, report.virtual_size),
        console.size(report.file_size)
    );
    match report.place {
        PlaceReport::Pieces => line(
            "space",
            format!(
                "{} on the host, the pieces are {} together",
                console.size(report.allocated_size),
                console.size(report.file_size)
            ),
        ),
        PlaceReport::Device => line("space", "the whole device".to_owned()),
        _ => line("space", taken),
    }
    if let Some(blocks) = report.blocks {
        let held = blocks.full + blocks.partial;
        let mut parts = vec![format!("{} full", blocks.full)];
        if report.kind == Kind::Differencing {
            parts.push(format!("{} partial", blocks.partial));
        }
        parts.extend((blocks.zero > 0).then(|| format!("{} zeroed", blocks.zero)));
        parts.extend((blocks.unmapped > 0).then(|| format!("{} unmapped", blocks.unmapped)));
        line("blocks", format!("{held} of {} in this file ({})", blocks.total, parts.join(", ")));
    }
    if let Some(found) = &report.scatter {
        line("order", scatter(found));
    }
    if let Some(parent) = &report.parent {
        let found = parent.found_path.as_deref().map(text::path);
        let recorded = parent.recorded_paths.first().map(|path| text::safe(path)).unwrap_or_default();
        match parent.state {
            ParentState::Ok => line("parent", format!("ok: {}, recorded as {recorded}", found.unwrap_or_default())),
            state => line("parent", console.alarming(state_word(state))),
        }
        if console.common().verbose {
            for path in &parent.recorded_paths {
                line("", format!("recorded as {}", text::safe(path)));
            }
            line("", format!("known by {}", parent.identity.map_or_else(|| "-".to_owned(), |id| id.to_string())));
        }
        line("depth", format!("{} below this one", text::count(report.depth, "layer", "layers")));
    }
    if let Some(id) = report.identity {
        line("identity", format!("{id} (what a guest knows the disk by)"));
    }
    if let Some(id) = report.data_identity {
        line("data id", format!("{id} (children record it; it changes with the content)"));
    }
    if let Some(log) = report.log {
        let state = if log.pending { "changes wait in it; the next writer puts them in place" } else { "empty" };
        line("log", state.to_owned());
    }
    let held = match (&report.in_use, report.read_only) {
        (Some(holder), _) if report.place == PlaceReport::Device => format!("in use: {}", text::safe(holder)),
        (Some(holder), _) => format!("in use by {}", text::safe(holder)),
        (None, true) if report.pinned => "pinned, never to change: read-only on this host; no writer seen".to_owned(),
        (None, _) if report.pinned => console.alarming("pinned, but writable on this host"),
        (None, true) => "frozen: read-only on this host; no writer seen".to_owned(),
        (None, false) => "no writer seen on this host".to_owned(),
    };
    line("use", held);
    if report.place == PlaceReport::Device {
        return lines;
    }
    line("changed", text::age(report.modified));
    let growth = report.most_growth;
    let room = match (report.read_only || report.place == PlaceReport::Pieces, growth <= report.host_free) {
        (true, _) => "it grows no more".to_owned(),
        (false, true) => format!("the most it can still grow, {}, fits", console.size(growth)),
        (false, false) => {
            format!("it can still grow by {}, which does {}", console.size(growth), console.alarming("not fit"))
        }
    };
    line("host", format!("{} free; {room}", console.size(report.host_free)));
    lines
}

fn volume_lines(console: &Console, found: &Result<Volumes, Error>) -> Vec<String> {
    let mut told = volumes::lines(console, found).into_iter();
    let first = told.next().map(|first| text::wrapped(&format!("  {:<12}{first}", "volumes"), &" ".repeat(14)));
    first.into_iter().chain(told.map(|line| format!("  {line}"))).collect()
}

/// Something wrong, its first word standing out.
fn trouble(console: &Console, word: &str, message: &str) -> String {
    let text = text::wrapped(&format!("  {word:<12}{}", text::safe(message)), &" ".repeat(14));
    text.replacen(word, &console.alarming(word), 1)
}
