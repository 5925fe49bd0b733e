//! `zsap files list --deleted`.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use serde_json::json;
use zestful_sapling::grove::{Grove, checkpoints_of};
use zestful_sapling::guest::{Certainty, InnerPath};
use zestful_sapling::ops::{Deleted, DeletedFiles};

use crate::args::files::Place;
use crate::args::values::with;
use crate::console::{Console, SCHEMA_VERSION};
use crate::exit::{Failure, Outcome};
use crate::report::files::FileTold;
use crate::report::stream::Stream;
use crate::report::table::Table;
use crate::report::text;
use crate::watch;

pub(super) fn list(console: &Console, place: &Place, below: &InnerPath) -> Result<Outcome, Failure> {
    let image = place.machine.image(&place.disk_path)?;
    let find = with(DeletedFiles::new(&image), place.volume, DeletedFiles::with_volume);
    let find = with(find, place.format.of(&image)?, DeletedFiles::with_format);
    let found = watch::patiently(console, || watch::run(console, |progress| find.find(progress)))?;
    found.notes.iter().for_each(|note| console.warn(note));
    let checkpoints = checkpoints(place);
    let at = |layer: &Path| checkpoints.get(&real(layer)).map(String::as_str);
    let files: Vec<&Deleted> = found.files.iter().filter(|file| file.path().below(below).is_some()).collect();
    let volume = &found.volume;
    if console.json() {
        let content = volume.content.as_ref();
        let mut stream = Stream::begin(
            &json!({
                "schema_version": SCHEMA_VERSION,
                "volume": volume.number,
                "file_system": content.map(|content| content.file_system.name()),
                "label": content.and_then(|content| content.label.clone()),
            }),
            "entries",
        )?;
        for file in files {
            let checkpoint = if let Deleted::Held(layer, _) = file { at(layer) } else { None };
            stream.entry(&FileTold::of_deleted(file, checkpoint))?;
        }
        stream.end(&json!({ "left_out": [], "left_out_count": 0, "warnings": found.notes }))?;
        return Ok(Outcome::Done);
    }
    let mut lines = vec![console.strong(&format!("deleted files of volume {volume} of {}", text::path(&image)))];
    let mut table = Table::new(&["certainty", ">size", "changed (UTC)", "path", "where"]).folding(&["changed (UTC)"]);
    let mut counts = [0usize; 4];
    for file in &files {
        let (word, size, modified, whence) = match file {
            Deleted::Held(layer, entry) => {
                counts[0] += 1;
                let whence = at(layer).map_or_else(|| format!("in {}", text::path(layer)), |name| format!("at {name}"));
                ("sure", entry.size, entry.modified, whence)
            }
            Deleted::Left(file) => {
                let (number, word) = match file.certainty {
                    Certainty::Sure => (1, "sure"),
                    Certainty::Lost => (3, "lost"),
                    _ => (2, "unsure"),
                };
                counts[number] += 1;
                let why = if console.common().verbose { file.why } else { "" };
                (word, Some(file.size), file.modified, why.to_owned())
            }
        };
        let changed = modified.map_or_else(|| "-".to_owned(), |time| time.strftime("%Y-%m-%d %H:%M").to_string());
        let size = size.map_or_else(|| "-".to_owned(), |size| console.size(size));
        table.row(vec![word.to_owned(), size, changed, text::safe(&file.path().to_string()), whence]);
    }
    match files.is_empty() {
        true => lines.push("  none is known".to_owned()),
        false => lines.extend(table.lines(console)),
    }
    let [held, sure, unsure, lost] = counts;
    lines.push(format!("  {held} held by older layers, {sure} sure, {unsure} unsure, {lost} lost"));
    if unsure > 0 && !console.common().verbose {
        lines.push("  unsure: nothing has its place now, and something may have had it since (-v says why)".to_owned());
    }
    console.say(lines)?;
    Ok(Outcome::Done)
}

fn real(path: &Path) -> PathBuf {
    std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned())
}

/// The checkpoints of a machine, by the layers that show at them.
fn checkpoints(place: &Place) -> HashMap<PathBuf, String> {
    let grove = if place.disk_path.is_dir() { Grove::at(&place.disk_path).ok().flatten() } else { None };
    let Some(grove) = grove else { return HashMap::new() };
    let names = checkpoints_of(&grove).map(|list| list.checkpoints).unwrap_or_default();
    let disk = place.machine.disk.as_deref();
    let of = |name: String| Some((real(&grove.place(disk, Some(&name)).ok()?.path), name));
    names.into_iter().filter_map(|checkpoint| of(checkpoint.name)).collect()
}
