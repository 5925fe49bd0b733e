//! `zsap grove`: a machine's folder and its disks.

use zestful_sapling::Error;
use zestful_sapling::grove::{
    self, AddDisk, CopyGrove, GroveReport, NewGrove, RebuildOutcome, ReleaseDisk, RemoveGrove, disks_of,
};
use zestful_sapling::ops::{Operation, Planned};

use super::run::{asked, finish, perform};
use crate::advice;
use crate::args::grove::{Add, Copy, Grove, List, New, Rebuild, Release, Remove};
use crate::args::values::{IdentityName, with};
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::table::Table;
use crate::report::text;
use crate::watch;

pub(super) fn run(console: &Console, typed: &Grove) -> Result<Outcome, Failure> {
    match typed {
        Grove::New(typed) => new(console, typed),
        Grove::Add(typed) => add(console, typed),
        Grove::Release(typed) => release(console, typed),
        Grove::List(typed) => list(console, typed),
        Grove::Rebuild(typed) => rebuild(console, typed),
        Grove::Copy(typed) => copy(console, typed),
        Grove::Remove(typed) => remove(console, typed),
    }
}

fn new(console: &Console, typed: &New) -> Result<Outcome, Failure> {
    let Some(made) = perform(console, &NewGrove::new(&typed.folder, &typed.machine))? else {
        return Ok(Outcome::Done);
    };
    let machine = console.strong(&text::safe(&made.machine));
    let lines = [
        format!("{} is the grove of the machine {machine}", text::path(&typed.folder)),
        "  next: make or copy its disks into the folder, and add them with `zsap grove add`".to_owned(),
    ];
    console.answer(&made, lines)?;
    Ok(Outcome::Done)
}

fn add(console: &Console, typed: &Add) -> Result<Outcome, Failure> {
    let add = AddDisk::new(&typed.folder, &typed.image).with_role(typed.role.into()).moved(typed.moved);
    let add = with(add, typed.label.as_ref(), |add, label| add.with_label(label));
    let add = with(add, typed.format.map(Into::into), AddDisk::with_format);
    let Some(added) = perform(console, &asked(add, Some(&typed.options.search), &typed.options.force))? else {
        return Ok(Outcome::Done);
    };
    let label = console.strong(&text::safe(&added.label));
    let mut lines = vec![format!("{} has the disk {label}, {}", text::safe(&added.machine), added.role)];
    if !added.adopted.is_empty() {
        let names = text::safe(&added.adopted.join(", "));
        lines.push(text::wrapped(&format!("  layers that were there became checkpoints: {names}"), "    "));
    }
    console.answer(&added, lines)?;
    Ok(Outcome::Done)
}

fn release(console: &Console, typed: &Release) -> Result<Outcome, Failure> {
    let Some(released) = perform(console, &ReleaseDisk::new(&typed.folder, &typed.disk))? else {
        return Ok(Outcome::Done);
    };
    let line = format!(
        "{} is no disk of {} any more; {} stays as it is",
        console.strong(&text::safe(&released.label)),
        text::safe(&released.machine),
        text::path(&released.path)
    );
    console.answer(&released, [line])?;
    Ok(Outcome::Done)
}

fn list(console: &Console, typed: &List) -> Result<Outcome, Failure> {
    let found = disks_of(&grove::Grove::open(&typed.folder)?)?;
    console.answer(&found, listed(console, &found))?;
    Ok(Outcome::Done)
}

fn listed(console: &Console, found: &GroveReport) -> Vec<String> {
    let mut table = Table::new(&["disk", "role", "file", "format", ">disk", ">on host", ">checkpoints"])
        .folding(&["format", "checkpoints"]);
    for disk in &found.disks {
        let size = disk.virtual_size.map_or_else(|| console.alarming("?"), |size| console.size(size));
        table.row(vec![
            text::safe(&disk.label),
            disk.role.to_string(),
            text::name(&disk.path),
            disk.format.to_string(),
            size,
            console.size(disk.allocated_size),
            disk.checkpoints.to_string(),
        ]);
    }
    let count = text::count(found.disks.len(), "disk", "disks");
    let mut lines = vec![format!("{}: {count}", console.strong(&text::safe(&found.machine)))];
    lines.extend(table.lines(console));
    if found.roles_unknown {
        lines.push("  the catalogue was made anew from files: roles other than tracked must be set again".to_owned());
    }
    for problem in found.disks.iter().filter_map(|disk| disk.problem.as_ref()) {
        let line = text::wrapped(&format!("  broken: {}", text::safe(problem)), "    ");
        lines.push(line.replacen("broken:", &console.alarming("broken:"), 1));
    }
    if let Some(work) = &found.under_way {
        let line = text::wrapped(&format!("  unfinished: {}", text::safe(&work.message)), "    ");
        lines.push(line.replacen("unfinished:", &console.alarming("unfinished:"), 1));
        lines.extend(advice::lines(&advice::next_for_work(work), "    "));
    }
    lines
}

fn rebuild(console: &Console, typed: &Rebuild) -> Result<Outcome, Failure> {
    let rebuild = grove::Rebuild::new(&typed.folder);
    let rebuild = with(rebuild, typed.machine.as_ref(), |rebuild, name| rebuild.with_machine(name));
    let Some(made) = perform(console, &rebuild)? else { return Ok(Outcome::Done) };
    console.answer(&made, rebuilt(console, &made))?;
    Ok(Outcome::Done)
}

/// What was made anew.
pub(super) fn rebuilt(console: &Console, made: &RebuildOutcome) -> Vec<String> {
    let mut lines = vec![format!(
        "made the catalogue of {} anew: {}, {}",
        console.strong(&text::safe(&made.machine)),
        text::count(made.disks.len(), "disk", "disks"),
        text::count(made.checkpoints.len(), "checkpoint", "checkpoints")
    )];
    lines.extend(made.set_aside.iter().map(|aside| format!("  the old one is kept as {}", text::path(aside))));
    lines
}

fn copy(console: &Console, typed: &Copy) -> Result<Outcome, Failure> {
    let copy = CopyGrove::new(&typed.folder, &typed.target).flat(typed.flat).with_identity(typed.identity.into());
    let copy = with(copy, typed.checkpoint.as_ref(), |copy, name| copy.at_checkpoint(name));
    let copy = with(copy, typed.machine.as_ref(), |copy, name| copy.with_machine(name));
    let Some(made) = perform(console, &asked(copy, None, &typed.force))? else { return Ok(Outcome::Done) };
    let mut lines = vec![
        format!("made {}, the machine {}", console.strong(&text::path(&typed.target)), text::safe(&made.machine)),
        format!(
            "  {} with {}; {} copied",
            text::count(made.disks.len(), "disk", "disks"),
            text::count(made.checkpoints, "checkpoint", "checkpoints"),
            console.size(made.bytes_copied)
        ),
    ];
    if matches!(typed.identity, IdentityName::Keep) {
        lines.push("  it has the identities of the original: never use both side by side".to_owned());
    }
    console.answer(&made, lines)?;
    Ok(Outcome::Done)
}

fn remove(console: &Console, typed: &Remove) -> Result<Outcome, Failure> {
    let remove = asked(RemoveGrove::new(&typed.folder), Some(&typed.options.search), &typed.options.force);
    let plan = watch::patiently(console, || remove.clone().plan())?;
    if console.show_plan(plan.summary())? {
        return Ok(Outcome::Done);
    }
    let what = format!("{} goes with all its checkpoints", text::path(&typed.folder));
    if !console.common().yes && !console.confirms(&what) {
        return Err(Error::usage(
            format!("{what}, and nobody said that it is meant"),
            "look at it with --plan, and say --yes",
        )
        .into());
    }
    let gone = finish(console, &plan)?;
    let mut lines = vec![format!(
        "removed {}: {}, {} free again",
        console.strong(&text::safe(&gone.machine)),
        text::count(gone.removed.len(), "image", "images"),
        console.size(gone.freed_bytes)
    )];
    if gone.folder.exists() {
        lines.push(format!("  {} stays, since other files lie in it", text::path(&typed.folder)));
    }
    console.answer(&gone, lines)?;
    Ok(Outcome::Done)
}
