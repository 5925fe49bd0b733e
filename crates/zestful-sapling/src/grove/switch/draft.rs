//! What is to be switched, looked at under its locks.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;

use super::super::folder::Locked;
use super::super::name::folder_for;
use super::{Switch, SwitchRecord, SwitchedDisk};
use crate::chain::{Chain, Disk, OpenOptions, identity_of, records_absolute};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, refuse_link};
use crate::image::{Format, ImageInfo, ParentRecord};
use crate::operation::Plan;
use crate::ops::BlankChild;
use crate::sidecar::{Checkpoint, GroveDisk, Layer, Member, Work, refuse_under_way};
use crate::size::format_size;
use crate::storage::{Access, Held, allocated_at, free_space, is_marked_read_only};

/// A switch in the making.
pub(super) struct Draft<'a> {
    locked: &'a Locked,
    guard: &'a Guard,
    pub(super) held: Arc<Held>,
    pub(super) plan: Plan,
    members: Vec<Member>,
    /// Each with the number of its base among the bases.
    disks: Vec<(SwitchedDisk, Layer)>,
    bases: Vec<Member>,
    kept: Checkpoint,
}

impl<'a> Draft<'a> {
    /// The present goes to a checkpoint of this name and note, or goes away.
    pub(super) fn new(
        locked: &'a Locked,
        guard: &'a Guard,
        operation: &'static str,
        name: Option<&str>,
        note: &str,
    ) -> Self {
        let catalogue = locked.grove.catalogue();
        let number = catalogue.next;
        let kept = Checkpoint {
            number,
            name: name.map(str::to_owned),
            note: note.to_owned(),
            parent: catalogue.after,
            taken: Timestamp::now(),
            protected: false,
            folder: folder_for(number, name.unwrap_or("discarded")),
            disks: Vec::new(),
        };
        let plan = Plan { operation, ..Plan::default() };
        let (held, members, disks, bases) = Default::default();
        Self { locked, guard, held, plan, members, disks, bases, kept }
    }

    /// Warns when the new layers could outgrow the host together.
    pub(super) fn warn_of_growth(&mut self) -> Result<()> {
        let most: u64 = self.disks.iter().map(|(_, layer)| layer.virtual_size).fold(0, u64::saturating_add);
        let free = free_space(self.locked.grove.folder())?;
        if most > free {
            self.plan.warnings.push(format!(
                "what the guest writes from then on can grow to {}, and the host has {} free: watch it, and do \
                 not keep the checkpoint for long",
                format_size(most),
                format_size(free)
            ));
        }
        Ok(())
    }

    fn keeps(&self) -> bool {
        self.kept.name.is_some()
    }

    /// One disk: its current image is locked and looked at. The new one grows from the layer, or from the old one.
    pub(super) fn add(&mut self, disk: &GroveDisk, layer: Option<&Layer>) -> Result<()> {
        let current = self.current(disk)?;
        self.held.take(&current, Access::AmendMetadata)?;
        let options = OpenOptions::new().with_format(disk.format).with_held(&self.held);
        let chain = Chain::open(&current, &options)?;
        self.plan.warnings.extend(chain.warnings().iter().map(ToString::to_string));
        self.enter(disk, layer, current, chain.info())
    }

    /// One disk whose current image this process has open: it says this of itself now.
    pub(super) fn add_open(&mut self, disk: &GroveDisk, info: &ImageInfo) -> Result<()> {
        self.enter(disk, None, self.current(disk)?, info)
    }

    /// The current image of a disk, if it is one that can be frozen.
    fn current(&self, disk: &GroveDisk) -> Result<PathBuf> {
        let current = self.locked.grove.path(&disk.path);
        refuse_link(&current)?;
        refuse_flat(&current, disk.format)?;
        Ok(current)
    }

    /// What the current images are when they stand still: their identities of before may be those of an earlier moment.
    pub(super) fn stand_still(&mut self, infos: &[ImageInfo]) -> Result<()> {
        self.kept.taken = Timestamp::now();
        for ((member, (disk, layer)), info) in self.members.iter_mut().zip(&mut self.disks).zip(infos) {
            layer.identity = identity_of(&member.path, info)?;
            layer.virtual_size = info.virtual_size;
            disk.absolute = records_absolute(info.parent.as_ref());
            *member = Member::new(member.path.clone(), layer.identity)?;
        }
        Ok(())
    }

    fn enter(&mut self, disk: &GroveDisk, layer: Option<&Layer>, current: PathBuf, info: &ImageInfo) -> Result<()> {
        let grove = &self.locked.grove;
        let place = self.kept.folder.join(disk.path.file_name().unwrap_or_default());
        if self.disks.iter().any(|(_, other)| other.path == place) {
            return Err(Error::usage(
                format!("two disks of the machine stand in files named {}", place.display()),
                "release one of them, and add it again under another file name",
            ));
        }
        self.refuse_busy(&current, info)?;
        let member = Member::new(current.clone(), identity_of(&current, info)?)?;
        let base = layer.map(|layer| self.base(layer)).transpose()?;
        let blank = match &base {
            None => blank_of(info)?,
            Some((_, info)) => blank_of(info)?,
        };
        self.plan.peak_extra_space = self.plan.peak_extra_space.saturating_add(blank);
        let from = match layer {
            None => place.clone(),
            Some(layer) => layer.path.clone(),
        };
        if self.keeps() {
            self.plan.steps.push(format!("keep {} as {}", disk.path.display(), place.display()));
            self.plan.files.create.push(grove.path(&place));
        } else {
            self.plan.steps.push(format!(
                "throw away what {} holds now ({})",
                disk.path.display(),
                format_size(allocated_at(&current))
            ));
        }
        self.plan.steps.push(format!("put a new child of {} in the place of {}", from.display(), disk.path.display()));
        self.plan.files.change.push(current);
        let absolute = records_absolute(info.parent.as_ref());
        self.disks.push((
            SwitchedDisk { current: self.members.len(), base: base.map(|(number, _)| number), absolute },
            Layer {
                label: disk.label.clone(),
                path: place,
                format: disk.format,
                virtual_size: info.virtual_size,
                identity: member.identity,
            },
        ));
        self.members.push(member);
        Ok(())
    }

    /// Everything that speaks against freezing, or letting go of, a current image that is locked by now.
    fn refuse_busy(&self, current: &Path, info: &ImageInfo) -> Result<()> {
        self.guard.refuse_protected(current)?;
        self.guard.refuse_saved_state(current, info)?;
        self.guard.refuse_parent_under_way(current)?;
        let advice = "they read through it as it is: merge or remove them first, or copy each into an image of its own";
        self.guard.refuse_needed(current, advice)?;
        if is_marked_read_only(current)? {
            return Err(Error::refused(
                Refusal::ReadOnly { path: current.to_owned(), marked: true },
                format!("{} is marked read-only, so that no guest writes to it", current.display()),
                "give it its write permission back, if it is the disk that the guest is to write to",
            ));
        }
        Ok(())
    }

    /// The image to go back to, kept from writers.
    fn base(&mut self, layer: &Layer) -> Result<(usize, ImageInfo)> {
        let path = self.locked.grove.path(&layer.path);
        let chain = Chain::open(&path, &OpenOptions::new().with_format(layer.format).with_held(&self.held))?;
        let info = chain.info().clone();
        if info.data_identity != Some(layer.identity) {
            return Err(Error::refused(
                Refusal::changed(&path),
                format!(
                    "{} is not the image that the checkpoint kept of the disk {}: it was written to, or another file \
                     took its name",
                    path.display(),
                    layer.label
                ),
                "look at it first: what grew from it does not open either",
            ));
        }
        self.guard.refuse_parent_under_way(&path)?;
        refuse_under_way(&path)?;
        self.bases.push(Member::new(path, layer.identity)?);
        Ok((self.bases.len() - 1, info))
    }

    /// What speaks against it on the host: programs that have the images open without our locks, and too little space.
    pub(super) fn refuse_host(&mut self) -> Result<()> {
        let currents: Vec<PathBuf> = self.members.iter().map(|member| member.path.clone()).collect();
        self.plan.warnings.extend(self.guard.refuse_writers(currents.iter().map(PathBuf::as_path))?);
        self.plan.bytes_written = self.plan.peak_extra_space;
        Plan::require_space(&self.locked.grove.path(&self.kept.folder), self.plan.peak_extra_space)
    }

    /// The record of it all; the new present goes on from the checkpoint with this number, or from the one that is
    /// kept.
    pub(super) fn finish(mut self, work: Work, after: Option<u64>) -> (SwitchRecord, Plan, Arc<Held>) {
        let folder = self.locked.grove.folder();
        let first_base = self.members.len();
        self.members.append(&mut self.bases);
        let (mut disks, layers): (Vec<SwitchedDisk>, Vec<Layer>) = self.disks.into_iter().unzip();
        for disk in &mut disks {
            disk.base = disk.base.map(|base| first_base + base);
        }
        self.kept.disks = layers;
        let payload = Switch { work, kept: self.kept, after, disks };
        (SwitchRecord::of_grove(folder, self.members, payload), self.plan, self.held)
    }
}

/// Refuses a format that has no children.
fn refuse_flat(current: &Path, format: Format) -> Result<()> {
    if format != Format::Raw {
        return Ok(());
    }
    Err(Error::refused(
        Refusal::NoLayers { image: current.to_owned() },
        format!("{} is a raw disk, which knows no layers, so that no checkpoint can keep it", current.display()),
        "copy it into a vhdx image and have the guest use that; or keep the disk apart from the checkpoints",
    ))
}

/// An empty child of an image like this; what it takes on the host.
fn blank_of(info: &ImageInfo) -> Result<u64> {
    let parent = ParentRecord {
        identity: info.data_identity.unwrap_or_default(),
        also: None,
        time_stamp: info.time_stamp,
        name: String::new(),
        relative: String::new(),
        absolute: None,
    };
    BlankChild::new(info.format, info, parent, None)?.metadata_len()
}
