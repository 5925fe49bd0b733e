//! What a resize came to, and what is left before its space can be used.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::guest::{FileSystem, PartitionTable, Volume, Volumes, volumes};
use zestful_sapling::ops::ResizeOutcome;
use zestful_sapling::path_data::PathData;

use super::text;
use crate::console::Console;

/// Less than this behind the last partition is nothing to use: tables and alignment take it.
const LITTLE: u64 = 4 << 20;

/// What `zsap resize` answers. Sizes are in bytes.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Resized<'a> {
    #[serde(flatten)]
    pub(crate) outcome: &'a ResizeOutcome,
    /// What keeps the new space from being used; null where nothing does, or it cannot be told.
    pub(crate) left: Option<Left>,
}

/// What is left to be done.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "what", rename_all = "snake_case")]
pub(crate) enum Left {
    /// Space behind the last partition that belongs to none.
    BehindPartitions {
        /// So much of it.
        free: u64,
        /// The last partition.
        partition: u32,
    },
    /// A file system that is smaller than what it lies in.
    FileSystem {
        /// Its partition; null when it fills the disk.
        partition: Option<u32>,
        /// Its kind.
        file_system: FileSystem,
        /// Its own size.
        size: u64,
        /// What it could have.
        room: u64,
    },
    /// The disk has no partition table and no file system that is known.
    Blank,
}

/// What `zsap resize` answers of a disk that a process has open for others. Sizes are in bytes.
#[derive(Serialize, JsonSchema)]
pub(crate) struct GrownAttached {
    /// The current image of the disk.
    pub(crate) path: PathData,
    /// The same as it was typed.
    #[serde(skip)]
    pub(crate) typed: PathBuf,
    /// The size that it had.
    pub(crate) before: u64,
    /// The size that it has.
    pub(crate) after: u64,
    /// The process that has it open.
    pub(crate) process: u32,
    /// Devices of this host that do not know the new size yet.
    pub(crate) devices: Vec<String>,
}

/// The same for people.
pub(crate) fn attached_lines(console: &Console, grown: &GrownAttached) -> Vec<String> {
    let name = console.strong(&text::path(&grown.typed));
    let (before, after) = (console.size(grown.before), console.size(grown.after));
    let mut lines = vec![
        format!("{name} has {after} now, before {before}; process {} goes on with it", grown.process),
        "  a client of the network sees that when it connects the next time; an exposed file shows it now".to_owned(),
    ];
    lines.extend(grown.devices.iter().map(|device| format!("  {device} does not know it yet: `losetup -c {device}`")));
    lines
}

impl<'a> Resized<'a> {
    pub(crate) fn of(outcome: &'a ResizeOutcome) -> Self {
        let look = || volumes(&Chain::open(&outcome.path, &OpenOptions::new().without_locks()).ok()?).ok();
        let grew = outcome.after > outcome.before || outcome.partition.is_some();
        let left = if grew { look().and_then(|found| left_in(&found, outcome)) } else { None };
        Self { outcome, left }
    }
}

fn left_in(found: &Volumes, outcome: &ResizeOutcome) -> Option<Left> {
    let Some(last) = found.volumes.iter().max_by_key(|volume| volume.start + volume.len) else {
        return (found.table.is_none() && found.problems.is_empty()).then_some(Left::Blank);
    };
    let free = outcome.after.saturating_sub(last.start + last.len);
    if let Some(partition) = last.partition.as_ref().filter(|_| outcome.partition.is_none() && free > LITTLE) {
        let is_too_far = found.table == Some(PartitionTable::Mbr) && last.start + last.len >= 2 << 40;
        return (!is_too_far).then_some(Left::BehindPartitions { free, partition: partition.number });
    }
    let grown = outcome.partition.as_ref().map(|one| one.number);
    let is_it = |volume: &&Volume| grown.is_none() || volume.partition.as_ref().map(|one| one.number) == grown;
    let volume = found.volumes.iter().find(is_it)?;
    let content = volume.content.as_ref()?;
    let size = content.size.filter(|size| volume.len.saturating_sub(*size) > LITTLE)?;
    let partition = volume.partition.as_ref().map(|one| one.number);
    Some(Left::FileSystem { partition, file_system: content.file_system, size, room: volume.len })
}

/// What extends a file system, where this command does not.
fn follows(file_system: FileSystem) -> &'static str {
    match file_system {
        FileSystem::Ext2 | FileSystem::Ext3 | FileSystem::Ext4 => "",
        FileSystem::Ntfs | FileSystem::Refs => ": extend the volume in the guest, in its disk management",
        FileSystem::Xfs => ": where it is mounted, in the guest or exposed here, `xfs_growfs` extends it",
        FileSystem::Btrfs => ": where it is mounted, in the guest or exposed here, `btrfs filesystem resize max` does",
        FileSystem::Lvm => ": in the guest, `pvresize` tells the volume manager of it",
        FileSystem::Fat12 | FileSystem::Fat16 | FileSystem::Fat32 => {
            ": few guests extend it; a partition of its own would use the rest"
        }
        FileSystem::Swap => ": in the guest, make the swap space anew",
        _ => ": it is extended in the guest, if at all",
    }
}

/// The same for people.
pub(crate) fn lines(console: &Console, told: &Resized<'_>) -> Vec<String> {
    let outcome = told.outcome;
    let name = console.strong(&text::path(&outcome.path));
    let mut lines = vec![match outcome.before == outcome.after {
        true => format!("{name} keeps its size of {}", console.size(outcome.after)),
        false => format!("{name} has {} now, before {}", console.size(outcome.after), console.size(outcome.before)),
    }];
    if let Some(one) = &outcome.partition {
        let (before, after) = (console.size(one.before), console.size(one.after));
        lines.push(format!("  partition {} has {after} now, before {before}", one.number));
    }
    if outcome.extended {
        lines.push("  its file system has all of that now".to_owned());
    }
    lines.extend(match &told.left {
        Some(Left::BehindPartitions { free, partition }) => Some(format!(
            "  the guest will see {} behind partition {partition}, its last one, that belong to no partition yet",
            console.size(*free)
        )),
        Some(Left::FileSystem { partition, file_system, size, room }) => {
            let place = partition.map_or_else(|| "the disk".to_owned(), |number| format!("partition {number}"));
            let (size, room) = (console.size(*size), console.size(*room));
            Some(format!(
                "  the {file_system} in {place} still has {size}, where {room} are there{}",
                follows(*file_system)
            ))
        }
        Some(Left::Blank) => Some("  there is no partition table on it that would have to follow".to_owned()),
        None => None,
    });
    if outcome.layers_below > 0 {
        lines.push(match outcome.layers_below {
            1 => "  the layer below it keeps the size that it has".to_owned(),
            count => format!("  the {count} layers below it keep the sizes that they have"),
        });
    }
    lines
}
