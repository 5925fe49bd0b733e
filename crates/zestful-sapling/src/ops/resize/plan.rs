//! What would become of the disk.

use std::path::{Path, PathBuf};

use super::record::{ResizeRecord, StoredPartition, StoredStep};
use super::request::{NewSize, PartitionToExtend, Resize};
use super::volume::VolumeToExtend;
use crate::chain::{Chain, Disk, OpenOptions};
use crate::error::{Error, Result};
use crate::family::{Guard, OpenForWriting};
use crate::guest::{TableChange, Wish, partitions, table_change, volumes_uncounted};
use crate::image::{Format, ImageInfo, Kind, Space, check_resizable, vhd, vhdx};
use crate::operation::{Operation, Plan};
use crate::sidecar::{Catalogue, kept_by_grove, modified};
use crate::size::{exact_size, format_size};
use crate::storage::{ReadAt, real};

impl Operation for Resize {
    type Planned = ResizePlan;

    /// Looks at the image, at what lies on the disk, and at the room that there is. The image stays locked as long as
    /// the plan lives.
    ///
    /// # Errors
    /// `Usage` when the size cannot be had (over the format's limit, no whole number of sectors, the one that the disk
    /// has), the image is a device or a set of pieces, or a partition cannot get another size, with the layout;
    /// `Refused` when something would be cut, with the smallest size that cuts nothing, when data would be lost that
    /// belongs to nothing that is known, when a file system is not extended from outside, when there is too little
    /// space, and as
    /// [`ChainMut::open_guarded`](crate::chain::ChainMut::open_guarded), which refuses a parent of others, too.
    fn plan(self) -> Result<Self::Planned> {
        let locked = self.guard.open_for_writing(&self.path)?;
        check_resizable(locked.storage.medium(), &self.path)?;
        // A pending log is left to the run; what is read here needs no lock beside this one.
        let disk = Chain::open(&self.path, &OpenOptions::of_format(self.format).without_locks())?;
        let (info, path) = (disk.info().clone(), real(&self.path)?);
        let (from, to) = (info.virtual_size, self.wanted(&info)?);
        let mut plan = Plan { operation: "resize", warnings: locked.warnings.clone(), ..Plan::default() };
        let wish = match (self.extend, self.shrink) {
            (Some(PartitionToExtend::Last), _) => Wish::Extend(None),
            (Some(PartitionToExtend::Number(number)), _) => Wish::Extend(Some(number)),
            (None, Some(number)) => Wish::Shrink(number, 0),
            (None, None) => Wish::Stay,
        };
        let table = match to < from {
            true => self.plan_shrinking(&disk, &mut plan, to, wish)?,
            false => self.plan_growth(&disk, &mut plan, to, wish)?,
        };
        let volume = self.volume_to_extend(&disk, &table, to)?;
        if from == to && table.steps.is_empty() && volume.is_none() {
            return Err(Error::usage(
                format!("{} has {} already", self.path.display(), exact_size(from)),
                "name another size; nothing was changed",
            ));
        }
        tell_checkpoints(&path, from, &mut plan)?;
        // A smaller disk loses its end when nothing stands there any more.
        let at = if to < from { 0 } else { plan.steps.len() };
        plan.steps.splice(at..at, table.told.iter().cloned());
        if let Some(volume) = &volume {
            plan.steps.push(volume.told());
            plan.steps.push(
                "write what that changed into the disk, when it is whole; how much that is shows then, and the room \
                 for it is had before anything else changes"
                    .to_owned(),
            );
        }
        plan.files.change.push(self.path.clone());
        let table_len = table.steps.iter().flatten().fold(0u64, |sum, (_, bytes)| sum + bytes.len() as u64);
        plan.bytes_written = plan.bytes_written.saturating_add(2 * table_len);
        if table_len > 0 {
            // Each place may take a block of its own, and the journal.
            let block = info.block_size.unwrap_or(4096);
            let places = table.steps.iter().flatten().count() as u64;
            plan.peak_extra_space = plan.peak_extra_space.saturating_add(places * block + 6 * table_len);
        }
        Plan::require_space(&path, plan.peak_extra_space)?;
        let partition =
            table.partition.map(|new| StoredPartition { number: new.number, before: new.before, after: new.len });
        let is_written = info.kind == Kind::Fixed && to > from && self.space == Space::Written;
        // The footers of a VHD say the size one after the other, and a fixed one has only one.
        let needs_journal = !table.steps.is_empty() || volume.is_some() || is_written || info.format == Format::Vhd;
        let record = ResizeRecord {
            format: info.format,
            from,
            to,
            space: self.space,
            table: table.steps.iter().map(|step| StoredStep::new(step, &disk)).collect::<Result<_>>()?,
            partition,
            volume: None,
        };
        let before = (modified(&path), locked.storage.len()?);
        Ok(ResizePlan { plan, request: self, path, locked, record, needs_journal, before, volume })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

impl Resize {
    /// The size in bytes, which the format can have.
    fn wanted(&self, info: &ImageInfo) -> Result<u64> {
        let (from, sector) = (info.virtual_size, u64::from(info.logical_sector));
        let none = || {
            let message = format!("a disk of {} has nothing that could be taken away so", format_size(from));
            Error::usage(message, "name the size that it is to have")
        };
        let to = match self.size {
            None => from,
            Some(NewSize::To(size)) => size,
            Some(NewSize::More(more)) => from.saturating_add(more),
            Some(NewSize::Less(less)) => from.checked_sub(less).ok_or_else(none)?,
        };
        let most = match info.format {
            Format::Vhdx => vhdx::MAX_VIRTUAL_SIZE,
            Format::Vhd => vhd::MAX_VIRTUAL_SIZE,
            Format::Raw => i64::MAX as u64 / sector * sector,
        };
        if to > most {
            let advice = match info.format {
                Format::Vhd => "copy it into a vhdx image, which may have 64 TiB",
                _ => "spread the content over several disks",
            };
            // As the trade knows it.
            let most = if info.format == Format::Vhd { "2040 GiB".to_owned() } else { format_size(most) };
            let message = format!("a {} disk has {most} at most", info.format);
            return Err(Error::usage(message, advice));
        }
        if to == 0 || !to.is_multiple_of(sector) {
            let down = to / sector * sector;
            let near = if down == 0 { format!("{sector}") } else { format!("{down} or {}", down + sector) };
            return Err(Error::usage(
                format!("a disk of {to} bytes is no whole number of its sectors of {sector} bytes"),
                format!("{near} bytes would be one"),
            ));
        }
        Ok(to)
    }

    /// What extends the file system, where that is asked for.
    fn volume_to_extend(&self, disk: &Chain, table: &TableChange, to: u64) -> Result<Option<VolumeToExtend>> {
        if self.volume.is_none() {
            return Ok(None);
        }
        if to < disk.virtual_size() {
            let message = "a file system is extended where the disk becomes larger, or stays as it is";
            return Err(Error::usage(message, "leave one of the two out"));
        }
        let found = volumes_uncounted(disk)?;
        let grown = table.partition.map(|new| (new.number, new.len));
        VolumeToExtend::find(&self.path, &found, grown, to).map(Some)
    }

    fn plan_growth(&self, disk: &Chain, plan: &mut Plan, to: u64, wish: Wish) -> Result<TableChange> {
        let (info, from) = (disk.info(), disk.virtual_size());
        if self.shrink.is_some() {
            let message = "a partition is made smaller where the disk becomes smaller";
            return Err(Error::usage(message, "say to which smaller size, or have a partition extended"));
        }
        let larger = (1..).map_while(|number| disk.layer(number)).find(|layer| layer.info().virtual_size > from);
        if let Some(parent) = larger.filter(|_| to > from) {
            return Err(Error::usage(
                format!(
                    "{} has {} and {} below it {}: what that holds behind the end of the disk would show",
                    self.path.display(),
                    exact_size(from),
                    parent.path().display(),
                    exact_size(parent.info().virtual_size)
                ),
                "copy the disk into a larger one",
            ));
        }
        if to > from {
            let behind = if disk.layer(1).is_some() { ", whatever stands below" } else { "" };
            plan.steps.push(format!(
                "make the disk {}, from {}: {} more, which read as zero{behind}",
                format_size(to),
                format_size(from),
                format_size(to - from)
            ));
            if info.kind == Kind::Fixed {
                plan.steps.extend(match self.space {
                    Space::Sparse => None,
                    Space::Reserved => Some(format!("have the host set {} aside", format_size(to - from))),
                    Space::Written => Some(format!("write {} of zeros", format_size(to - from))),
                });
                if self.space != Space::Sparse {
                    plan.peak_extra_space = (to - from).saturating_add(info.block_size.unwrap_or(0));
                }
                if self.space == Space::Written {
                    plan.bytes_written = to - from;
                }
            }
            if info.kind != Kind::Fixed || self.space == Space::Sparse {
                plan.warn_of_growth(&self.path, to, 1)?;
            }
            warn_of_sizes(disk, to, plan);
        }
        if let Wish::Extend(_) = wish {
            return table_change(disk, to, wish);
        }
        let left = partitions(disk)?.problems.into_iter();
        plan.warnings.extend(left.map(|problem| format!("the partition table stays as it is: {problem}")));
        Ok(TableChange::default())
    }

    fn plan_shrinking(&self, disk: &Chain, plan: &mut Plan, to: u64, wish: Wish) -> Result<TableChange> {
        if self.extend.is_some() {
            let message = "a partition is extended where the disk becomes larger, or stays as it is";
            return Err(Error::usage(message, "leave one of the two out"));
        }
        let cut = self.judge_cut(disk, &self.path, to)?;
        plan.warnings.extend(cut.warnings);
        let wish = match wish {
            Wish::Shrink(number, _) => Wish::Shrink(number, cut.shrunk_least),
            other => other,
        };
        let table = match cut.is_known {
            true => table_change(disk, to, wish)?,
            false => TableChange::default(),
        };
        let from = disk.virtual_size();
        plan.steps.push(format!(
            "make the disk {}, from {}: what it holds behind that is gone",
            format_size(to),
            format_size(from)
        ));
        warn_of_sizes(disk, to, plan);
        Ok(table)
    }
}

/// Some programs take a VHD child for damaged whose size is not its parent's.
fn warn_of_sizes(disk: &Chain, to: u64, plan: &mut Plan) {
    let Some(parent) = disk.layer(1).filter(|parent| parent.info().virtual_size != to) else { return };
    if disk.info().format == Format::Vhd {
        plan.warnings.push(format!(
            "its parent {} keeps {}: this program reads a VHD child of another size, and others may refuse it",
            parent.path().display(),
            format_size(parent.info().virtual_size)
        ));
    }
}

/// Says which checkpoints of a machine keep the size that the disk has now.
fn tell_checkpoints(path: &Path, from: u64, plan: &mut Plan) -> Result<()> {
    let Some(kept) = kept_by_grove(path)? else { return Ok(()) };
    let Some(catalogue) = Catalogue::of(&kept.grove)? else { return Ok(()) };
    let named = catalogue.checkpoints.iter().filter(|one| one.layer(&kept.disk).is_some());
    let names: Vec<&str> = named.filter_map(|one| one.name.as_deref()).collect();
    if !names.is_empty() {
        plan.warnings.push(format!(
            "the disk {} keeps its earlier size in its checkpoints ({}; {} in the last of them): going back to one \
             brings that back, forgetting one keeps the new size",
            kept.disk,
            names.join(", "),
            format_size(from)
        ));
    }
    Ok(())
}

/// A checked plan to give a disk another size.
pub struct ResizePlan {
    pub(super) plan: Plan,
    pub(super) request: Resize,
    /// Where the image really stands.
    pub(super) path: PathBuf,
    /// Keeps others away from the image.
    pub(super) locked: OpenForWriting,
    pub(super) record: ResizeRecord,
    /// Whether one write of the format cannot do it.
    pub(super) needs_journal: bool,
    /// When the image was last changed, and its length.
    pub(super) before: (Option<jiff::Timestamp>, u64),
    /// The file system that is extended.
    pub(super) volume: Option<VolumeToExtend>,
}

impl ResizePlan {
    /// The size that the disk has, in bytes.
    pub fn before(&self) -> u64 {
        self.record.from
    }

    /// The size that it gets, in bytes.
    pub fn after(&self) -> u64 {
        self.record.to
    }
}
