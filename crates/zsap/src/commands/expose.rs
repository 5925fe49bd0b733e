//! `zsap expose`.

use std::sync::Arc;

use zestful_sapling::ops::Plan;
use zestful_sapling_attach::{Exposure, Mode, Opened};

use super::attach::{self, First};
use crate::args::expose::Expose;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::events::{Exposed, Told};
use crate::report::table::Table;
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Expose) -> Result<Outcome, Failure> {
    let (path, folder) = (&typed.path, &typed.folder);
    if console.common().plan {
        let step = format!("show {} in the folder {}, {}", path.display(), folder.display(), typed.attaching.words());
        console.show_plan(&Plan::of("expose", vec![step]))?;
        return Ok(Outcome::Done);
    }
    if typed.attaching.background {
        return attach::in_background(console, folder);
    }
    let opened = attach::open(console, path, &typed.attaching, &typed.force)?;
    let exposure = Exposure::new(folder, path, opened.export().clone())?;
    let exposed = Exposed::new(&exposure);
    exposed.problems.iter().for_each(|problem| console.warn(&format!("partition table: {problem}")));
    if !exposure.is_for_root() {
        console.warn(
            "root does not see these files, and so cannot mount them: this host's /etc/fuse.conf does not say \
             user_allow_other; what needs no root works",
        );
    }
    let lines = lines(console, &exposure, &opened);
    let first = First { lines, told: Told::Exposed(exposed) };
    attach::run(console, path, &typed.attaching, Arc::new(exposure), Some(opened), &first)
}

/// The files, and what to type next.
fn lines(console: &Console, exposure: &Exposure, opened: &Opened) -> Vec<String> {
    let export = opened.export();
    let mut table = Table::new(&["file", ">size", "what it is"]);
    let whole = text::safe(&format!("{}: {}", export.name(), export.description()));
    table.row(vec![text::path(&exposure.disk()), console.size(export.size()), whole]);
    for (file, part) in exposure.partitions() {
        let name = if part.name.is_empty() { String::new() } else { format!(", {:?}", text::safe(&part.name)) };
        table.row(vec![text::path(&file), console.size(part.len), format!("{}{name}", part.kind)]);
    }
    let mut lines = table.lines(console);
    lines.extend(next(exposure, opened).into_iter().map(|(what, typed)| format!("  {what:<12}{typed}")));
    lines.push(format!("  {:<12}zsap detach {}", "end it:", text::path(exposure.folder())));
    lines
}

/// What to type, with the real names.
fn next(exposure: &Exposure, opened: &Opened) -> Vec<(&'static str, String)> {
    let disk = text::path(&exposure.disk());
    let is_writable = opened.mode() != Mode::ReadOnly;
    let parts = exposure.partitions();
    match parts.first() {
        Some((part, _)) => {
            let part = text::path(part);
            match is_writable {
                true => {
                    vec![("format:", format!("mkfs.ext4 {part}")), ("mount:", format!("mount -o loop {part} FOLDER"))]
                }
                false => vec![("mount:", format!("mount -o loop,ro {part} FOLDER"))],
            }
        }
        None if is_writable && opened.export().logical_sector() == 4096 => vec![
            ("partition:", format!("losetup --sector-size 4096 --find --show --partscan {disk}")),
            ("", "then sfdisk, and the file systems, on the loop device that it names".to_owned()),
        ],
        None if is_writable => vec![
            ("partition:", format!("sfdisk {disk}")),
            ("", "then detach and expose it again, and its partitions are files, too".to_owned()),
        ],
        None => Vec::new(),
    }
}
