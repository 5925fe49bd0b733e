//! Families of files in three folders, and what each of their disks holds.

use std::path::{Path, PathBuf};

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Override, Search, children_of, inspect};
use zestful_sapling::finding::Severity;
use zestful_sapling::image::{Format, ParentRecord, ParentReference, open_image_mut, vhd, vhdx};
use zestful_sapling::ops::{
    Compact, Derive, Direction, FreshIdentity, KeepName, Make, Merge, MoveImage, NewSize, Operation, Planned, Relink,
    Remove, Resize, Transplant,
};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::{Access, FileStorage, StagedFile};

use crate::support::Model;
use crate::support::check_chain;
use crate::support::{perform, with};

pub const SIZE: u64 = 8 << 20;

pub fn make(path: &Path) {
    Make::new(path, SIZE).plan().unwrap().run(&Progress::new()).unwrap();
}

pub fn derive(base: &Path, child: &Path, absolute: bool) {
    let plan = Derive::new(base, vec![child.to_owned()]).with_absolute(absolute).plan().unwrap();
    plan.run(&Progress::new()).unwrap();
}

pub fn write(path: &Path, at: u64, byte: u8) {
    let disk = ChainMut::open(path, &OpenOptions::new()).unwrap();
    disk.write_at(&[byte; 4096], at).unwrap();
    disk.close().unwrap();
}

/// Writes as a program does that asks neither companions nor folders, though it takes our locks.
pub fn write_unasked(path: &Path, at: u64, byte: u8) {
    let storage = std::sync::Arc::new(FileStorage::open(path, Access::Write).unwrap());
    let image = open_image_mut(storage, None).unwrap();
    image.write_at(&[byte; 4096], at).unwrap();
    image.close().unwrap();
}

pub fn move_to(from: &Path, to: &Path, root: &Path) -> zestful_sapling::Result<()> {
    let search = Search::below(vec![root.to_owned()]);
    MoveImage::new(from, to).with_search(search).plan()?.run(&Progress::new()).map(|_| ())
}

pub fn relink(child: &Path, root: &Path) -> zestful_sapling::Result<bool> {
    let search = Search::below(vec![root.to_owned()]);
    Relink::new(child).with_search(search).plan()?.run(&Progress::new()).map(|outcome| outcome.changed)
}

/// One thing that happens to a family. Images are chosen among those that there are.
#[derive(Clone, Debug)]
pub enum Step {
    Derive {
        of: usize,
        absolute: bool,
    },
    /// A child of another size, with blocks of another size.
    Graft {
        of: usize,
        size: u64,
        block: u64,
    },
    Zero {
        to: usize,
        at: u64,
        count: u64,
    },
    /// With so many of its parents; either way, or the cheaper one.
    Merge {
        image: usize,
        depth: usize,
        direction: Option<Direction>,
        keep: KeepName,
    },
    Transplant {
        image: usize,
        base: usize,
    },
    Write {
        to: usize,
        at: u64,
        byte: u8,
    },
    /// By our own hand: children are told.
    Move {
        image: usize,
        folder: usize,
    },
    /// Behind our back: children must find it again.
    Rename {
        image: usize,
        folder: usize,
    },
    Remove {
        image: usize,
    },
    Renew {
        image: usize,
    },
    /// To so many bytes; with what stands behind that, or only where nothing does.
    Resize {
        image: usize,
        to: u64,
        discard: bool,
    },
    /// A layer of any place, whose disks must not notice.
    Compact {
        image: usize,
        in_order: bool,
        holes: bool,
        same: bool,
    },
}

pub fn steps() -> impl Strategy<Value = Vec<Step>> {
    let any_image = 0..64usize;
    let step = prop_oneof![
        3 => (any_image.clone(), any::<bool>()).prop_map(|(of, absolute)| Step::Derive { of, absolute }),
        4 => (any_image.clone(), 0..SIZE / 4096, 1..=255u8).prop_map(|(to, at, byte)| Step::Write { to, at, byte }),
        2 => (any_image.clone(), 0..SIZE / 4096).prop_map(|(to, at)| Step::Write { to, at, byte: 0 }),
        1 => (any_image.clone(), 1..=SIZE / 4096, any::<bool>()).prop_map(|(of, size, small)| Step::Graft {
            of,
            size: size * 4096,
            block: if small { 1 << 20 } else { 2 << 20 },
        }),
        2 => (any_image.clone(), 0..SIZE / 4096, 1..600u64).prop_map(|(to, at, count)| Step::Zero { to, at, count }),
        3 => (any_image.clone(), 1..4usize, 0..3usize, any::<bool>()).prop_map(|(image, depth, way, parent)| {
            Step::Merge {
                image,
                depth,
                direction: [None, Some(Direction::IntoParent), Some(Direction::IntoChild)][way],
                keep: if parent { KeepName::Parent } else { KeepName::Child },
            }
        }),
        2 => (any_image.clone(), any_image.clone()).prop_map(|(image, base)| Step::Transplant { image, base }),
        3 => (any_image.clone(), 0..3usize).prop_map(|(image, folder)| Step::Move { image, folder }),
        2 => (any_image.clone(), 0..3usize).prop_map(|(image, folder)| Step::Rename { image, folder }),
        1 => any_image.clone().prop_map(|image| Step::Remove { image }),
        1 => any_image.clone().prop_map(|image| Step::Renew { image }),
        3 => (any_image.clone(), any::<[bool; 3]>()).prop_map(|(image, [in_order, holes, same])| {
            Step::Compact { image, in_order, holes, same }
        }),
        2 => (any_image, 1..=3 * SIZE / 8192, any::<bool>()).prop_map(|(image, to, discard)| Step::Resize {
            image,
            to: to * 4096,
            discard,
        }),
    ];
    proptest::collection::vec(step, 1..18)
}

pub struct Member {
    pub path: PathBuf,
    pub parent: Option<usize>,
    pub content: Model,
}

impl Member {
    pub fn size(&self) -> u64 {
        self.content.size.unwrap()
    }
}

/// A family of files in three folders.
pub struct Tribe {
    pub root: tempfile::TempDir,
    pub format: Format,
    pub members: Vec<Option<Member>>,
    names: usize,
}

impl Tribe {
    pub fn new(format: Format) -> Self {
        let root = quick_folder();
        for folder in 0..3 {
            std::fs::create_dir(root.path().join(folder.to_string())).unwrap();
        }
        let mut tribe = Self { root, format, members: Vec::new(), names: 0 };
        let path = tribe.fresh(0);
        make(&path);
        let content = Model { size: Some(SIZE), ..Model::default() };
        tribe.members.push(Some(Member { path, parent: None, content }));
        tribe
    }

    pub fn fresh(&mut self, folder: usize) -> PathBuf {
        self.names += 1;
        self.root.path().join(folder.to_string()).join(format!("image-{}.{}", self.names, self.format))
    }

    pub fn living(&self) -> Vec<usize> {
        (0..self.members.len()).filter(|number| self.members[*number].is_some()).collect()
    }

    pub fn children(&self, of: usize) -> Vec<usize> {
        let is_child = |number: &usize| self.members[*number].as_ref().is_some_and(|member| member.parent == Some(of));
        self.living().into_iter().filter(is_child).collect()
    }

    pub fn path(&self, number: usize) -> PathBuf {
        self.members[number].as_ref().unwrap().path.clone()
    }

    pub fn step(&mut self, step: &Step) {
        let living = self.living();
        let choose = |number: &usize| living[*number % living.len()];
        let root = self.root.path().to_owned();
        match step {
            Step::Derive { of, absolute } if living.len() < 7 => {
                let of = choose(of);
                let path = self.fresh(of % 3);
                derive(&self.path(of), &path, *absolute);
                let content = self.member(of).content.clone();
                self.members.push(Some(Member { path, parent: Some(of), content }));
            }
            Step::Graft { of, size, block } if living.len() < 8 => {
                let of = choose(of);
                let path = self.fresh((of + 1) % 3);
                graft(&self.path(of), &path, *size, *block);
                let mut content = self.member(of).content.clone();
                content.resize(*size);
                self.members.push(Some(Member { path, parent: Some(of), content }));
            }
            Step::Derive { .. } | Step::Graft { .. } => {}
            Step::Write { to, at, byte } => {
                let to = choose(to);
                if self.is_free(to) && (at + 1) * 4096 <= self.member(to).size() {
                    write(&self.path(to), at * 4096, *byte);
                    self.members[to].as_mut().unwrap().content.fill(at * 4096, 4096, *byte);
                }
            }
            Step::Zero { to, at, count } => {
                let to = choose(to);
                let (start, end) = (at * 4096, ((at + count) * 4096).min(self.member(to).size()));
                if self.is_free(to) && start < end {
                    let disk = ChainMut::open(&self.path(to), &OpenOptions::new()).unwrap();
                    disk.zero_at(start, end - start).unwrap();
                    disk.close().unwrap();
                    self.members[to].as_mut().unwrap().content.fill(start, end - start, 0);
                }
            }
            Step::Merge { image, depth, direction, keep } => {
                self.merge(choose(image), *depth, *direction, *keep);
            }
            Step::Transplant { image, base } => {
                let (image, base) = (choose(image), choose(base));
                let plan = Transplant::new(self.path(image), self.path(base)).plan();
                let parent = self.member(image).parent;
                match parent {
                    Some(parent) if parent != base && !self.line(base).contains(&image) => {
                        let outcome = plan.unwrap().run(&Progress::new()).unwrap();
                        assert_eq!(outcome.path, self.path(image));
                        self.members[image].as_mut().unwrap().parent = Some(base);
                    }
                    _ => assert!(matches!(plan.map(|_| ()), Err(Error::Usage(_) | Error::Parent(_)))),
                }
            }
            Step::Move { image, folder } => {
                let image = choose(image);
                let target = self.fresh(*folder);
                move_to(&self.path(image), &target, &root).unwrap();
                self.members[image].as_mut().unwrap().path = target;
            }
            Step::Rename { image, folder } => {
                let image = choose(image);
                let target = self.fresh(*folder);
                std::fs::rename(self.path(image), &target).unwrap();
                self.members[image].as_mut().unwrap().path = target;
                // Its own way to its parent may have changed as well.
                if self.members[image].as_ref().unwrap().parent.is_some() {
                    relink(&self.path(image), &root).unwrap();
                }
                for child in self.children(image) {
                    assert!(relink(&self.path(child), &root).unwrap(), "it cannot have found it under the old name");
                }
            }
            Step::Remove { image } => {
                let image = choose(image);
                let request = Remove::new(self.path(image)).with_search(Search::below(vec![root]));
                let plan = request
                    .with_override(Override::UnknownChildren)
                    .plan()
                    .map(|plan| plan.run(&Progress::new()).unwrap());
                match self.children(image).is_empty() {
                    true if living.len() > 1 => {
                        plan.unwrap();
                        self.members[image] = None;
                    }
                    true => {
                        // The last one went as well: begin anew.
                        plan.unwrap();
                        *self = Self::new(self.format);
                    }
                    false => assert!(matches!(plan, Err(Error::Refused(Refusal::NeededByChildren { .. }, _)))),
                }
            }
            Step::Renew { image } => {
                let image = choose(image);
                if self.is_free(image) {
                    FreshIdentity::new(self.path(image)).plan().unwrap().run(&Progress::new()).unwrap();
                }
            }
            Step::Compact { image, in_order, holes, same } => self.compact(choose(image), *in_order, *holes, *same),
            Step::Resize { image, to, discard } => self.resize(choose(image), *to, *discard),
        }
    }

    pub fn member(&self, number: usize) -> &Member {
        self.members[number].as_ref().unwrap()
    }

    /// Whether nothing grew from it, and it was not frozen for something that did.
    fn is_free(&self, number: usize) -> bool {
        self.children(number).is_empty() && !inspect(&self.path(number), None).unwrap().read_only
    }

    /// An image and all its parents.
    pub fn line(&self, number: usize) -> Vec<usize> {
        std::iter::successors(Some(number), |number| self.member(*number).parent).collect()
    }

    fn compact(&mut self, image: usize, in_order: bool, holes: bool, same: bool) {
        let search = Search::below(vec![self.root.path().to_owned()]);
        let request = Compact::new(self.path(image)).in_order(in_order && !holes).with_holes_only(holes);
        let plan = request.with_same_as_parent(same).with_search(search).plan().map(|_| ());
        if same && !self.children(image).is_empty() {
            return assert!(matches!(plan, Err(Error::Refused(Refusal::NeededByChildren { .. }, _))), "{plan:?}");
        }
        if same && !self.is_free(image) {
            return assert!(matches!(plan, Err(Error::Refused(Refusal::ReadOnly { .. }, _))), "{plan:?}");
        }
        if same && self.member(image).parent.is_none() {
            return assert!(matches!(plan, Err(Error::Usage(_))), "{plan:?}");
        }
        plan.unwrap();
        let request = Compact::new(self.path(image)).in_order(in_order && !holes).with_holes_only(holes);
        let outcome = perform(request.with_same_as_parent(same)).unwrap();
        assert!(outcome.after.file_len <= outcome.before.file_len, "{outcome:?}");
    }

    fn resize(&mut self, image: usize, to: u64, discard: bool) {
        let search = Search::below(vec![self.root.path().to_owned()]);
        let request = Resize::new(self.path(image)).with_size(NewSize::To(to)).with_search(search);
        let plan = with(request, discard.then_some(Override::DiscardData), Resize::with_override).plan();
        if !self.children(image).is_empty() {
            return assert!(matches!(plan.map(|_| ()), Err(Error::Refused(Refusal::NeededByChildren { .. }, _))));
        }
        if !self.is_free(image) {
            return assert!(matches!(plan.map(|_| ()), Err(Error::Refused(Refusal::ReadOnly { .. }, _))));
        }
        let member = self.member(image);
        let below = self.line(image)[1..].iter().map(|layer| self.member(*layer).size()).max();
        let is_cut = member.content.units.range(to / 512..).next().is_some();
        if to == member.size() || to > member.size() && below > Some(member.size()) {
            return assert!(matches!(plan.map(|_| ()), Err(Error::Usage(_))));
        }
        if is_cut && !discard {
            return assert!(matches!(plan.map(|_| ()), Err(Error::Refused(Refusal::WouldDiscard { .. }, _))));
        }
        let outcome = plan.unwrap().run(&Progress::new()).unwrap();
        assert_eq!((outcome.before, outcome.after), (member.size(), to));
        self.members[image].as_mut().unwrap().content.resize(to);
    }

    fn merge(&mut self, image: usize, depth: usize, direction: Option<Direction>, keep: KeepName) {
        let line = self.line(image);
        let layers = &line[..line.len().min(depth + 1)];
        let ancestor = *layers.last().unwrap();
        let is_deep = depth > 1 && layers.len() > 1;
        let request = with(Merge::new(self.path(image)), is_deep.then(|| self.path(ancestor)), Merge::with_ancestor);
        let request = with(request, direction, Merge::with_direction)
            .with_name_of(keep)
            .with_search(Search::below(vec![self.root.path().to_owned()]))
            .with_override(Override::UnknownChildren);
        let plan = request.plan();
        if layers.len() < 2 {
            return assert!(matches!(plan.map(|_| ()), Err(Error::Usage(_))));
        }
        if layers[1..].iter().any(|layer| self.children(*layer).len() > 1) {
            return assert!(matches!(plan.map(|_| ()), Err(Error::Refused(Refusal::NeededByChildren { .. }, _))));
        }
        let sizes_differ = self.member(image).size() != self.member(ancestor).size();
        if sizes_differ && direction == Some(Direction::IntoParent) {
            return assert!(matches!(plan.map(|_| ()), Err(Error::Refused(Refusal::NoWay { .. }, _))));
        }
        let outcome = plan.unwrap().run(&Progress::new()).unwrap();
        assert_eq!(outcome.missing, Vec::<PathBuf>::new());
        let path = if keep == KeepName::Parent { self.path(ancestor) } else { self.path(image) };
        assert_eq!(outcome.path, path);
        let parent = self.member(ancestor).parent;
        for layer in &layers[1..] {
            self.members[*layer] = None;
        }
        let merged = self.members[image].as_mut().unwrap();
        (merged.path, merged.parent) = (path, parent);
        // No file of the others is left, nor a journal.
        let left = self.living().len();
        assert_eq!(all_files(self.root.path()).iter().filter(|path| !path.ends_with(".zsap.json")).count(), left);
    }

    /// Every disk reads as it should, is valid, and knows its children.
    pub fn judge(&self) {
        for number in self.living() {
            let member = self.members[number].as_ref().unwrap();
            member.content.assert_same(&Chain::open(&member.path, &OpenOptions::new()).unwrap());
            let report = check_chain(&member.path, None).unwrap();
            let unexpected = report
                .findings
                .iter()
                .find(|finding| finding.severity() > Severity::Note && !finding.code().starts_with("chain-"));
            assert!(unexpected.is_none(), "{unexpected:?}");
            let recorded =
                inspect(&member.path, None).unwrap().parent.map_or_else(Vec::new, |parent| parent.recorded_paths);
            for absolute in recorded.iter().filter(|path| path.starts_with('\\')) {
                let parent = self.path(member.parent.unwrap());
                assert_eq!(absolute.replace('\\', "/"), parent.to_str().unwrap());
            }
            let search = Search::below(vec![self.root.path().to_owned()]);
            let mut found = children_of(&member.path, &search).unwrap();
            let mut expected: Vec<PathBuf> = self.children(number).into_iter().map(|child| self.path(child)).collect();
            expected.sort();
            found.children.sort();
            assert_eq!((found.children, found.lost), (expected, vec![]));
        }
    }
}

/// The names of all files below a folder.
pub fn all_files(folder: &Path) -> Vec<String> {
    let mut names = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => names.extend(all_files(&path)),
            false => names.push(path.to_str().unwrap().to_owned()),
        }
    }
    names
}

/// A child of any size, with blocks of any size, as other programs make them.
fn graft(parent: &Path, child: &Path, size: u64, block: u64) {
    let chain = Chain::open(parent, &OpenOptions::new()).unwrap();
    let info = chain.info();
    let relative = {
        let (from, to) = (child.parent().unwrap().file_name(), parent.parent().unwrap().file_name().unwrap());
        let name = parent.file_name().unwrap().to_str().unwrap();
        if from == Some(to) { format!(".\\{name}") } else { format!("..\\{}\\{name}", to.to_str().unwrap()) }
    };
    let record = ParentRecord {
        identity: info.data_identity.unwrap(),
        also: None,
        time_stamp: info.time_stamp,
        name: parent.file_name().unwrap().to_str().unwrap().to_owned(),
        relative,
        absolute: None,
    };
    let file = StagedFile::create(child).unwrap();
    match info.format {
        Format::Vhd => {
            let options = vhd::CreateOptions::new(size).with_block_size(if block == 1 << 20 { 1 << 19 } else { block });
            options.with_parent(record).create_in(&*file.storage()).unwrap();
        }
        _ => {
            let reference = ParentReference::from(&record);
            let options = vhdx::CreateOptions::new(size).with_block_size(block).with_sectors(512, 4096);
            options.with_parent(reference).create_in(&*file.storage()).unwrap();
        }
    }
    file.publish().unwrap();
}

/// A folder in memory where the host has such, since nothing here depends on what a disk does.
pub fn quick_folder() -> tempfile::TempDir {
    let memory = Path::new("/dev/shm");
    if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() }.unwrap()
}
