//! The catalogue of a machine, made anew from its files alone.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::folder::{lock, save};
use super::lineage::parent_of;
use super::name::{self, told_by};
use crate::error::{Error, Refusal, Result};
use crate::image::{format_of_name, open_unlocked, recognise};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{
    CATALOGUE, Catalogue, Checkpoint, GroveDisk, HISTORY, Layer, MOST_NUMBERS, RECORD, Role, read_record,
    under_way_in_grove,
};
use crate::storage::{FolderLock, files_in, is_temporary_name, real, rename_new, sync_folder};

/// The catalogue of a machine, to be made anew from the files in its folder.
///
/// Names, notes and times of checkpoints come from their records, or, where those are lost too, from the names of their
/// folders; which goes on from which, from the images. What the disks' roles were cannot be told: they count as
/// tracked.
#[derive(Clone, Debug)]
pub struct Rebuild {
    folder: PathBuf,
    machine: Option<String>,
}

impl Rebuild {
    /// Of the machine in this folder.
    pub fn new(folder: impl Into<PathBuf>) -> Self {
        Self { folder: folder.into(), machine: None }
    }

    /// What the machine is called, where nothing tells.
    pub fn with_machine(mut self, machine: impl Into<String>) -> Self {
        self.machine = Some(machine.into());
        self
    }
}

impl Operation for Rebuild {
    type Planned = RebuildPlan;

    /// What the new catalogue would say. The grove stays locked as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when no image lies in the folder; `Refused` when a program of a newer version wrote the catalogue, or
    /// something was begun with the machine; `Io`.
    fn plan(self) -> Result<Self::Planned> {
        let folder = real(&self.folder)?;
        let lock = lock(&folder)?;
        if let Some(begun) = under_way_in_grove(&folder)? {
            return Err(super::folder::unfinished(&begun));
        }
        // What a newer program wrote down is not to be written anew by one that does not know it.
        if let Err(error @ Error::Unsupported(_)) = Catalogue::of(&folder) {
            return Err(error);
        }
        let mut plan = Plan::of("grove rebuild", Vec::new());
        let aside = aside_of(&folder);
        if let Some(aside) = &aside {
            plan.steps.push(format!("keep what {CATALOGUE} says now as {}", aside.display()));
            plan.renames(&folder.join(CATALOGUE), aside);
        }
        let catalogue = Found::below(&folder)?.catalogue(&folder, self.machine.as_deref(), &mut plan)?;
        plan.files.create.push(folder.join(CATALOGUE));
        plan.warnings.push("the roles of the disks cannot be told from files: all count as tracked".to_owned());
        Ok(RebuildPlan { plan, folder, aside, catalogue, _lock: lock })
    }
}

/// Where a catalogue goes that is to be made anew.
fn aside_of(folder: &Path) -> Option<PathBuf> {
    let place = folder.join(CATALOGUE);
    std::fs::symlink_metadata(&place).ok()?;
    let free = |path: &PathBuf| std::fs::symlink_metadata(path).is_err();
    (1..).map(|number| folder.join(format!("{CATALOGUE}.old-{number}"))).find(free)
}

/// What lies in a machine's folder.
struct Found {
    /// The checkpoints, by number, as their records tell; only layers that are there.
    checkpoints: BTreeMap<u64, Checkpoint>,
    machine: Option<String>,
    /// Images in the folder itself that no checkpoint holds.
    images: Vec<PathBuf>,
    problems: Vec<String>,
}

impl Found {
    fn below(folder: &Path) -> Result<Self> {
        let mut found = Self { checkpoints: BTreeMap::new(), machine: None, images: Vec::new(), problems: Vec::new() };
        for path in files_in(&folder.join(HISTORY))?.into_iter().filter(|path| path.is_dir()) {
            found.note_checkpoint(folder, &path)?;
        }
        let layers: BTreeSet<PathBuf> =
            found.checkpoints.values().flat_map(|one| one.disks.iter().map(|layer| folder.join(&layer.path))).collect();
        for path in files_in(folder)?.into_iter().filter(|path| path.is_file() && !path.is_symlink()) {
            let is_image = format_of_name(&path).is_some() || matches!(recognise(&path), Ok(Some(_)));
            if is_image && !is_temporary_name(&path) && !layers.contains(&path) {
                found.images.push(path);
            }
        }
        Ok(found)
    }

    fn note_checkpoint(&mut self, folder: &Path, path: &Path) -> Result<()> {
        let way = path.strip_prefix(folder).unwrap_or(path).to_owned();
        let record = read_record(path).unwrap_or_else(|error| {
            self.problems.push(error.with_causes());
            None
        });
        let one = match record {
            Some(record) => {
                self.machine.get_or_insert(record.machine);
                let mut one = record.checkpoint;
                one.folder = way;
                one.disks.retain(|layer| {
                    let is_there = folder.join(&layer.path).is_file();
                    if !is_there {
                        self.problems.push(format!("{} is not there any more", layer.path.display()));
                    }
                    is_there
                });
                Some(one)
            }
            None => without_record(folder, path, &way)?,
        };
        let Some(one) = one.filter(|one| (1..MOST_NUMBERS).contains(&one.number)) else { return Ok(()) };
        if let Some(other) = self.checkpoints.get(&one.number) {
            self.problems.push(format!(
                "{} and {} are of the same number: {} is left out",
                other.folder.display(),
                one.folder.display(),
                one.folder.display()
            ));
            return Ok(());
        }
        if !one.disks.is_empty() {
            self.checkpoints.insert(one.number, one);
        }
        Ok(())
    }

    fn catalogue(mut self, folder: &Path, machine: Option<&str>, plan: &mut Plan) -> Result<Catalogue> {
        let known = self.machine.take();
        let told = folder.file_name().map(|name| name.to_string_lossy().into_owned());
        let machine = machine.map(str::to_owned).or(known).or(told).unwrap_or_default();
        name::check("a machine", &machine)?;
        let mut catalogue = Catalogue::new(&machine);
        catalogue.rebuilt = true;
        self.make_names_unique();
        let by_path: BTreeMap<PathBuf, u64> = self
            .checkpoints
            .values()
            .flat_map(|one| one.disks.iter().map(|layer| (folder.join(&layer.path), one.number)))
            .collect();
        let numbers: Vec<u64> = self.checkpoints.keys().copied().collect();
        for number in numbers {
            let Some(one) = self.checkpoints.get(&number) else { continue };
            let parents: Vec<(String, Option<u64>)> = one
                .disks
                .iter()
                .map(|layer| (layer.label.clone(), parent_number(&folder.join(&layer.path), &by_path)))
                .collect();
            let parent = self.common_parent(&parents, one.parent);
            if let Some(one) = self.checkpoints.get_mut(&number) {
                one.parent = parent;
            }
        }
        // Whoever has a child in the folder is no current image.
        let parents: BTreeSet<PathBuf> = self.images.iter().filter_map(|path| parent_of(path)).collect();
        let currents: Vec<&PathBuf> = self.images.iter().filter(|path| !parents.contains(*path)).collect();
        if currents.is_empty() && self.checkpoints.is_empty() {
            return Err(Error::usage(format!("no image lies in {}", folder.display()), "name the folder of a machine"));
        }
        let mut grown = Vec::new();
        for path in currents {
            let name = PathBuf::from(path.file_name().unwrap_or_default());
            if name.to_str().is_none() {
                self.problems.push(format!("{} is no Unicode and is left out", path.display()));
                continue;
            }
            let label = self.label_of(path, &catalogue, folder);
            let format = match open_unlocked(path) {
                Ok(image) => image.info().format,
                Err(error) => match format_of_name(path) {
                    Some(format) => {
                        self.problems.push(error.with_causes());
                        format
                    }
                    None => continue,
                },
            };
            grown.push((label.clone(), parent_number(path, &by_path)));
            plan.steps.push(format!("the disk {label}: {}", name.display()));
            catalogue.disks.push(GroveDisk { label, role: Role::Tracked, path: name, format });
        }
        catalogue.after = self.common_parent(&grown, None);
        catalogue.next = self.checkpoints.keys().next_back().map_or(1, |last| last + 1);
        for one in self.checkpoints.values() {
            let name = one.name.as_deref().unwrap_or("a layer without a name");
            plan.steps.push(format!("the checkpoint {name}: {}", one.folder.display()));
        }
        plan.warnings.append(&mut self.problems);
        catalogue.checkpoints = self.checkpoints.into_values().collect();
        Ok(catalogue)
    }

    /// The checkpoint that disks with these parents go on from: the youngest of which every disk that it holds grows;
    /// or the one that was written down, where it is one of them.
    fn common_parent(&self, grown: &[(String, Option<u64>)], recorded: Option<u64>) -> Option<u64> {
        let candidates: BTreeSet<u64> = grown.iter().filter_map(|(_, parent)| *parent).collect();
        let fits = |number: &u64| {
            self.checkpoints.get(number).is_some_and(|one| {
                one.disks
                    .iter()
                    .all(|layer| grown.iter().all(|(label, parent)| *label != layer.label || *parent == Some(*number)))
            })
        };
        match recorded.filter(|number| candidates.contains(number)) {
            Some(number) => Some(number),
            None => candidates.iter().rev().find(|number| fits(number)).or(candidates.last()).copied(),
        }
    }

    /// The label of a current image: what the checkpoints call the disk that it grows from, or whose file has its name;
    /// else the name.
    fn label_of(&self, file: &Path, catalogue: &Catalogue, folder: &Path) -> String {
        let layers = || self.checkpoints.values().rev().flat_map(|one| &one.disks);
        let parent = parent_of(file);
        let grown = layers().find(|layer| Some(folder.join(&layer.path)) == parent);
        let named = || layers().find(|layer| layer.path.file_name() == file.file_name());
        let told = grown.or_else(named).map(|layer| layer.label.clone());
        let stem = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let wanted = told.unwrap_or(stem);
        let free = |label: &String| catalogue.disk(label).is_none();
        let others = (2..).map(|number| format!("{wanted}-{number}"));
        std::iter::once(wanted.clone()).chain(others).find(free).unwrap_or_default()
    }

    fn make_names_unique(&mut self) {
        let mut seen = BTreeSet::new();
        for one in self.checkpoints.values_mut() {
            let Some(name) = one.name.clone() else { continue };
            if seen.insert(name.clone()) {
                continue;
            }
            let others = (2..).map(|number| format!("{name}-{number}"));
            if let Some(other) = others.into_iter().find(|other| !seen.contains(other)) {
                seen.insert(other.clone());
                one.name = Some(other);
            }
        }
    }
}

fn parent_number(path: &Path, by_path: &BTreeMap<PathBuf, u64>) -> Option<u64> {
    by_path.get(&parent_of(path)?).copied()
}

/// A checkpoint whose record is lost: what the folder's name and its images tell.
fn without_record(folder: &Path, path: &Path, way: &Path) -> Result<Option<Checkpoint>> {
    let Some((number, name)) = told_by(path) else { return Ok(None) };
    let mut disks = Vec::new();
    let mut taken: Option<Timestamp> = None;
    for file in files_in(path)?.into_iter().filter(|file| !is_temporary_name(file) && !file.ends_with(RECORD)) {
        let Ok(Some((image, _))) = recognise(&file) else { continue };
        let Some(identity) = image.info().data_identity else { continue };
        let modified = std::fs::metadata(&file).and_then(|found| found.modified());
        taken = taken.max(modified.ok().and_then(|time| Timestamp::try_from(time).ok()));
        disks.push(Layer {
            label: file.file_stem().unwrap_or_default().to_string_lossy().into_owned(),
            path: file.strip_prefix(folder).unwrap_or(&file).to_owned(),
            format: image.info().format,
            virtual_size: image.info().virtual_size,
            identity,
        });
    }
    Ok(Some(Checkpoint {
        number,
        name: Some(name),
        note: String::new(),
        parent: None,
        taken: taken.unwrap_or_else(Timestamp::now),
        protected: false,
        folder: way.to_owned(),
        disks,
    }))
}

/// A checked plan to make a catalogue anew.
pub struct RebuildPlan {
    plan: Plan,
    folder: PathBuf,
    aside: Option<PathBuf>,
    catalogue: Catalogue,
    _lock: FolderLock,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct RebuildOutcome {
    /// The machine.
    pub machine: String,
    /// Its disks.
    pub disks: Vec<String>,
    /// Its checkpoints.
    pub checkpoints: Vec<String>,
    /// Where the catalogue went that was there before.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Option<crate::path_data::PathData>")]
    pub set_aside: Option<PathBuf>,
}

impl RebuildPlan {
    /// What the new catalogue would say.
    pub fn catalogue(&self) -> &Catalogue {
        &self.catalogue
    }
}

impl Planned for RebuildPlan {
    type Outcome = RebuildOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Keeps the old catalogue under another name and writes the new one. After a crash in between there is none, and
    /// the same call makes it.
    ///
    /// # Errors
    /// `Refused` when another catalogue appeared meanwhile; `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let place = self.folder.join(CATALOGUE);
        match &self.aside {
            Some(aside) => {
                rename_new(&place, aside)?;
                sync_folder(aside)?;
            }
            None if std::fs::symlink_metadata(&place).is_ok() => {
                return Err(Error::refused(
                    Refusal::changed(&place),
                    format!("{} is there by now", place.display()),
                    "look at it, and begin again",
                ));
            }
            None => {}
        }
        save(&self.folder, &self.catalogue)?;
        Ok(RebuildOutcome {
            machine: self.catalogue.machine.clone(),
            disks: self.catalogue.disks.iter().map(|disk| disk.label.clone()).collect(),
            checkpoints: self.catalogue.checkpoints.iter().filter_map(|one| one.name.clone()).collect(),
            set_aside: self.aside.clone(),
        })
    }
}
