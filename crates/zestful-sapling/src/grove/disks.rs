//! Disks come into a machine and are let go.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::folder::{Grove, Locked, save};
use super::lineage::parent_of;
use super::name;
use crate::chain::{Chain, Disk, OpenOptions, identity_of};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override, refuse_link};
use crate::image::{Format, recognise};
use crate::operation::{Operation, Plan, Planned};
use crate::ops::{MoveImage, MovePlan};
use crate::progress::Progress;
use crate::sidecar::{CATALOGUE, Catalogue, Checkpoint, GroveDisk, HISTORY, Layer, Role, kept_by_grove, refuse_pinned};
use crate::storage::{create_folder, folder_of, real};

/// An image that is to become a disk of a machine.
///
/// Layers of its chain that lie in the machine's folder become checkpoints; a base elsewhere, and one that is pinned,
/// stays what it is.
///
/// What it can be allowed to do all the same: as [`MoveImage`], when it is moved in.
#[derive(Clone, Debug)]
pub struct AddDisk {
    folder: PathBuf,
    image: PathBuf,
    label: Option<String>,
    role: Role,
    format: Option<Format>,
    moves: bool,
    guard: Guard,
}

impl AddDisk {
    /// This image to the machine in this folder.
    pub fn new(folder: impl Into<PathBuf>, image: impl Into<PathBuf>) -> Self {
        Self {
            folder: folder.into(),
            image: image.into(),
            label: None,
            role: Role::Tracked,
            format: None,
            moves: false,
            guard: Guard::new(),
        }
    }

    /// Under this label, instead of the beginning of its file's name.
    pub fn with_label(mut self, label: impl Into<String>) -> Self {
        self.label = Some(label.into());
        self
    }

    /// In this role.
    pub fn with_role(mut self, role: Role) -> Self {
        self.role = role;
        self
    }

    /// Its format, where that is not to be read from its signature.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// Moves it into the machine's folder first, if it lies elsewhere.
    pub fn moved(mut self, moves: bool) -> Self {
        self.moves = moves;
        self
    }
}

impl Operation for AddDisk {
    type Planned = AddDiskPlan;

    /// What adding it would do. The grove stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the image does not lie in the folder and is not to be moved, or its label cannot be used; `Refused`
    /// when another machine has it, or something was begun with this one; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take_settled(&self.folder)?;
        let folder = locked.grove.folder().to_owned();
        refuse_link(&self.image)?;
        let image = real(&self.image)?;
        let is_inside = folder_of(&image) == folder;
        let mut plan = Plan::of("grove add", Vec::new());
        let place = folder.join(image.file_name().unwrap_or_default());
        let moving = match (is_inside, self.moves) {
            (true, _) => None,
            (false, true) => {
                let request = MoveImage::new(&image, &place).with_search(self.guard.search.clone());
                let allowed = |request: MoveImage, what| match self.guard.allows(what) {
                    true => request.with_override(what),
                    false => request,
                };
                let request = [Override::UnknownChildren, Override::InUse, Override::HardLinks]
                    .into_iter()
                    .fold(request, allowed);
                Some(request.plan()?)
            }
            (false, false) => {
                return Err(Error::usage(
                    format!("{} does not lie in the machine's folder {}", self.image.display(), folder.display()),
                    "move it there, or have it moved by this",
                ));
            }
        };
        if let Some(moving) = &moving {
            plan.steps.extend(moving.summary().steps.clone());
            plan.files = moving.summary().files.clone();
        }
        let disk = self.disk(&locked.grove, &image, &place)?;
        plan.steps.push(format!("add {} as the disk {}, {}", disk.path.display(), disk.label, disk.role));
        plan.files.change.push(folder.join(CATALOGUE));
        let adopted = if is_inside { adoptable(&locked.grove, &image)? } else { Vec::new() };
        for (path, name, _) in &adopted {
            plan.steps.push(format!("take {} for the checkpoint {name}", path.display()));
        }
        plan.warnings.extend(warning_of(&disk));
        Ok(AddDiskPlan { plan, locked, moving, disk, adopted })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

impl AddDisk {
    fn disk(&self, grove: &Grove, image: &Path, place: &Path) -> Result<GroveDisk> {
        let catalogue = grove.catalogue();
        let stem = place.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let label = self.label.clone().unwrap_or(stem);
        name::check("a disk", &label)?;
        let format = match self.format {
            Some(format) => format,
            None => {
                let chain = Chain::open(image, &OpenOptions::new().without_locks())?;
                chain.info().format
            }
        };
        let chain = Chain::open(image, &OpenOptions::new().without_locks().with_format(format))?;
        let kept = kept_by_grove(image)?;
        if let Some(kept) = kept {
            let message = match kept.grove == grove.folder() {
                true => format!("{} is the disk {} of this machine already", image.display(), kept.disk),
                false => {
                    format!("{} is the disk {} of the machine in {}", image.display(), kept.disk, kept.grove.display())
                }
            };
            return Err(Error::refused(kept.refusal(image), message, "release it there first"));
        }
        self.guard.refuse_hard_links(image)?;
        if let Some(other) = catalogue.disk(&label) {
            return Err(Error::usage(
                format!("the machine has a disk {label} already: {}", other.path.display()),
                "give this one another label",
            ));
        }
        if catalogue.checkpoints.iter().any(|one| one.layer(&label).is_some()) {
            return Err(Error::usage(
                format!("checkpoints of the machine hold another disk {label}, which was released"),
                "give this one another label",
            ));
        }
        let path = PathBuf::from(place.file_name().unwrap_or_default());
        if path.to_str().is_none() {
            return Err(Error::usage(
                format!("{} is no Unicode, and cannot be written down", place.display()),
                "rename the file",
            ));
        }
        if self.role == Role::Tracked && format == Format::Raw {
            return Err(Error::refused(
                Refusal::NoLayers { image: image.to_owned() },
                format!("{} is a raw disk, which knows no layers, so that no checkpoint can keep it", image.display()),
                "copy it into a vhdx image and add that; or add it apart from the checkpoints",
            ));
        }
        drop(chain);
        Ok(GroveDisk { label, role: self.role, path, format })
    }
}

/// What should be known of a disk in this role.
fn warning_of(disk: &GroveDisk) -> Option<String> {
    (disk.role == Role::Throwaway).then(|| {
        format!(
            "the file of the disk {} is never changed by this program; a guest that opens {} itself does change it",
            disk.label,
            disk.path.display()
        )
    })
}

/// A layer that becomes a checkpoint: where it stands, the name, and when it was written last.
type Adopted = (PathBuf, String, Timestamp);

/// Layers of an image that lie in the machine's folder, the nearest first.
fn adoptable(grove: &Grove, image: &Path) -> Result<Vec<Adopted>> {
    let mut found: Vec<Adopted> = Vec::new();
    let mut at = image.to_owned();
    while let Some(parent) = parent_of(&at) {
        let is_ours = folder_of(&parent) == grove.folder() && kept_by_grove(&parent)?.is_none();
        if !is_ours || refuse_pinned(&parent).is_err() || found.iter().any(|(path, ..)| *path == parent) {
            break;
        }
        let stem = parent.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let is_taken = |name: &str| {
            grove.catalogue().checkpoint(name).is_some() || found.iter().any(|(_, other, _)| other == name)
        };
        let safe: String = stem.chars().map(|c| if c == '@' || c.is_control() { '-' } else { c }).collect();
        let safe = safe.trim_start_matches('.').trim().to_owned();
        let names = std::iter::once(safe.clone()).chain((2..).map(|number| format!("{safe}-{number}")));
        let name = names.into_iter().find(|name| !is_taken(name)).unwrap_or(safe);
        let modified = std::fs::metadata(&parent).and_then(|found| found.modified());
        let taken = modified.ok().and_then(|time| Timestamp::try_from(time).ok()).unwrap_or_else(Timestamp::now);
        found.push((parent.clone(), name, taken));
        at = parent;
    }
    Ok(found)
}

/// A checked plan to add a disk.
pub struct AddDiskPlan {
    plan: Plan,
    locked: Locked,
    moving: Option<MovePlan>,
    disk: GroveDisk,
    adopted: Vec<Adopted>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct AddDiskOutcome {
    /// The machine.
    pub machine: String,
    /// The disk's label.
    pub label: String,
    /// Where its current image stands.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Its role.
    pub role: Role,
    /// The checkpoints that its layers became.
    pub adopted: Vec<String>,
}

impl Planned for AddDiskPlan {
    type Outcome = AddDiskOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Adds it. After a crash it is a disk of the machine or it is none; one that was to be moved may stand in the
    /// folder and not be in the catalogue yet.
    ///
    /// # Errors
    /// As [`MovePlan`](crate::ops::MovePlan), when it is moved; `Io`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let folder = self.locked.grove.folder();
        if let Some(moving) = &self.moving {
            moving.run(progress)?;
        }
        let mut catalogue = self.locked.grove.catalogue().clone();
        for adopted in self.adopted.iter().rev() {
            self.adopt(&mut catalogue, adopted)?;
        }
        catalogue.disks.push(self.disk.clone());
        create_folder(&folder.join(HISTORY))?;
        save(folder, &catalogue)?;
        Ok(AddDiskOutcome {
            machine: catalogue.machine.clone(),
            label: self.disk.label.clone(),
            path: folder.join(&self.disk.path),
            role: self.disk.role,
            adopted: self.adopted.iter().rev().map(|(_, name, _)| name.clone()).collect(),
        })
    }
}

impl AddDiskPlan {
    /// A layer becomes a checkpoint, at its time on the way to the present.
    fn adopt(&self, catalogue: &mut Catalogue, (path, name, taken): &Adopted) -> Result<()> {
        let (image, _) = recognise(path)?.ok_or_else(|| Error::usage("a layer is no image", "look at it"))?;
        let info = image.info();
        let number = catalogue.next;
        let layer = Layer {
            label: self.disk.label.clone(),
            path: PathBuf::from(path.file_name().unwrap_or_default()),
            format: info.format,
            virtual_size: info.virtual_size,
            identity: identity_of(path, info)?,
        };
        // It comes before those that are younger, and after those that are as old or older.
        let (mut at, mut above) = (catalogue.after, None);
        while let Some(one) = at.and_then(|number| catalogue.numbered(number)).filter(|one| one.taken > *taken) {
            (above, at) = (Some(one.number), one.parent);
        }
        catalogue.next += 1;
        catalogue.checkpoints.push(Checkpoint {
            number,
            name: Some(name.clone()),
            note: format!("the layer {} was there when the disk {} was added", layer.path.display(), layer.label),
            parent: at,
            taken: *taken,
            protected: false,
            folder: name::folder_for(number, name),
            disks: vec![layer],
        });
        match above.and_then(|above| catalogue.checkpoints.iter_mut().find(|one| one.number == above)) {
            Some(above) => above.parent = Some(number),
            None => catalogue.after = Some(number),
        }
        Ok(())
    }
}

/// A disk that is to belong to its machine no longer.
#[derive(Clone, Debug)]
pub struct ReleaseDisk {
    folder: PathBuf,
    label: String,
}

impl ReleaseDisk {
    /// The disk with this label of the machine in this folder.
    pub fn new(folder: impl Into<PathBuf>, label: impl Into<String>) -> Self {
        Self { folder: folder.into(), label: label.into() }
    }
}

impl Operation for ReleaseDisk {
    type Planned = ReleaseDiskPlan;

    /// What letting it go would do. Its image stays where it is, and so do the checkpoints that hold it.
    ///
    /// # Errors
    /// `Usage` when there is no such disk; `Refused` when something was begun with the machine.
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take_settled(&self.folder)?;
        let disk = locked.grove.disk(Some(&self.label))?.clone();
        let held: Vec<String> = locked
            .grove
            .catalogue()
            .checkpoints
            .iter()
            .filter_map(|one| one.layer(&disk.label).and(one.name.clone()))
            .collect();
        let mut plan = Plan::of(
            "grove release",
            vec![format!("take the disk {} out of the catalogue; {} stays as it is", disk.label, disk.path.display())],
        );
        plan.files.change.push(locked.grove.folder().join(CATALOGUE));
        if !held.is_empty() {
            plan.warnings.push(format!(
                "{} still grows from what these checkpoints keep, which stays until they are forgotten and it is gone \
                 or merged: {}",
                disk.path.display(),
                held.join(", ")
            ));
        }
        Ok(ReleaseDiskPlan { plan, locked, disk })
    }
}

/// A checked plan to let a disk go.
pub struct ReleaseDiskPlan {
    plan: Plan,
    locked: Locked,
    disk: GroveDisk,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct ReleaseDiskOutcome {
    /// The machine.
    pub machine: String,
    /// The label that the disk had.
    pub label: String,
    /// Where its image stands.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
}

impl Planned for ReleaseDiskPlan {
    type Outcome = ReleaseDiskOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Lets it go, in one step.
    ///
    /// # Errors
    /// `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let grove = &self.locked.grove;
        let mut catalogue = grove.catalogue().clone();
        catalogue.disks.retain(|disk| disk.label != self.disk.label);
        save(grove.folder(), &catalogue)?;
        let (machine, label) = (catalogue.machine, self.disk.label.clone());
        Ok(ReleaseDiskOutcome { machine, label, path: grove.folder().join(&self.disk.path) })
    }
}
