//! What would become of the disk.

use std::path::PathBuf;

use super::fat::{MOST_SECTORS, label_of};
use super::fill;
use super::host_tools;
use super::judge::{Found, judge};
use super::layout::{GRAIN, places};
use super::request::{NewFileSystem, NewVolume, Prepare};
use crate::chain::{Chain, Disk, OpenOptions};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, OpenForWriting, Override};
use crate::guest::{NewKind, NewPartition, Volumes, new_table};
use crate::operation::{Operation, Plan};
use crate::size::format_size;
use crate::storage::{BlockDevice, folder_of};

impl Operation for Prepare {
    type Planned = PreparePlan;

    /// Looks whether the disk is blank, where the volumes go, and whether the host can make them. The image stays
    /// locked as long as the plan lives. Of a disk that holds more than 1 GiB of data samples are looked at.
    ///
    /// # Errors
    /// `Refused` when the disk is not blank, with what is there, or there is too little space; `Usage` when the volumes
    /// do not fit, or a file system cannot be made; as
    /// [`ChainMut::open_guarded`](crate::chain::ChainMut::open_guarded).
    fn plan(self) -> Result<Self::Planned> {
        // A pending log is left to the run; what is read here needs no lock beside this one.
        let locked = self.guard.open_for_writing(&self.path)?;
        let disk = Chain::open(&self.path, &OpenOptions::of_format(self.format).without_locks())?;
        let (size, sector) = (disk.virtual_size(), u64::from(disk.info().logical_sector));
        let places = places(self.table, size, sector, &self.volumes)?;
        let found = judge(&disk)?;
        let mut plan = Plan { operation: "prepare", warnings: locked.warnings.clone(), ..Plan::default() };
        match &found {
            Found::Content(there) if !self.guard.allows(Override::NotBlank) => {
                return Err(Error::refused(
                    Refusal::NotBlank { path: self.path.clone(), content: there.clone() },
                    format!("{} is not blank: {}", self.path.display(), there.join("; ")),
                    "look at it first, or copy the disk; what is there would be lost",
                ));
            }
            Found::Content(there) => {
                plan.warnings.push(format!("what is there is lost: {}", there.join("; ")));
                plan.steps.push("take away the old table and whatever tells of old volumes".to_owned());
            }
            Found::Begun => plan.warnings.push("what an earlier preparation left, cut short, is taken away".to_owned()),
            Found::SeemsBlank { data } => plan.warnings.push(format!(
                "{} of the disk hold data, of which samples were looked at: all of them are zero; the rest of the \
                 volumes is read, and zeroed where it is not zero, before anything is made there",
                format_size(*data)
            )),
            Found::Blank => {}
        }
        let scratch = match &self.scratch {
            Some(folder) => folder.clone(),
            // In the folder of a device nothing is kept.
            None if BlockDevice::is_at(&self.path) => std::env::temp_dir(),
            None => folder_of(&self.path),
        };
        let (mut programs, mut most) = (Vec::new(), 0u64);
        for (number, (volume, (start, len))) in (1..).zip(self.volumes.iter().zip(&places)) {
            if volume.file_system == NewFileSystem::Fat {
                label_of(&volume.label)?;
                if len / sector > MOST_SECTORS {
                    let message = format!("volume {number} of {} is too large for FAT", format_size(*len));
                    return Err(Error::usage(message, "make it smaller, or another file system"));
                }
            }
            let amount = fill::count(number, volume, *len)?;
            let program = host_tools::find(number, volume, *len)?;
            let by = program.as_ref().map_or_else(String::new, |program| format!(", made by {}", program.display()));
            let label = if volume.label.is_empty() { String::new() } else { format!(", labelled {}", volume.label) };
            let with = match &volume.fill {
                None => String::new(),
                Some(folder) => {
                    format!(", with the files of {} ({} in all)", folder.display(), format_size(amount.bytes))
                }
            };
            plan.steps.push(format!(
                "volume {number}: {} at {}, {}{label}{by}{with}",
                format_size(*len),
                format_size(*start),
                volume.file_system
            ));
            if volume.file_system == NewFileSystem::None && !self.wipe && matches!(found, Found::Content(_)) {
                plan.warnings.push(format!("volume {number} stays unformatted: what lies there shows through"));
            }
            // Each entry of a folder takes a block of its own at most, and a folder another.
            let entries = amount.entries.saturating_mul(8 << 10);
            let own = host_tools::most_written(volume.file_system, *len).min(*len);
            most = most.saturating_add(own).saturating_add(amount.bytes).saturating_add(entries);
            programs.push(program);
        }
        // What a table cannot hold is told now, and not when the volumes are in place.
        let partitions = self.volumes.iter().zip(&places).map(|(volume, (start, len))| NewPartition {
            start: *start,
            len: *len,
            kind: NewKind::Linux,
            name: volume.label.clone(),
        });
        new_table(self.table, size, sector, &partitions.collect::<Vec<_>>())?;
        if self.wipe {
            plan.steps.push("zero every byte of the volumes".to_owned());
        }
        plan.steps
            .push(format!("write the volumes, which are ready beside the disk by then, into {}", self.path.display()));
        plan.steps.push(format!("write the {}, the sector last that makes it one", self.table));
        plan.files.change.push(self.path.clone());
        plan.bytes_read = most;
        plan.bytes_written = most.saturating_mul(2).saturating_add(2 * GRAIN);
        let is_own = self.scratch.is_none() && !BlockDevice::is_at(&self.path);
        plan.peak_extra_space = if is_own { plan.bytes_written } else { most };
        if is_own {
            Plan::require_space(&self.path, plan.peak_extra_space)?;
        } else {
            Plan::require_space(&scratch.join("scratch files"), most)?;
            if !BlockDevice::is_at(&self.path) {
                Plan::require_space(&self.path, most.saturating_add(2 * GRAIN))?;
            }
        }
        Ok(PreparePlan { plan, request: self, locked, sector, places, found, programs, scratch })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to prepare a disk.
pub struct PreparePlan {
    pub(super) plan: Plan,
    pub(super) request: Prepare,
    /// Keeps others away from the image.
    pub(super) locked: OpenForWriting,
    /// The disk's logical sectors.
    pub(super) sector: u64,
    /// Where each volume begins, and how long it is.
    pub(super) places: Vec<(u64, u64)>,
    pub(super) found: Found,
    /// What makes each volume's file system, where it is a program of the host.
    pub(super) programs: Vec<Option<PathBuf>>,
    pub(super) scratch: PathBuf,
}

impl PreparePlan {
    pub(super) fn volumes(&self) -> impl Iterator<Item = (&NewVolume, (u64, u64))> {
        self.request.volumes.iter().zip(self.places.iter().copied())
    }
}

/// What was made.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct PrepareOutcome {
    /// The current image of the disk.
    pub path: PathBuf,
    /// Its volumes, as they are read back.
    pub volumes: Volumes,
}
