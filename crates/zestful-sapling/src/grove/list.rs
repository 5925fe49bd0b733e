//! What is told of a machine: its disks, its checkpoints, what each holds, and what forgetting it would take.

use std::path::PathBuf;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::cost::{Cost, Opened};
use super::folder::Grove;
use super::lineage::{Lineage, for_each_with};
use crate::error::Result;
use crate::family::UnderWay;
use crate::image::{Format, open_unlocked};
use crate::sidecar::{Checkpoint, Role};
use crate::storage::allocated_at;

/// The checkpoints of a machine. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CheckpointList {
    /// The machine.
    pub machine: String,
    /// What its disks are now.
    pub present: PresentReport,
    /// The checkpoints that have a name, in the order in which they were taken.
    pub checkpoints: Vec<CheckpointReport>,
    /// Layers that stay without a name, because several images grow from each.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub shared: Vec<PathBuf>,
    /// What was begun with the machine and is not finished.
    pub under_way: Option<UnderWay>,
}

/// What a machine's disks are now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct PresentReport {
    /// The checkpoint that they go on from.
    pub after: Option<String>,
    /// What the current images of the tracked disks take on the host: what changed since that checkpoint.
    pub changed_bytes: u64,
}

/// A checkpoint. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CheckpointReport {
    /// Its name.
    pub name: String,
    /// The checkpoint that it goes on from.
    pub parent: Option<String>,
    /// When it was taken.
    pub taken: Timestamp,
    /// Its note.
    pub note: String,
    /// Whether it is left alone when old ones are forgotten.
    pub protected: bool,
    /// What its layers take on the host: what changed between the checkpoint before and this one.
    pub held_bytes: u64,
    /// What the host gets back when it alone is forgotten, about.
    pub frees_bytes: u64,
    /// What has to be moved for that, at most.
    pub moves_bytes: u64,
    /// Its layers.
    pub disks: Vec<LayerReport>,
}

/// A disk at a checkpoint.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct LayerReport {
    /// The disk.
    pub label: String,
    /// Its image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The size that a guest saw, in bytes.
    pub virtual_size: u64,
    /// Whether the image is there.
    pub is_there: bool,
}

/// A machine and its disks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct GroveReport {
    /// Its name.
    pub machine: String,
    /// Its folder.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub folder: PathBuf,
    /// Whether the roles are only taken for `tracked`, because the catalogue was made anew.
    pub roles_unknown: bool,
    /// Its disks.
    pub disks: Vec<DiskReport>,
    /// What was begun with the machine and is not finished.
    pub under_way: Option<UnderWay>,
}

/// A disk of a machine. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct DiskReport {
    /// What it is called.
    pub label: String,
    /// Its role.
    pub role: Role,
    /// Its current image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The image's format.
    pub format: Format,
    /// The size that a guest sees; `None` when the image cannot be opened.
    pub virtual_size: Option<u64>,
    /// What the current image takes on the host.
    pub allocated_size: u64,
    /// How many checkpoints hold it.
    pub checkpoints: usize,
    /// Why the image cannot be opened, when it cannot.
    pub problem: Option<String>,
}

/// The disks of a machine.
///
/// # Errors
/// As [`Grove::under_way`].
pub fn disks_of(grove: &Grove) -> Result<GroveReport> {
    let catalogue = grove.catalogue();
    let disks = catalogue.disks.iter().map(|disk| {
        let path = grove.path(&disk.path);
        let opened = open_unlocked(&path);
        let named = |one: &&Checkpoint| one.name.is_some() && one.layer(&disk.label).is_some();
        DiskReport {
            label: disk.label.clone(),
            role: disk.role,
            format: disk.format,
            virtual_size: opened.as_ref().ok().map(|image| image.info().virtual_size),
            allocated_size: allocated_at(&path),
            checkpoints: catalogue.checkpoints.iter().filter(named).count(),
            problem: opened.err().map(|error| error.with_causes()),
            path,
        }
    });
    Ok(GroveReport {
        machine: catalogue.machine.clone(),
        folder: grove.folder().to_owned(),
        roles_unknown: catalogue.rebuilt,
        disks: disks.collect(),
        under_way: grove.under_way()?,
    })
}

/// The checkpoints of a machine. What each frees and moves is told from the tables of the layers, without locks: of a
/// disk in use it may be out of date as soon as it is told.
///
/// # Errors
/// As [`Grove::under_way`].
pub fn checkpoints_of(grove: &Grove) -> Result<CheckpointList> {
    let catalogue = grove.catalogue();
    let lineage = Lineage::of(grove);
    let name_of = |number: Option<u64>| catalogue.named_from(number).and_then(|one| one.name.clone());
    let named: Vec<&Checkpoint> = catalogue.checkpoints.iter().filter(|one| one.name.is_some()).collect();
    let disks = catalogue.disks.len();
    let mut checkpoints = for_each_with(
        &named,
        || Opened::of(disks),
        |opened, one| {
            let mut report = CheckpointReport {
                name: one.name.clone().unwrap_or_default(),
                parent: name_of(one.parent),
                taken: one.taken,
                note: one.note.clone(),
                protected: one.protected,
                held_bytes: 0,
                frees_bytes: 0,
                moves_bytes: 0,
                disks: Vec::new(),
            };
            for layer in &one.disks {
                let path = grove.path(&layer.path);
                let is_there = path.exists();
                if is_there {
                    let cost = Cost::of(&path, &lineage, opened);
                    report.held_bytes = report.held_bytes.saturating_add(allocated_at(&path));
                    report.frees_bytes = report.frees_bytes.saturating_add(cost.frees);
                    report.moves_bytes = report.moves_bytes.saturating_add(cost.moves);
                }
                let (label, virtual_size) = (layer.label.clone(), layer.virtual_size);
                report.disks.push(LayerReport { label, path, virtual_size, is_there });
            }
            report
        },
    );
    checkpoints.sort_by_key(|one| one.taken);
    let tracked = catalogue.disks.iter().filter(|disk| disk.role == Role::Tracked);
    let unnamed = catalogue.checkpoints.iter().filter(|one| one.name.is_none());
    Ok(CheckpointList {
        machine: catalogue.machine.clone(),
        present: PresentReport {
            after: name_of(catalogue.after),
            changed_bytes: tracked.map(|disk| allocated_at(&grove.path(&disk.path))).sum(),
        },
        checkpoints,
        shared: unnamed.flat_map(|one| one.disks.iter().map(|layer| grove.path(&layer.path))).collect(),
        under_way: grove.under_way()?,
    })
}
