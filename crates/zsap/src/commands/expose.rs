//! `zsap expose`.

use std::sync::Arc;

use zestful_sapling::ops::Plan;
use zestful_sapling_attach::{Exposure, Mode, Opened};

use super::attach::{self, AttachedDisk, First};
use crate::args::expose::Expose;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::events::{Exposed, Told};
use crate::report::table::Table;
use crate::report::text;

/// Lines about what to type next.
const MOST_LINES: usize = 6;

pub(super) fn run(console: &Console, typed: &Expose) -> Result<Outcome, Failure> {
    let (path, folder) = (&typed.machine.image(&typed.path)?, &typed.folder);
    if console.common().plan {
        let step = format!("show {} in the folder {}, {}", path.display(), folder.display(), typed.attaching.words());
        console.show_plan(&Plan::of("expose", vec![step]))?;
        return Ok(Outcome::Done);
    }
    if typed.attaching.background {
        return attach::in_background(console, folder);
    }
    let disk = AttachedDisk { path, name: None, format: None, mode: typed.attaching.mode() };
    let opened = attach::open(console, &disk, &typed.attaching, &typed.force)?;
    let exposure = Exposure::new(folder, path, opened.export().clone())?;
    let exposed = Exposed::new(&exposure);
    exposed.problems.iter().for_each(|problem| console.warn(&format!("partition table: {problem}")));
    if !exposure.is_for_root() {
        console.warn(
            "root does not see these files, and so cannot mount them: this host's /etc/fuse.conf does not say \
             user_allow_other; what needs no root works",
        );
    }
    let mut lines = lines(console, &exposure, &opened)?;
    if !typed.attaching.detached {
        lines.push(format!("  {:<11}zsap detach {}", "end", text::path(exposure.folder())));
    }
    let first = First { lines, told: Told::Exposed(exposed) };
    attach::run(console, path, &typed.attaching, Arc::new(exposure), vec![opened], &first)
}

/// The files, and what to type next.
fn lines(console: &Console, exposure: &Exposure, opened: &Opened) -> Result<Vec<String>, Failure> {
    let export = opened.export();
    let mut table = Table::new(&["file", ">size", "what it is"]);
    let whole = text::safe(&format!("{}: {}", export.name(), export.description()));
    table.row(vec![text::path(&exposure.disk()), console.size(export.size()), whole]);
    for (file, part) in exposure.partitions() {
        let name = if part.name.is_empty() { String::new() } else { format!(", {:?}", text::safe(&part.name)) };
        table.row(vec![text::path(&file), console.size(part.len), format!("{}{name}", part.kind)]);
    }
    let mut lines = table.lines(console);
    lines.extend(next(exposure, opened)?.into_iter().map(|(what, typed)| format!("  {what:<11}{typed}")));
    Ok(lines)
}

/// What to type, with the real names. Nothing is proposed to be formatted that may hold something.
fn next(exposure: &Exposure, opened: &Opened) -> Result<Vec<(&'static str, String)>, Failure> {
    let disk = text::path(&exposure.disk());
    let is_writable = opened.mode() != Mode::ReadOnly;
    let parts = exposure.partitions();
    if parts.is_empty() && exposure.is_blank(None)? {
        return Ok(match (is_writable, opened.export().logical_sector()) {
            (false, _) => Vec::new(),
            (_, 512) => vec![
                ("partition", format!("sfdisk {disk}")),
                ("", "then detach and expose it again, and its partitions are files, too".to_owned()),
            ],
            (_, sector) => vec![
                ("partition", format!("losetup --sector-size {sector} --find --show {disk}")),
                ("", "sfdisk and losetup -d with the device that it names, then detach and expose it again".to_owned()),
            ],
        });
    }
    let mut lines = Vec::new();
    let whole = (exposure.disk(), None);
    let all = parts.iter().map(|(file, part)| (file.clone(), Some(*part)));
    let files: Vec<_> = if parts.is_empty() { vec![whole] } else { all.collect() };
    for (file, part) in files {
        let file = text::path(&file);
        match (is_writable, exposure.is_blank(part)?) {
            (true, true) => lines.push(("format", format!("mkfs.ext4 {file}"))),
            (false, true) => {}
            (true, false) => lines.push(("mount", format!("mount -o loop {file} FOLDER"))),
            (false, false) => lines.push(("mount", format!("mount -o loop,ro {file} FOLDER"))),
        }
    }
    lines.truncate(MOST_LINES);
    Ok(lines)
}
