//! What a process that has a disk attached tells.

use std::fmt;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::path_data::PathData;
use zestful_sapling::progress::Reading;
use zestful_sapling::size::format_size;
use zestful_sapling_attach::{Event, Exposure};

use super::text;

/// One line of what a server tells.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "event", rename_all = "snake_case")]
pub(crate) enum Told {
    /// Clients may come.
    Serving {
        /// Where they find the disks.
        uris: Vec<String>,
    },
    /// The disk is there, as files.
    Exposed(Exposed),
    /// All is over.
    Ended {
        /// Whether what was written is kept, and durable.
        kept: bool,
    },
    #[serde(untagged)]
    Happened(Event),
}

/// How far long work is.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Advanced {
    /// What a line is.
    event: &'static str,
    /// When.
    #[schemars(with = "String")]
    time: Timestamp,
    /// What is being done.
    what: String,
    /// Bytes done of it.
    done: u64,
    /// Bytes in all; null where nobody knows.
    total: Option<u64>,
}

impl From<Reading> for Advanced {
    fn from(reading: Reading) -> Self {
        let total = Some(reading.total).filter(|total| *total > 0);
        Self { event: "progress", time: Timestamp::now(), what: reading.what, done: reading.done, total }
    }
}

/// A server in the background.
#[cfg(test)]
#[derive(Serialize, JsonSchema)]
pub(crate) struct Served {
    /// Where clients find the disks.
    uris: Vec<String>,
    /// The server.
    process: u32,
}

/// A disk that is shown as files.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Exposed {
    /// The folder.
    folder: PathData,
    /// The whole disk first, then its partitions.
    files: Vec<ExposedFile>,
    /// What is wrong with the partition table.
    pub(crate) problems: Vec<String>,
    /// Whether root sees the files, who alone may mount them.
    for_root: bool,
    /// The process in the background that shows them.
    #[serde(skip_serializing_if = "Option::is_none")]
    process: Option<u32>,
}

/// A file that is a disk, or a partition of it.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ExposedFile {
    path: PathData,
    /// Bytes.
    size: u64,
    /// The number of the partition; none for the whole disk.
    partition: Option<u32>,
    /// What the partition is for, as its table says.
    kind: Option<String>,
    /// Its name, as its table says.
    name: Option<String>,
}

impl Exposed {
    pub(crate) fn new(exposure: &Exposure) -> Self {
        let disk = exposure.disk();
        let whole =
            ExposedFile { path: disk.as_path().into(), size: exposure.size(), partition: None, kind: None, name: None };
        let parts = exposure.partitions().into_iter().map(|(path, part)| ExposedFile {
            path: path.as_path().into(),
            size: part.len,
            partition: Some(part.number),
            kind: Some(part.kind.to_string()),
            name: Some(part.name.clone()).filter(|name| !name.is_empty()),
        });
        Self {
            folder: exposure.folder().into(),
            files: std::iter::once(whole).chain(parts).collect(),
            problems: exposure.table().problems.iter().map(ToString::to_string).collect(),
            for_root: exposure.is_for_root(),
            process: None,
        }
    }
}

impl fmt::Display for Told {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Serving { uris } => f.write_str(&uris.join("\n")),
            Self::Happened(event) => tell(event, f),
            Self::Exposed(exposed) => write!(f, "shown in {}", exposed.folder.to_path().display()),
            Self::Ended { kept: true } => f.write_str("ended; all that was written is durable"),
            Self::Ended { kept: false } => f.write_str("ended; what was written is forgotten"),
        }
    }
}

fn tell(event: &Event, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    match event {
        Event::ClientCame { client, peer, export, encrypted } => {
            let how = if *encrypted { ", under TLS" } else { "" };
            write!(f, "client {client} came for {export}: {peer}{how}")
        }
        Event::ClientWent { client, reason, bytes_read, bytes_written, .. } => write!(
            f,
            "client {client} went: {reason}; it read {} and wrote {}",
            format_size(*bytes_read),
            format_size(*bytes_written)
        ),
        Event::TurnedAway { peer, reason } => write!(f, "turned away: {peer}: {reason}"),
        Event::TroubleBegan { export, message } => write!(f, "requests for {export} fail: {message}"),
        Event::TroubleOver { export } => write!(f, "requests for {export} are done again"),
        Event::LittleRoom { folder, free } => {
            write!(f, "only {} are left in {}, where writes go", format_size(*free), folder.to_path().display())
        }
        Event::TableChanged { partitions, .. } => {
            let count = text::count(*partitions, "partition", "partitions");
            write!(f, "the partition table changed, and has {count} now: detach and expose the disk again to see them")
        }
        Event::Grown { size, devices } => {
            write!(f, "the disk has {} now", format_size(*size))?;
            devices.iter().try_for_each(|device| write!(f, "; tell {device} with: losetup -c {device}"))
        }
        Event::CheckpointTaken { name, paused_milliseconds } => {
            let paused = paused_milliseconds.unwrap_or_default();
            write!(f, "took the checkpoint {name}; requests waited for {paused} ms")
        }
        Event::StillInUse { holders } => {
            write!(f, "it ends as soon as nobody uses it: {}; a second signal ends it at once", holders.join("; "))
        }
        other => write!(f, "{other:?}"),
    }
}

/// A line for scripts.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Line<'a> {
    /// When it happened.
    pub(crate) time: Timestamp,
    #[serde(flatten)]
    pub(crate) told: &'a Told,
}
