//! What lies in volumes, as scripts read it.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::guest::{Certainty, ChangedBy, Entry, EntryKind, InnerPath, LeftOut};
use zestful_sapling::ops::{Deleted, TakeOutOutcome};
use zestful_sapling::path_data::PathData;

/// What is in a volume.
#[cfg_attr(
    not(test),
    expect(dead_code, reason = "it is written entry by entry, and only its schema is taken from here")
)]
#[derive(Serialize, JsonSchema)]
pub(crate) struct FilesListed {
    /// The volume, counted from 1 in the order of the table.
    volume: u32,
    /// What it holds.
    file_system: String,
    /// Its label; null when it has none.
    label: Option<String>,
    /// The files, folders and others.
    entries: Vec<FileTold>,
    /// What could not be read, wholly or in part; at most fifty.
    left_out: Vec<LeftOutTold>,
    /// How many that are, named or not.
    left_out_count: u64,
}

/// Something in a folder of a volume.
#[derive(Serialize, JsonSchema)]
pub(crate) struct FileTold {
    /// From the root of the volume. What is no Unicode in it is shown as `\u{FFFD}`.
    path: String,
    /// The bytes of the path as hexadecimal digits, where it is no Unicode.
    path_bytes: Option<String>,
    /// What it is.
    kind: EntryKind,
    /// The length of a file in bytes; null of what has none.
    size: Option<u64>,
    /// When it was last changed; null when that cannot be told.
    modified: Option<Timestamp>,
    /// Whether it was deleted.
    deleted: bool,
    /// Of a deleted file: whether what is left of it is its content. `sure` where an older layer holds it.
    certainty: Option<Certainty>,
    /// Why so.
    why: Option<&'static str>,
    /// The newest layer of the chain that holds a deleted file.
    held_by: Option<PathData>,
    /// The checkpoint at which that layer shows.
    checkpoint: Option<String>,
}

/// The bytes of a path as hexadecimal digits, where it is no Unicode.
pub(crate) fn hex_if_no_text(path: &InnerPath) -> Option<String> {
    let bytes = path.as_bytes();
    std::str::from_utf8(bytes).is_err().then(|| bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

impl FileTold {
    pub(crate) fn of(entry: &Entry) -> Self {
        Self {
            path: entry.path.to_string(),
            path_bytes: hex_if_no_text(&entry.path),
            kind: entry.kind,
            size: entry.size,
            modified: entry.modified,
            deleted: false,
            certainty: None,
            why: None,
            held_by: None,
            checkpoint: None,
        }
    }

    /// A deleted file, and the checkpoint at which it is still there.
    pub(crate) fn of_deleted(file: &Deleted, checkpoint: Option<&str>) -> Self {
        match file {
            Deleted::Held(layer, entry) => Self {
                deleted: true,
                certainty: Some(Certainty::Sure),
                held_by: Some(PathData::from(&**layer)),
                checkpoint: checkpoint.map(str::to_owned),
                ..Self::of(entry)
            },
            Deleted::Left(file) => Self {
                path: file.path.to_string(),
                path_bytes: hex_if_no_text(&file.path),
                kind: EntryKind::File,
                size: Some(file.size),
                modified: file.modified,
                deleted: true,
                certainty: Some(file.certainty),
                why: Some(file.why),
                held_by: None,
                checkpoint: None,
            },
        }
    }
}

/// Something in a volume that could not be read.
#[derive(Serialize, JsonSchema)]
pub(crate) struct LeftOutTold {
    /// From the root of the volume.
    path: String,
    /// Why.
    why: String,
}

impl LeftOutTold {
    pub(crate) fn of(left_out: &LeftOut) -> Self {
        Self { path: left_out.path.to_string(), why: left_out.why.clone() }
    }
}

/// What was taken out of a volume.
#[derive(Serialize, JsonSchema)]
pub(crate) struct TakenOut {
    /// The folder that it went into.
    into: PathData,
    /// Files that were made, each whole.
    files: u64,
    /// Folders that were made.
    folders: u64,
    /// Links that were made.
    links: u64,
    /// Bytes of their content, without holes.
    bytes: u64,
    /// Devices, pipes and sockets, which have no content.
    skipped: u64,
    /// What could not be taken; at most fifty.
    left_out: Vec<LeftOutTold>,
    /// How many that are, named or not.
    left_out_count: u64,
}

impl TakenOut {
    pub(crate) fn of(outcome: &TakeOutOutcome, into: &std::path::Path) -> Self {
        Self {
            into: into.into(),
            files: outcome.files,
            folders: outcome.folders,
            links: outcome.links,
            bytes: outcome.bytes,
            skipped: outcome.skipped,
            left_out: outcome.left_out.iter().map(LeftOutTold::of).collect(),
            left_out_count: outcome.left_out_count,
        }
    }
}

/// What has become of the files of a volume.
#[cfg_attr(
    not(test),
    expect(dead_code, reason = "it is written entry by entry, and only its schema is taken from here")
)]
#[derive(Serialize, JsonSchema)]
pub(crate) struct FilesCompared {
    /// The volume, counted from 1 in the order of the table.
    volume: u32,
    /// What only the other disk has.
    added: Vec<FileTold>,
    /// What only the first disk has.
    removed: Vec<FileTold>,
    /// What both have, and is not the same: as it is in the other.
    changed: Vec<ChangeTold>,
    /// What could not be compared, wholly or in part; at most fifty of each disk.
    left_out: Vec<LeftOutTold>,
    /// How many that are, named or not.
    left_out_count: u64,
}

/// A file that is not what it was.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ChangeTold {
    #[serde(flatten)]
    now: FileTold,
    /// What of it differs.
    by: Vec<ChangedBy>,
    /// What it was.
    was: FileTold,
}

impl ChangeTold {
    pub(crate) fn of(was: &Entry, now: &Entry, by: &[ChangedBy]) -> Self {
        Self { now: FileTold::of(now), by: by.to_vec(), was: FileTold::of(was) }
    }
}
