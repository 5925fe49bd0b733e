//! What is to be taken out, whether it fits, and that nothing is in the way.

use std::path::{Path, PathBuf};

use super::outcome::TakeOutOutcome;
use super::read::{Source, read_all};
use super::write::Writer;
use crate::chain::OpenOptions;
use crate::error::{Error, Refusal, Result};
use crate::guest::{Certainty, Entry, EntryKind, FileTree, InnerPath};
use crate::image::Format;
use crate::operation::{Operation, Plan, Planned};
use crate::ops::deleted::{Deleted, DeletedFiles};
use crate::progress::Progress;
use crate::size::format_size;
use crate::storage::{Beneath, folder_of};

/// Files and folders of a volume, to be copied into a folder of this host.
///
/// The disk is only read, at any point of its chain. Everything is made beneath the folder and nowhere else: by
/// handles, whatever names and links the volume holds, and nothing that is there is overwritten. Times are kept, holes
/// stay holes, links are made as links and not followed; owners and set-id bits are not taken over; devices and pipes
/// are counted and left out, as is what is damaged, or kept in a form that only the guest can read.
#[derive(Clone)]
pub struct TakeOut {
    image: PathBuf,
    paths: Vec<InnerPath>,
    into: PathBuf,
    volume: Option<u32>,
    format: Option<Format>,
    deleted: bool,
}

impl TakeOut {
    /// What stands at these paths of the disk whose current image is `image`, into the folder `into`, which is made
    /// when it is not there. Each gets its last name there; of the root of the volume all that is in it.
    pub fn new(image: impl Into<PathBuf>, paths: Vec<InnerPath>, into: impl Into<PathBuf>) -> Self {
        Self { image: image.into(), paths, into: into.into(), volume: None, format: None, deleted: false }
    }

    /// Out of the volume of this number; it need not be said where only one has files.
    pub fn with_volume(mut self, number: u32) -> Self {
        self.volume = Some(number);
        self
    }

    /// The paths are those of deleted files, as [`DeletedFiles`] tells them: out of the newest layer of the chain that
    /// holds them, and where none does, what lies where they lay.
    pub fn with_deleted(mut self, deleted: bool) -> Self {
        self.deleted = deleted;
        self
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }
}

impl Operation for TakeOut {
    type Planned = TakeOutPlan;

    /// Counts what there is to take, and how much of it. The disk stays locked against writers as long as the plan
    /// lives, unless a server of ours has it, which is told as a warning.
    ///
    /// # Errors
    /// `Inside` when nothing stands at a path, or the volume's files are not read; `Refused` when something of such a
    /// name is in the folder, or it does not fit; `Usage` when the volume must be named; as
    /// [`Chain::open`](crate::chain::Chain::open).
    fn plan(self) -> Result<Self::Planned> {
        if self.deleted {
            return self.plan_deleted();
        }
        let options = OpenOptions::of_format(self.format);
        let (mut tree, notes) = FileTree::of_image(&self.image, &options, self.volume)?;
        let (disk, volume) = (tree.disk(), tree.volume().clone());
        let mut plan = Plan { operation: "files get", warnings: notes, ..Plan::default() };
        let (mut counted, mut names) = (Counted::default(), Vec::new());
        for path in &self.paths {
            let entry = tree.entry(path)?;
            if path.name().is_some() {
                counted.add(&entry);
                names.push(path.clone());
            }
            let is_root = path.name().is_none();
            if entry.kind == EntryKind::Folder {
                tree.list(path, true, &mut |entry| {
                    counted.add(entry);
                    if is_root && entry.path.names().count() == 1 {
                        names.push(entry.path.clone());
                    }
                    Ok(true)
                })?;
            }
        }
        self.refuse_in_the_way(&names)?;
        plan.steps.push(format!(
            "read files ({}, {} in all) and folders ({}) of volume {} of {}",
            counted.files,
            format_size(counted.bytes),
            counted.folders,
            volume.number,
            self.image.display()
        ));
        plan.steps.push(format!("make them in {}, where nothing is overwritten", self.into.display()));
        plan.files.create.push(self.into.clone());
        (plan.bytes_read, plan.bytes_written, plan.peak_extra_space) = (counted.bytes, counted.bytes, counted.bytes);
        let place = if self.into.exists() { self.into.join(".") } else { self.into.clone() };
        Plan::require_space(&place, counted.bytes)?;
        let sources = self.paths.iter().map(|path| Source {
            disk: disk.clone(),
            volume: volume.clone(),
            path: path.clone(),
            left: None,
        });
        let sources = sources.collect();
        Ok(TakeOutPlan { plan, request: self, sources })
    }
}

#[derive(Default)]
struct Counted {
    files: u64,
    folders: u64,
    bytes: u64,
}

impl Counted {
    fn add(&mut self, entry: &Entry) {
        match entry.kind {
            EntryKind::File => self.files += 1,
            EntryKind::Folder => self.folders += 1,
            _ => {}
        }
        self.bytes = self.bytes.saturating_add(entry.allocated.or(entry.size).unwrap_or(0));
    }
}

impl TakeOut {
    fn plan_deleted(self) -> Result<TakeOutPlan> {
        let find = DeletedFiles { image: self.image.clone(), volume: self.volume, format: self.format };
        let found = find.find(&Progress::new())?;
        let (mut tree, _) = FileTree::of_image(&self.image, &OpenOptions::of_format(self.format), self.volume)?;
        let mut plan = Plan { operation: "files get", warnings: found.notes, ..Plan::default() };
        let (mut sources, mut sum) = (Vec::new(), 0u64);
        for path in &self.paths {
            let Some(file) = found.files.iter().find(|file| file.path() == path) else {
                return Err(tree.no_such_deleted(path));
            };
            match file {
                Deleted::Held(layer, entry) => {
                    let (tree, _) = FileTree::of_image(layer, &OpenOptions::new(), Some(found.volume.number))?;
                    plan.steps.push(format!("take {path} out of {}, which still holds it", layer.display()));
                    let (disk, volume) = (tree.disk(), tree.volume().clone());
                    sources.push(Source { disk, volume, path: path.clone(), left: None });
                    sum = sum.saturating_add(entry.allocated.or(entry.size).unwrap_or(0));
                }
                Deleted::Left(file) => {
                    if file.certainty == Certainty::Lost {
                        return Err(tree.lost(file));
                    }
                    if file.certainty != Certainty::Sure {
                        plan.warnings.push(format!("{path} may hold something else by now: {}", file.why));
                    }
                    plan.steps.push(format!("take what lies where {path} lay"));
                    let (disk, volume) = (tree.disk(), tree.volume().clone());
                    sources.push(Source { disk, volume, path: path.clone(), left: Some(file.clone()) });
                    sum = sum.saturating_add(file.size);
                }
            }
        }
        self.refuse_in_the_way(&self.paths)?;
        plan.files.create.push(self.into.clone());
        (plan.bytes_read, plan.bytes_written, plan.peak_extra_space) = (sum, sum, sum);
        let place = if self.into.exists() { self.into.join(".") } else { self.into.clone() };
        Plan::require_space(&place, sum)?;
        Ok(TakeOutPlan { plan, request: self, sources })
    }

    fn refuse_in_the_way(&self, paths: &[InnerPath]) -> Result<()> {
        let mut names: Vec<&[u8]> = paths.iter().filter_map(InnerPath::name).collect();
        names.sort_unstable();
        if let Some(twice) = names.windows(2).find(|pair| pair[0] == pair[1]) {
            let name = String::from_utf8_lossy(twice[0]).into_owned();
            return Err(Error::usage(
                format!("two of the paths end in {name}, and would be one file in {}", self.into.display()),
                "take one of them into another folder",
            ));
        }
        if std::fs::symlink_metadata(&self.into).is_err() {
            return Ok(());
        }
        let folder = Beneath::open(&self.into)?;
        for name in names {
            if folder.has(name)? {
                let path = folder.path_of(name);
                let message = format!("{} is there already", path.display());
                let advice = "move it away, or take the files into another folder";
                return Err(Error::refused(Refusal::Exists { path }, message, advice));
            }
        }
        Ok(())
    }
}

/// A checked plan to take files out.
pub struct TakeOutPlan {
    plan: Plan,
    request: TakeOut,
    sources: Vec<Source>,
}

impl Planned for TakeOutPlan {
    type Outcome = TakeOutOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Takes them out. A file gets its name when it is whole: stopped, killed, or on a host that runs full, what has a
    /// name is whole. On return all of it is durable.
    ///
    /// # Errors
    /// `Io` when the host fails or has no room left; `Refused` when something came into the way meanwhile; `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<TakeOutOutcome> {
        let into = &self.request.into;
        if !into.exists() {
            crate::storage::create_folder(into)?;
        }
        let folder = Beneath::open(into)?;
        progress.begin("taking files out", self.plan.bytes_written);
        let outcome = std::thread::scope(|scope| {
            let (send, steps) = std::sync::mpsc::sync_channel(4);
            let (used, empty) = std::sync::mpsc::channel();
            let reader = scope.spawn(move || read_all(&self.sources, &send, &empty));
            let mut writer = Writer::new(&folder, progress, used);
            let written = steps.iter().try_for_each(|step| writer.take(step)).and_then(|()| writer.finish());
            drop(steps);
            let read = reader.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            written.and_then(|outcome| read.map(|()| outcome))
        });
        let outcome = outcome?;
        folder.sync_all()?;
        sync_names(into)?;
        Ok(outcome)
    }
}

fn sync_names(folder: &Path) -> Result<()> {
    Beneath::open(&folder_of(folder))?.sync_all()
}
