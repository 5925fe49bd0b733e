//! A machine in its folder, and what each of its disks must read: now, and at each of its checkpoints.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, ChainMut, OpenOptions, SharedDisk};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::grove::{
    AddDisk, Catalogue, CopyGrove, DescribeCheckpoint, Forget, Grove, NewGrove, Present, Rebuild, RemoveGrove, Revert,
    TakeCheckpoint, Which, checkpoints_of,
};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{Compact, NewSize, Resize};

use crate::family_model::{SIZE, derive, make, quick_folder, write};
use crate::support::{Model, check_chain, perform};

/// What the disks hold at one moment.
pub type Moment = Vec<Model>;

/// A checkpoint as it should be.
#[derive(Clone, Debug)]
pub struct Known {
    pub parent: Option<String>,
    pub note: String,
    pub disks: Moment,
}

pub struct Machine {
    pub root: tempfile::TempDir,
    pub folder: PathBuf,
    /// The files of the disks.
    pub disks: Vec<PathBuf>,
    pub present: Moment,
    pub after: Option<String>,
    pub checkpoints: BTreeMap<String, Known>,
}

impl Machine {
    /// A disk a format: the first stands alone, the others are children of a base elsewhere.
    pub fn new(formats: &[Format]) -> Self {
        let root = quick_folder();
        let root_path = root.path().canonicalize().unwrap();
        let folder = root_path.join("herbarium");
        perform(NewGrove::new(&folder, "herbarium")).unwrap();
        let mut machine = Self {
            root,
            folder: folder.clone(),
            disks: Vec::new(),
            present: Vec::new(),
            after: None,
            checkpoints: BTreeMap::new(),
        };
        for (number, format) in formats.iter().enumerate() {
            let path = folder.join(format!("disk-{number}.{format}"));
            let mut content = Model { size: Some(SIZE), ..Model::default() };
            if number == 0 {
                make(&path);
            } else {
                let base = root_path.join(format!("base-{number}.{format}"));
                make(&base);
                write(&base, 0, 7);
                content.fill(0, 4096, 7);
                derive(&base, &path, false);
            }
            perform(AddDisk::new(&folder, &path)).unwrap();
            machine.disks.push(path);
            machine.present.push(content);
        }
        machine
    }

    pub fn write(&mut self, disk: usize, unit: u64, byte: u8) {
        write(&self.disks[disk], unit * 4096, byte);
        self.present[disk].fill(unit * 4096, 4096, byte);
    }

    /// Gives a disk another size; what would be cut off, and what stands below and would show, is refused.
    pub fn resize(&mut self, disk: usize, to: u64) {
        let content = &mut self.present[disk];
        let (from, is_cut) = (content.size.unwrap(), content.units.range(to / 512..).next().is_some());
        let chain = Chain::open(&self.disks[disk], &OpenOptions::new()).unwrap();
        let shows = to > from && chain.layers().iter().any(|layer| layer.info().virtual_size > from);
        drop(chain);
        match perform(Resize::new(&self.disks[disk]).with_size(NewSize::To(to))) {
            Ok(_) => content.resize(to),
            Err(Error::Refused(Refusal::WouldDiscard { .. }, _)) => assert!(is_cut),
            Err(Error::Usage(_)) => assert!(shows || to == from),
            Err(other) => panic!("{other}"),
        }
    }

    /// Compacts a disk, or what a checkpoint has of it, which nobody notices.
    pub fn compact(&self, disk: usize, checkpoint: Option<&str>, in_order: bool) {
        let grove = Grove::open(&self.folder).unwrap();
        let path = grove.place(Some(&format!("disk-{disk}")), checkpoint).unwrap().path;
        drop(grove);
        let outcome = perform(Compact::new(path).in_order(in_order)).unwrap();
        assert!(outcome.after.file_len <= outcome.before.file_len);
    }

    pub fn take(&mut self, name: &str) {
        let note = format!("note of {name}");
        perform(TakeCheckpoint::new(&self.folder, name).with_note(&note)).unwrap();
        self.note_taken(name, &note);
    }

    /// The same while this process has its disks open, and writes to the first one on both sides of it.
    pub fn take_running(&mut self, name: &str) {
        let open = |path: &PathBuf| Arc::new(SharedDisk::new(ChainMut::open(path, &OpenOptions::new()).unwrap()));
        let disks: Vec<_> = self.disks.iter().map(open).collect();
        let note = format!("note of {name}");
        let byte = (self.checkpoints.len() % 200 + 1) as u8;
        disks[0].write_at(&[byte; 4096], 13 * 4096).unwrap();
        self.present[0].fill(13 * 4096, 4096, byte);
        let take = TakeCheckpoint::new(&self.folder, name).with_note(&note);
        perform(take.of_running(disks.clone())).unwrap();
        self.note_taken(name, &note);
        disks[0].write_at(&[byte + 1; 4096], 13 * 4096).unwrap();
        self.present[0].fill(13 * 4096, 4096, byte + 1);
        disks.iter().for_each(|disk| disk.flush().unwrap());
    }

    pub fn note_taken(&mut self, name: &str, note: &str) {
        let known = Known { parent: self.after.clone(), note: note.to_owned(), disks: self.present.clone() };
        self.checkpoints.insert(name.to_owned(), known);
        self.after = Some(name.to_owned());
    }

    pub fn revert(&mut self, name: &str, keep_as: Option<&str>) {
        let present = keep_as.map_or(Present::Discarded, |name| Present::KeptAs(name.to_owned()));
        perform(Revert::new(&self.folder, name, present)).unwrap();
        self.note_reverted(name, keep_as);
    }

    pub fn note_reverted(&mut self, name: &str, keep_as: Option<&str>) {
        if let Some(kept) = keep_as {
            self.note_taken(kept, "");
        }
        self.present = self.checkpoints[name].disks.clone();
        self.after = Some(name.to_owned());
    }

    pub fn forget(&mut self, name: &str) {
        perform(Forget::new(&self.folder, Which::Named(name.to_owned()))).unwrap();
        self.note_forgotten(name);
    }

    pub fn note_forgotten(&mut self, name: &str) {
        let gone = self.checkpoints.remove(name).unwrap();
        let follows = |at: &mut Option<String>| {
            if at.as_deref() == Some(name) {
                at.clone_from(&gone.parent);
            }
        };
        self.checkpoints.values_mut().for_each(|known| follows(&mut known.parent));
        follows(&mut self.after);
    }

    pub fn rename(&mut self, old: &str, new: &str, note: &str) {
        perform(DescribeCheckpoint::new(&self.folder, old).with_name(new).with_note(note)).unwrap();
        let mut known = self.checkpoints.remove(old).unwrap();
        known.note = note.to_owned();
        self.checkpoints.insert(new.to_owned(), known);
        let follows = |at: &mut Option<String>| {
            if at.as_deref() == Some(old) {
                *at = Some(new.to_owned());
            }
        };
        self.checkpoints.values_mut().for_each(|known| follows(&mut known.parent));
        follows(&mut self.after);
    }

    /// The catalogue is lost, and made anew from the files: the same but for the roles.
    pub fn rebuild(&self) {
        let known = Grove::open(&self.folder).unwrap().catalogue().clone();
        std::fs::remove_file(self.folder.join("grove.json")).unwrap();
        perform(Rebuild::new(&self.folder)).unwrap();
        let found = Grove::open(&self.folder).unwrap().catalogue().clone();
        assert!(found.rebuilt);
        let sorted = |catalogue: &Catalogue| {
            let mut catalogue = catalogue.clone();
            catalogue.checkpoints.sort_by_key(|one| one.number);
            catalogue.disks.sort_by(|one, other| one.label.cmp(&other.label));
            (catalogue.machine, catalogue.after, catalogue.disks, catalogue.checkpoints)
        };
        assert_eq!(sorted(&found), sorted(&known));
    }

    /// A copy of it is the same machine, or, flat, its present; and goes without a trace.
    pub fn copy(&mut self, flat: bool) {
        let target = self.root.path().canonicalize().unwrap().join("copy");
        perform(CopyGrove::new(&self.folder, &target).flat(flat)).unwrap();
        let here = (self.folder.clone(), self.disks.clone(), self.after.clone(), self.checkpoints.clone());
        self.disks = self.disks.iter().map(|path| target.join(path.file_name().unwrap())).collect();
        self.folder.clone_from(&target);
        if flat {
            self.after = None;
            self.checkpoints.clear();
        }
        self.judge("copied");
        let depth = |path: &PathBuf| Chain::open(path, &OpenOptions::new()).unwrap().layers().len();
        assert!(!flat || self.disks.iter().all(|path| depth(path) == 1));
        // What is written to the copy is none of the machine's.
        if flat {
            write(&self.disks[0], 0, 251);
        }
        (self.folder, self.disks, self.after, self.checkpoints) = here;
        perform(RemoveGrove::new(&target)).unwrap();
        assert!(!target.exists());
        self.judge("after it was copied");
    }

    /// Every disk reads what it should, now and at each checkpoint; folder and catalogue agree.
    pub fn judge(&self, when: &str) {
        self.judge_content(when);
        let grove = Grove::open(&self.folder).unwrap();
        let list = checkpoints_of(&grove).unwrap();
        assert_eq!(list.under_way, None, "{when}");
        assert_eq!(list.present.after, self.after, "{when}");
        let found: BTreeMap<_, _> =
            list.checkpoints.iter().map(|one| (one.name.clone(), (one.parent.clone(), one.note.clone()))).collect();
        let expected: BTreeMap<_, _> = self
            .checkpoints
            .iter()
            .map(|(name, known)| (name.clone(), (known.parent.clone(), known.note.clone())))
            .collect();
        assert_eq!(found, expected, "{when}");
        self.judge_files(grove.catalogue(), when);
    }

    /// The same of the contents alone: also of a machine in the middle of something.
    pub fn judge_content(&self, when: &str) {
        let grove = Grove::open(&self.folder).unwrap_or_else(|error| panic!("{when}: {error}"));
        for (path, content) in self.disks.iter().zip(&self.present) {
            assert_reads(path, content, when);
        }
        for (name, known) in self.checkpoints.iter().filter(|(name, _)| grove.checkpoint(name).is_ok()) {
            for (path, content) in self.disks.iter().zip(&known.disks) {
                let label = path.file_stem().unwrap().to_str().unwrap();
                let place = grove.place(Some(label), Some(name)).unwrap();
                assert_reads(&place.path, content, &format!("{when}, {label} at {name}"));
            }
        }
    }

    /// Nothing lies in the folder that the catalogue does not speak of; each layer is frozen, and knows its children.
    fn judge_files(&self, catalogue: &Catalogue, when: &str) {
        let mut expected: BTreeSet<PathBuf> = self.disks.iter().cloned().collect();
        expected.insert(self.folder.join("grove.json"));
        for one in &catalogue.checkpoints {
            expected.insert(self.folder.join(&one.folder).join("checkpoint.json"));
            for layer in &one.disks {
                let path = self.folder.join(&layer.path);
                assert!(path.metadata().unwrap().permissions().readonly(), "{when}: {path:?} is not frozen");
                let found = zestful_sapling::family::inspect(&path, None).unwrap();
                assert_eq!(found.data_identity, Some(layer.identity), "{when}: {path:?}");
                expected.insert(path);
            }
        }
        let found: BTreeSet<PathBuf> = files_below(&self.folder)
            .into_iter()
            .filter(|path| !path.to_string_lossy().ends_with(".zsap.json"))
            .collect();
        assert_eq!(found, expected, "{when}");
        let history = std::fs::read_dir(self.folder.join("history")).unwrap().flatten().map(|entry| entry.path());
        let folders: BTreeSet<PathBuf> = history.collect();
        let known: BTreeSet<PathBuf> = catalogue.checkpoints.iter().map(|one| self.folder.join(&one.folder)).collect();
        assert_eq!(folders, known, "{when}");
        for path in files_below(&self.folder).iter().filter(|path| path.to_string_lossy().ends_with(".zsap.json")) {
            let image = PathBuf::from(path.to_str().unwrap().strip_suffix(".zsap.json").unwrap());
            assert!(image.exists(), "{when}: {path:?} is left");
        }
        for path in &self.disks {
            assert!(!path.metadata().unwrap().permissions().readonly(), "{when}: {path:?}");
            let report = check_chain(path, None).unwrap();
            let bad = report.findings.iter().find(|f| f.severity() == zestful_sapling::finding::Severity::Error);
            assert!(bad.is_none(), "{when}: {bad:?}");
            let chain = Chain::open(path, &OpenOptions::new()).unwrap();
            for pair in chain.layers().windows(2) {
                let known = zestful_sapling::family::children_of(pair[1].path(), &Default::default()).unwrap();
                let is_child =
                    |child: &PathBuf| child.canonicalize().unwrap() == pair[0].path().canonicalize().unwrap();
                assert!(known.children.iter().any(is_child), "{when}: {:?} {known:?}", pair[1].path());
                assert!(known.unknown.is_empty() && known.lost.is_empty(), "{when}: {known:?}");
                // What is known of a chain is good without what lies around it.
                let paths = &pair[0].info().parent.as_ref().unwrap().paths;
                assert!(paths.iter().all(|path| !path.text.starts_with('\\')), "{when}: {paths:?}");
            }
        }
    }
}

pub fn assert_reads(path: &Path, content: &Model, when: &str) {
    println!("{}: {when}", path.display());
    let chain = Chain::open(path, &OpenOptions::new());
    content.assert_same(&chain.unwrap_or_else(|error| panic!("{when}: {}: {error}", path.display())));
}

pub fn files_below(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() && !path.is_symlink() {
            true => found.extend(files_below(&path)),
            false => found.push(path),
        }
    }
    found
}
