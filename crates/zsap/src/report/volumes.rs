//! The volumes of a disk, for people and for scripts.

use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::guest::{FileSystem, Volume, Volumes, volumes};
use zestful_sapling::image::Format;
use zestful_sapling::ops::PrepareOutcome;
use zestful_sapling::path_data::PathData;
use zestful_sapling::{Error, Result};

use super::table::Table;
use super::text;
use crate::console::Console;

/// What is told of the inside of a disk.
#[derive(Default, Serialize, JsonSchema)]
pub(crate) struct Inside {
    /// The partition table, `gpt` or `mbr`; null when there is none, or it was not looked at.
    table: Option<String>,
    /// The volumes in the order of the table; null when they were not looked at, or cannot be read.
    volumes: Option<Vec<VolumeTold>>,
    /// What is wrong with the table, or why it cannot be read.
    volume_problems: Vec<String>,
}

/// A volume. Sizes are in bytes; what is not known is null.
#[derive(Serialize, JsonSchema)]
pub(crate) struct VolumeTold {
    /// Counted from 1 in the order of the table.
    number: u32,
    /// The number of its partition, as hosts count; null when it is the whole disk.
    partition: Option<u32>,
    /// Its first byte on the disk.
    offset: u64,
    /// Its length.
    length: u64,
    /// What its partition is for.
    #[serde(rename = "type")]
    kind: Option<String>,
    /// The name of its partition.
    name: Option<String>,
    /// What it holds.
    file_system: Option<FileSystem>,
    /// What else has left its signature there.
    also: Vec<FileSystem>,
    /// The label of the file system.
    label: Option<String>,
    /// Its identifier: a UUID, or a serial number.
    identifier: Option<String>,
    /// Its own size.
    size: Option<u64>,
    /// What is used of it.
    used: Option<u64>,
    /// What is free.
    free: Option<u64>,
    /// Whether it was unmounted after its last use.
    clean: Option<bool>,
}

impl VolumeTold {
    fn of(volume: &Volume) -> Self {
        let (partition, content) = (volume.partition.as_ref(), volume.content.as_ref());
        let name = partition.map(|partition| partition.name.clone()).filter(|name| !name.is_empty());
        Self {
            number: volume.number,
            partition: partition.map(|partition| partition.number),
            offset: volume.start,
            length: volume.len,
            kind: partition.map(|partition| partition.kind.to_string()),
            name,
            file_system: content.map(|content| content.file_system),
            also: content.map(|content| content.also.clone()).unwrap_or_default(),
            label: content.and_then(|content| content.label.clone()),
            identifier: content.and_then(|content| content.identifier.clone()),
            size: content.and_then(|content| content.size),
            used: content.and_then(|content| content.used),
            free: content.and_then(|content| content.free),
            clean: content.and_then(|content| content.clean),
        }
    }
}

impl Inside {
    fn of(found: &Volumes) -> Self {
        Self {
            table: found.table.map(|table| table.to_string().to_lowercase()),
            volumes: Some(found.volumes.iter().map(VolumeTold::of).collect()),
            volume_problems: found.problems.iter().map(ToString::to_string).collect(),
        }
    }
}

/// What `zsap prepare` answers.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Prepared {
    /// The current image of the disk.
    path: PathData,
    #[serde(flatten)]
    inside: Inside,
}

impl Prepared {
    pub(crate) fn of(outcome: &PrepareOutcome) -> Self {
        Self { path: outcome.path.as_path().into(), inside: Inside::of(&outcome.volumes) }
    }
}

/// Looks into a disk; what keeps it from being looked at is told in the place of its volumes.
pub(crate) fn look(path: &Path, format: Option<Format>) -> (Inside, Result<Volumes>) {
    let options = crate::args::values::with(OpenOptions::new(), format, OpenOptions::with_format);
    let found = Chain::open_for_look(path, &options).and_then(|(disk, _)| volumes(&disk));
    let inside = match &found {
        Ok(found) => Inside::of(found),
        Err(error) => Inside { volume_problems: vec![error.with_causes()], ..Inside::default() },
    };
    (inside, found)
}

/// The lines behind the word `volumes`, the first of which follows it.
pub(crate) fn lines(console: &Console, found: &Result<Volumes>) -> Vec<String> {
    let found = match found {
        Ok(found) => found,
        // What is wrong with the chain is told above.
        Err(Error::Parent(_)) => return vec!["cannot be read without the parent".to_owned()],
        Err(error) => return vec![format!("cannot be read: {}", text::safe(&error.with_causes()))],
    };
    let count = text::count(found.volumes.len(), "volume", "volumes");
    let head = match (found.table, found.volumes.is_empty()) {
        (Some(table), _) => format!("{count} in a {table}"),
        (None, true) => "none: no partition table, and no file system that is known".to_owned(),
        (None, false) => "no partition table: the whole disk is one".to_owned(),
    };
    let mut lines = vec![head];
    if !found.volumes.is_empty() {
        lines.extend(table(console, &found.volumes));
    }
    for problem in &found.problems {
        lines.push(text::wrapped(&format!("  {}: {problem}", console.alarming("table")), "    "));
    }
    let also = found.volumes.iter().filter(|volume| volume.content.as_ref().is_some_and(|held| !held.also.is_empty()));
    for volume in also {
        let others = volume.content.iter().flat_map(|held| &held.also).map(ToString::to_string);
        let others = others.collect::<Vec<_>>().join(", ");
        lines.push(format!("  volume {} carries the signature of {others}, too", volume.number));
    }
    lines
}

fn table(console: &Console, volumes: &[Volume]) -> Vec<String> {
    let mut table = Table::new(&["volume", "holds", "label", ">size", ">used", ">free", "state", "partition"])
        .folding(&["used", "state", "partition"]);
    for volume in volumes {
        let content = volume.content.as_ref();
        let size = |size: Option<u64>| size.map_or_else(|| "-".to_owned(), |size| console.size(size));
        let state = match content.and_then(|content| content.clean) {
            Some(true) => "unmounted",
            Some(false) => "not unmounted",
            None => "-",
        };
        let label = content.and_then(|content| content.label.as_deref()).map_or_else(|| "-".to_owned(), text::safe);
        let partition = volume.partition.as_ref().map_or_else(
            || "whole disk".to_owned(),
            |partition| {
                let name = if partition.name.is_empty() { String::new() } else { format!(": {}", partition.name) };
                text::safe(&format!("{} {}{name}", partition.number, partition.kind))
            },
        );
        table.row(vec![
            volume.number.to_string(),
            content.map_or_else(|| "nothing known".to_owned(), |content| content.file_system.to_string()),
            label,
            console.size(volume.len),
            size(content.and_then(|content| content.used)),
            size(content.and_then(|content| content.free)),
            state.to_owned(),
            partition,
        ]);
    }
    table.lines(console)
}
