//! A whole machine is copied: flat, or with its history.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::copying::{Copying, strike};
use super::folder::{Grove, Locked, save};
use super::lineage::{Grown, Lineage, parent_of};
use super::name;
use crate::chain::{Chain, Disk, OpenOptions, record_of};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override, must_record_children};
use crate::image::{Format, Kind, data_identity_at, open_image_mut, open_unlocked, recognise};
use crate::operation::{Operation, Plan, Planned};
use crate::ops::{CopyDisk, CopyDiskPlan, Identity, NewImage};
use crate::progress::Progress;
use crate::sidecar::{CATALOGUE, Catalogue, ChildrenChange, GroveDisk, HISTORY, Journal, Record, child_at};
use crate::storage::{
    Access, FileId, FileStorage, StagedFolder, create_folder, folder_of, mark_read_only, real, refuse_existing,
};
use crate::transfer::{Stamp, stamp_of};

/// A machine to be copied into a new folder, all its disks as they are at one moment.
///
/// Flat, each disk becomes one image, whatever it reads through; otherwise every layer of the history is copied as it
/// is, and a base elsewhere stays where it is. The copies have identities of their own unless told otherwise.
///
/// What it can be allowed to do all the same: [`InUse`](crate::family::Override::InUse) though another process has an
/// image open for writing.
#[derive(Clone, Debug)]
pub struct CopyGrove {
    folder: PathBuf,
    target: PathBuf,
    checkpoint: Option<String>,
    flat: bool,
    identity: Identity,
    machine: Option<String>,
    guard: Guard,
}

impl CopyGrove {
    /// The machine in `folder`, into the new folder `target`, with its history.
    pub fn new(folder: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        Self {
            folder: folder.into(),
            target: target.into(),
            checkpoint: None,
            flat: false,
            identity: Identity::Fresh,
            machine: None,
            guard: Guard::new(),
        }
    }

    /// Each disk as one image, without history.
    pub fn flat(mut self, flat: bool) -> Self {
        self.flat = flat;
        self
    }

    /// The disks as they were at this checkpoint; only flat.
    pub fn at_checkpoint(mut self, name: impl Into<String>) -> Self {
        self.checkpoint = Some(name.into());
        self
    }

    /// Whether the copies have identities of their own.
    pub fn with_identity(mut self, identity: Identity) -> Self {
        self.identity = identity;
        self
    }

    /// What the copy is called, instead of the folder's name.
    pub fn with_machine(mut self, machine: impl Into<String>) -> Self {
        self.machine = Some(machine.into());
        self
    }

    fn machine(&self) -> String {
        let told = self.target.file_name().map(|name| name.to_string_lossy().into_owned());
        self.machine.clone().or(told).unwrap_or_default()
    }

    /// The images that are copied, each with the way from the new folder.
    fn sources(&self, grove: &Grove) -> Result<Vec<(PathBuf, PathBuf, Format)>> {
        let catalogue = grove.catalogue();
        let currents = catalogue.disks.iter().map(|disk| (grove.path(&disk.path), disk.path.clone(), disk.format));
        if let Some(name) = &self.checkpoint {
            if !self.flat {
                return Err(Error::usage(
                    "a checkpoint is copied without history",
                    "ask for a flat copy, or copy the present with all its history",
                ));
            }
            let found = grove.checkpoint(name)?;
            let file = |label: &str, path: &Path| {
                let current = catalogue.disk(label).map(|disk| disk.path.clone());
                current.unwrap_or_else(|| PathBuf::from(path.file_name().unwrap_or_default()))
            };
            let one = |layer: &crate::sidecar::Layer| {
                (grove.path(&layer.path), file(&layer.label, &layer.path), layer.format)
            };
            return Ok(found.disks.iter().map(one).collect());
        }
        if self.flat {
            return Ok(currents.collect());
        }
        let layers = catalogue.checkpoints.iter().flat_map(|one| &one.disks);
        Ok(currents.chain(layers.map(|layer| (grove.path(&layer.path), layer.path.clone(), layer.format))).collect())
    }
}

impl Operation for CopyGrove {
    type Planned = CopyGrovePlan;

    /// What copying would do. The grove and every image that is read stay locked against writers as long as the plan
    /// lives.
    ///
    /// # Errors
    /// `Usage` when there is no such checkpoint, or a checkpoint is to be copied with its history; `Refused` when
    /// something stands at the target, an image is in use, the host cannot hold the copies, or something was begun with
    /// the machine; otherwise as [`CopyDisk`].
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take_settled(&self.folder)?;
        name::check("a machine", &self.machine())?;
        refuse_existing(&self.target)?;
        let parent = real(&folder_of(&self.target))?;
        let target = parent.join(self.target.file_name().unwrap_or_default());
        let mut plan = Plan::of("grove copy", vec![format!("make the folder {}", target.display())]);
        let mut sources = self.sources(&locked.grove)?;
        sources.sort_by(|one, other| one.1.cmp(&other.1));
        let mut copies = Vec::new();
        for (path, way, format) in sources {
            let info = Chain::open(&path, &OpenOptions::new().without_locks().with_format(format))?.info().clone();
            // Beside the new folder, which is not there yet.
            let probe = target
                .with_file_name(crate::storage::temporary_name(&target.join(&way)).file_name().unwrap_or_default());
            let request = match self.flat {
                true => {
                    let kind = if format == Format::Raw { None } else { Some(info.kind) };
                    let kind = kind.filter(|kind| *kind != Kind::Differencing);
                    let image = NewImage::new().with_format(format);
                    let image = kind.map_or(image.clone(), |kind| image.with_kind(kind));
                    CopyDisk::new(&path, &probe)
                        .with_source_format(format)
                        .with_image(image)
                        .with_identity(self.identity)
                }
                // Every byte of the file, whatever it holds.
                false => CopyDisk::new(&path, &probe)
                    .with_source_format(Format::Raw)
                    .with_image(NewImage::new().with_format(Format::Raw)),
            };
            let allowed = |request: CopyDisk, what| request.with_override(what);
            let in_use = self.guard.allows(Override::InUse).then_some(Override::InUse);
            let request =
                [Some(Override::Ending), Some(Override::Sectors), in_use].into_iter().flatten().fold(request, allowed);
            let planned = request.clone().plan()?;
            let summary = planned.summary();
            plan.steps.push(format!("copy {} to {}", path.display(), target.join(&way).display()));
            plan.files.create.push(target.join(&way));
            plan.bytes_read += summary.bytes_read;
            plan.bytes_written += summary.bytes_written;
            plan.peak_extra_space += summary.peak_extra_space;
            let new: Vec<String> =
                summary.warnings.iter().filter(|warning| !plan.warnings.contains(warning)).cloned().collect();
            plan.warnings.extend(new);
            let stamp = stamp_of(&path)?;
            copies.push(Copied { path, way, request, held: planned, stamp });
        }
        if copies.is_empty() {
            return Err(Error::usage("the machine has no disk to be copied", "add one first"));
        }
        Plan::require_space(&target, plan.peak_extra_space)?;
        Ok(CopyGrovePlan { plan, request: self, target, locked, copies })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// One image to be copied.
struct Copied {
    path: PathBuf,
    /// Where the copy stands, from the new folder.
    way: PathBuf,
    request: CopyDisk,
    /// Keeps writers from the source, so that all are of one moment.
    held: CopyDiskPlan,
    /// What tells that it was written to all the same.
    stamp: Stamp,
}

/// A checked plan to copy a machine.
pub struct CopyGrovePlan {
    plan: Plan,
    request: CopyGrove,
    target: PathBuf,
    locked: Locked,
    copies: Vec<Copied>,
}

/// What became of it. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CopyGroveOutcome {
    /// The new grove.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub folder: PathBuf,
    /// The new machine.
    pub machine: String,
    /// Its disks.
    pub disks: Vec<String>,
    /// How many checkpoints came along.
    pub checkpoints: usize,
    /// Bytes that were written, or shared with the source.
    pub bytes_copied: u64,
}

impl Planned for CopyGrovePlan {
    type Outcome = CopyGroveOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Copies. The folder appears under its name when all of it is complete and durable; stopped, failed or killed
    /// before, nothing stands there, and the machine is as it was.
    ///
    /// # Errors
    /// `Cancelled`; as [`CopyDiskPlan`]; `Refused` when something appeared at the target meanwhile.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let folder = StagedFolder::create(&self.target)?;
        let place = folder.temporary();
        let told = self.told();
        // Without a base elsewhere nothing but the new folder changes.
        let payload = Copying { target: self.target.clone(), temporary: place.to_owned(), told: told.clone() };
        let begin = || Journal::begin(Record::of_grove(self.locked.grove.folder(), Vec::new(), payload));
        let journal = if told.is_empty() { None } else { Some(begin()?) };
        let made = self.make(folder, progress);
        let settled = match &made {
            Ok(_) => Ok(()),
            Err(_) => strike(&told, &self.request.guard),
        };
        let ended = settled.and_then(|()| journal.map_or(Ok(()), Journal::end));
        match (made, ended) {
            (Err(error), Ok(())) => Err(error),
            (Err(error), Err(_)) => Err(error.under_way(self.locked.grove.folder())),
            (Ok(made), ended) => ended.map(|()| made),
        }
    }
}

impl CopyGrovePlan {
    /// Bases elsewhere, each with the child that it gets.
    fn told(&self) -> Vec<(PathBuf, PathBuf)> {
        if self.request.flat {
            return Vec::new();
        }
        let grove = &self.locked.grove;
        let outside = |image: &Grown| {
            let base = parent_of(&image.path).filter(|_| image.parent.is_none())?;
            let way = image.path.strip_prefix(grove.folder()).unwrap_or(&image.path);
            Some((base, self.target.join(way)))
        };
        Lineage::of(grove).images.iter().filter_map(outside).collect()
    }

    fn make(&self, folder: StagedFolder, progress: &Progress) -> Result<CopyGroveOutcome> {
        let place = folder.temporary();
        create_folder(&place.join(HISTORY))?;
        let mut bytes_copied = 0;
        for copy in &self.copies {
            let target = place.join(&copy.way);
            make_folders(place, &copy.way)?;
            // The source is still the one that was planned with: it is locked by that plan.
            _ = copy.held.summary();
            let done = copy.request.clone().at(&target).plan()?.run(progress)?;
            bytes_copied += done.bytes_written + done.bytes_shared;
        }
        // Programs without locks may have written to one while another was copied.
        for copy in &self.copies {
            if stamp_of(&copy.path)? != copy.stamp {
                return Err(Error::refused(
                    Refusal::changed(&copy.path),
                    format!("{} was written to by another program while the machine was copied", copy.path.display()),
                    "end what uses it, and begin again",
                ));
            }
        }
        let catalogue = if self.request.flat { self.flat_catalogue() } else { self.whole_catalogue(place)? };
        for one in &catalogue.checkpoints {
            create_folder(&place.join(&one.folder))?;
        }
        save(place, &catalogue)?;
        progress.check()?;
        folder.publish()?;
        Ok(CopyGroveOutcome {
            folder: self.target.clone(),
            machine: catalogue.machine,
            disks: catalogue.disks.iter().map(|disk| disk.label.clone()).collect(),
            checkpoints: catalogue.checkpoints.iter().filter(|one| one.name.is_some()).count(),
            bytes_copied,
        })
    }
}

/// The folders on the way to a file of the new grove.
fn make_folders(place: &Path, way: &Path) -> Result<()> {
    let mut folders: Vec<&Path> = way.ancestors().skip(1).filter(|way| !way.as_os_str().is_empty()).collect();
    folders.reverse();
    folders.into_iter().try_for_each(|way| create_folder(&place.join(way)))
}

impl CopyGrovePlan {
    fn flat_catalogue(&self) -> Catalogue {
        let source = self.locked.grove.catalogue();
        let mut catalogue = Catalogue::new(&self.request.machine());
        let label_of = |copy: &Copied| {
            let current = source.disks.iter().find(|disk| disk.path == copy.way).map(|disk| disk.label.clone());
            current.unwrap_or_else(|| copy.way.file_stem().unwrap_or_default().to_string_lossy().into_owned())
        };
        for copy in &self.copies {
            let label = label_of(copy);
            let known = source.disk(&label);
            let format = recognise(&copy.path).ok().flatten().map_or(Format::Raw, |(image, _)| image.info().format);
            catalogue.disks.push(GroveDisk {
                role: known.map_or_else(Default::default, |disk| disk.role),
                format: known.map_or(format, |disk| disk.format),
                path: copy.way.clone(),
                label,
            });
        }
        catalogue
    }

    /// The copied files become a family of their own.
    fn whole_catalogue(&self, place: &Path) -> Result<Catalogue> {
        let grove = &self.locked.grove;
        let mut catalogue = grove.catalogue().clone();
        catalogue.machine = self.request.machine();
        let lineage = Lineage::of(grove);
        let mut guests: BTreeMap<&str, Uuid> = BTreeMap::new();
        let mut waiting: Vec<&Grown> = lineage.images.iter().collect();
        let mut done: Vec<&Path> = Vec::new();
        // Parents first.
        while let Some(number) =
            waiting.iter().position(|image| image.parent.as_ref().is_none_or(|parent| done.contains(&parent.as_path())))
        {
            let image = waiting.swap_remove(number);
            let way = image.path.strip_prefix(grove.folder()).unwrap_or(&image.path);
            let guest = *guests.entry(&image.label).or_insert_with(Uuid::new_v4);
            self.settle_copy(&place.join(way), image, place, guest)?;
            done.push(&image.path);
        }
        for layer in catalogue.checkpoints.iter_mut().flat_map(|one| &mut one.disks) {
            let path = place.join(&layer.path);
            layer.identity = data_identity_at(&path).unwrap_or(layer.identity);
            let frozen = ChildrenChange { freezes: true, ..ChildrenChange::default() };
            must_record_children(&path, &frozen, &self.request.guard)?;
            mark_read_only(&path)?;
        }
        Ok(catalogue)
    }

    /// Gives a copied image its identities, and has it know its parent, and be known to it.
    fn settle_copy(&self, copy: &Path, of: &Grown, place: &Path, guest: Uuid) -> Result<()> {
        let Some((image, _)) = recognise(copy).ok().flatten() else { return Ok(()) };
        let info = image.info().clone();
        drop(image);
        let grove = &self.locked.grove;
        let parent = match (&of.parent, &info.parent) {
            (Some(parent), _) => Some(place.join(parent.strip_prefix(grove.folder()).unwrap_or(parent))),
            (None, Some(_)) => parent_of(&of.path),
            (None, None) => None,
        };
        let mut image = open_image_mut(Arc::new(FileStorage::open(copy, Access::AmendMetadata)?), Some(info.format))?;
        if self.request.identity == Identity::Fresh {
            match info.format {
                Format::Vhd => image.set_identity(Uuid::new_v4())?,
                _ => {
                    image.set_identity(guest)?;
                    image.set_data_identity(Uuid::new_v4())?;
                }
            }
        }
        if let Some(parent) = &parent {
            let info = open_unlocked(parent)?.info().clone();
            image.set_parent(&record_of(copy, parent, &info, false)?)?;
        }
        image.close()?;
        let Some(parent) = parent else { return Ok(()) };
        // A base elsewhere knows the copy under its final name.
        let is_inside = parent.starts_with(place);
        let way = copy.strip_prefix(place).unwrap_or(copy);
        let new = match is_inside {
            true => child_at(copy),
            false => (self.target.join(way), FileId::of(copy).ok()),
        };
        let new = [new];
        let change = ChildrenChange { new: &new, freezes: true, ..ChildrenChange::default() };
        must_record_children(&parent, &change, &self.request.guard)
    }
}

impl CopyGroveOutcome {
    /// Where the new catalogue stands.
    pub fn catalogue(&self) -> PathBuf {
        self.folder.join(CATALOGUE)
    }
}
