//! Families of files: moved, renamed, relinked, removed; after every step each disk reads as it should.

use std::path::{Path, PathBuf};

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, ChainMut, OpenOptions};
use zestful_sapling::check::check_chain;
use zestful_sapling::error::{Error, ParentProblemKind, Refusal};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{
    CopyChain, Derive, FreshIdentity, Make, MoveImage, Override, Relink, Remove, Search, children_of, inspect,
};
use zestful_sapling::progress::Progress;

use crate::operations::files;
use crate::world::Model;

const SIZE: u64 = 8 << 20;

fn make(path: &Path) {
    Make::new(path, SIZE).plan().unwrap().run(&Progress::new()).unwrap();
}

fn derive(base: &Path, child: &Path, absolute: bool) {
    let plan = Derive::new(base, vec![child.to_owned()]).with_absolute(absolute).plan().unwrap();
    plan.run(&Progress::new()).unwrap();
}

fn write(path: &Path, at: u64, byte: u8) {
    let mut disk = ChainMut::open(path, &OpenOptions::new()).unwrap();
    disk.write_at(&[byte; 4096], at).unwrap();
    disk.close().unwrap();
}

fn move_to(from: &Path, to: &Path, root: &Path) -> zestful_sapling::Result<()> {
    let search = Search::below(vec![root.to_owned()]);
    MoveImage::new(from, to).with_search(search).plan()?.run().map(|_| ())
}

fn relink(child: &Path, root: &Path) -> zestful_sapling::Result<bool> {
    let search = Search::below(vec![root.to_owned()]);
    Relink::new(child).with_search(search).plan()?.run().map(|outcome| outcome.changed)
}

/// One thing that happens to a family. Images are chosen among those that there are.
#[derive(Clone, Debug)]
enum Step {
    Derive {
        of: usize,
        absolute: bool,
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
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let any_image = 0..64usize;
    let step = prop_oneof![
        3 => (any_image.clone(), any::<bool>()).prop_map(|(of, absolute)| Step::Derive { of, absolute }),
        4 => (any_image.clone(), 0..SIZE / 4096, 1..=255u8).prop_map(|(to, at, byte)| Step::Write { to, at, byte }),
        3 => (any_image.clone(), 0..3usize).prop_map(|(image, folder)| Step::Move { image, folder }),
        2 => (any_image.clone(), 0..3usize).prop_map(|(image, folder)| Step::Rename { image, folder }),
        1 => any_image.clone().prop_map(|image| Step::Remove { image }),
        1 => any_image.prop_map(|image| Step::Renew { image }),
    ];
    proptest::collection::vec(step, 1..14)
}

struct Member {
    path: PathBuf,
    parent: Option<usize>,
    content: Model,
}

/// A family of files in three folders.
struct Tribe {
    root: tempfile::TempDir,
    format: Format,
    members: Vec<Option<Member>>,
    names: usize,
}

impl Tribe {
    fn new(format: Format) -> Self {
        let root = tempfile::tempdir().unwrap();
        for folder in 0..3 {
            std::fs::create_dir(root.path().join(folder.to_string())).unwrap();
        }
        let mut tribe = Self { root, format, members: Vec::new(), names: 0 };
        let path = tribe.fresh(0);
        make(&path);
        tribe.members.push(Some(Member { path, parent: None, content: Model::default() }));
        tribe
    }

    fn fresh(&mut self, folder: usize) -> PathBuf {
        self.names += 1;
        self.root.path().join(folder.to_string()).join(format!("image-{}.{}", self.names, self.format))
    }

    fn living(&self) -> Vec<usize> {
        (0..self.members.len()).filter(|number| self.members[*number].is_some()).collect()
    }

    fn children(&self, of: usize) -> Vec<usize> {
        let is_child = |number: &usize| self.members[*number].as_ref().is_some_and(|member| member.parent == Some(of));
        self.living().into_iter().filter(is_child).collect()
    }

    fn path(&self, number: usize) -> PathBuf {
        self.members[number].as_ref().unwrap().path.clone()
    }

    fn step(&mut self, step: &Step) {
        let living = self.living();
        let choose = |number: &usize| living[*number % living.len()];
        let root = self.root.path().to_owned();
        match step {
            Step::Derive { of, absolute } if living.len() < 7 => {
                let of = choose(of);
                let path = self.fresh(of % 3);
                derive(&self.path(of), &path, *absolute);
                let content = self.members[of].as_ref().unwrap().content.clone();
                self.members.push(Some(Member { path, parent: Some(of), content }));
            }
            Step::Derive { .. } => {}
            Step::Write { to, at, byte } => {
                let to = choose(to);
                if self.children(to).is_empty() && !inspect(&self.path(to), None).unwrap().read_only {
                    write(&self.path(to), at * 4096, *byte);
                    self.members[to].as_mut().unwrap().content.fill(at * 4096, 4096, *byte);
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
                let plan = request.with_override(Override::UnknownChildren).plan().map(|plan| plan.run().unwrap());
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
                    false => assert!(matches!(plan, Err(Error::Refused(Refusal::NeededByChildren, _)))),
                }
            }
            Step::Renew { image } => {
                let image = choose(image);
                let frozen = inspect(&self.path(image), None).unwrap().read_only;
                if self.children(image).is_empty() && !frozen {
                    FreshIdentity::new(self.path(image)).plan().unwrap().run().unwrap();
                }
            }
        }
    }

    /// Every disk reads as it should, is valid, and knows its children.
    fn judge(&self) {
        for number in self.living() {
            let member = self.members[number].as_ref().unwrap();
            member.content.assert_same(&Chain::open(&member.path, &OpenOptions::new()).unwrap());
            let report = check_chain(&member.path, None, &Progress::new()).unwrap();
            assert!(report.findings.is_empty(), "{:?}", report.findings);
            let search = Search::below(vec![self.root.path().to_owned()]);
            let mut found = children_of(&member.path, &search).unwrap();
            let mut expected: Vec<PathBuf> = self.children(number).into_iter().map(|child| self.path(child)).collect();
            expected.sort();
            found.children.sort();
            assert_eq!((found.children, found.lost), (expected, vec![]));
        }
    }
}

proptest! {
    #![proptest_config(crate::world::config(24))]

    #[test]
    fn families_read_as_before_wherever_their_files_go(steps in steps(), vhd in any::<bool>()) {
        let mut tribe = Tribe::new(if vhd { Format::Vhd } else { Format::Vhdx });
        for step in &steps {
            tribe.step(step);
            tribe.judge();
        }
    }
}

/// Wherever a move is cut short, the same move carries on.
#[test]
fn a_move_that_was_cut_short_is_carried_on() {
    for format in [Format::Vhdx, Format::Vhd] {
        // How much of it was done: a second name; the own way put right; one child told; all told.
        for done in 0..4 {
            let mut tribe = Tribe::new(format);
            write(&tribe.path(0), 0, 1);
            tribe.members[0].as_mut().unwrap().content.fill(0, 4096, 1);
            for of in [0, 1, 1] {
                tribe.step(&Step::Derive { of, absolute: false });
            }
            let (from, to) = (tribe.path(1), tribe.fresh(2));
            std::fs::hard_link(&from, &to).unwrap();
            if done > 0 {
                // Recorded from the new folder, with the absolute way for the old one.
                let parent = Some(tribe.path(0));
                Relink::new(&to).with_parent(parent).plan().unwrap().run().unwrap();
            }
            for child in 2..2 + (done.max(1) - 1) {
                let by_hand = Relink::new(tribe.path(child)).with_parent(Some(to.clone()));
                by_hand.plan().unwrap().run().unwrap();
            }
            move_to(&from, &to, tribe.root.path()).unwrap();
            assert!(!from.exists());
            tribe.members[1].as_mut().unwrap().path = to;
            tribe.judge();
        }
    }
}

/// A move that stops between two children: those that were told and those that were not all read as before, though the
/// image's own way to its parent is another one from its new folder.
#[test]
fn half_way_through_a_move_every_child_reads() {
    for format in [Format::Vhdx, Format::Vhd] {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(format!("{name}.{format}"));
        std::fs::create_dir_all(folder.path().join("a/far/away")).unwrap();
        make(&path("base"));
        write(&path("base"), 0, 1);
        derive(&path("base"), &path("layer"), false);
        for child in ["one", "three", "two"] {
            derive(&path("layer"), &path(child), false);
        }
        let plan = MoveImage::new(path("layer"), path("a/far/away/layer")).plan().unwrap();
        // The second child that is to be told vanishes.
        std::fs::rename(path("three"), folder.path().join("gone")).unwrap();
        assert!(matches!(plan.run(), Err(Error::Io { .. })));
        drop(plan);
        std::fs::rename(folder.path().join("gone"), path("three")).unwrap();
        let mut model = Model::default();
        model.fill(0, 4096, 1);
        let told = |child: &str| inspect(&path(child), None).unwrap().parent.unwrap().recorded_paths[0].contains("far");
        assert_eq!(["one", "three", "two"].map(told), [true, false, false]);
        for image in ["one", "two", "three", "layer", "a/far/away/layer"] {
            model.assert_same(&Chain::open(&path(image), &OpenOptions::new()).unwrap());
        }
        move_to(&path("layer"), &path("a/far/away/layer"), folder.path()).unwrap();
        for image in ["one", "two", "three", "a/far/away/layer"] {
            model.assert_same(&Chain::open(&path(image), &OpenOptions::new()).unwrap());
        }
        assert!(!path("layer").exists());
    }
}

#[test]
fn what_cannot_be_the_parent_is_refused_with_the_reason() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    for name in ["fen-base.vhdx", "other.vhdx", "old.vhd"] {
        make(&path(name));
    }
    derive(&path("fen-base.vhdx"), &path("germination-01.vhdx"), false);
    derive(&path("germination-01.vhdx"), &path("after.vhdx"), false);
    let plan = |child: &str, parent: &str| Relink::new(path(child)).with_parent(Some(path(parent))).plan();
    let refused = plan("germination-01.vhdx", "other.vhdx");
    let Err(Error::Refused(Refusal::IdentityDiffers, advice)) = refused else { panic!("{refused:?}") };
    let text = advice.to_string();
    let expected = inspect(&path("fen-base.vhdx"), None).unwrap().data_identity.unwrap().to_string();
    assert!(text.contains(&expected) && text.contains("--force=identity"), "{text}");
    assert!(matches!(plan("germination-01.vhdx", "old.vhd"), Err(Error::Usage(_))));
    assert!(matches!(plan("fen-base.vhdx", "other.vhdx"), Err(Error::Usage(_))));
    for again in ["germination-01.vhdx", "after.vhdx"] {
        let Err(Error::Parent(problem)) = plan("germination-01.vhdx", again) else { panic!("{again}") };
        assert!(matches!(problem.kind, ParentProblemKind::Cycle { .. }));
    }
    // Two copies of one identity: which is meant?
    std::fs::create_dir(path("copies")).unwrap();
    for copy in ["copies/a.vhdx", "copies/b.vhdx"] {
        std::fs::copy(path("fen-base.vhdx"), path(copy)).unwrap();
    }
    std::fs::remove_file(path("fen-base.vhdx")).unwrap();
    let Err(Error::Parent(problem)) = Relink::new(path("germination-01.vhdx")).plan() else { panic!() };
    assert!(matches!(problem.kind, ParentProblemKind::Missing { .. }));
    let two = Relink::new(path("germination-01.vhdx")).with_search(Search::below(vec![path("copies")])).plan();
    let Err(Error::Refused(Refusal::Ambiguous, advice)) = two else { panic!("{two:?}") };
    assert!(advice.message.contains("a.vhdx") && advice.message.contains("b.vhdx"), "{advice}");
    plan("germination-01.vhdx", "copies/b.vhdx").unwrap().run().unwrap();
    Chain::open(&path("after.vhdx"), &OpenOptions::new()).unwrap();
    // Taken all the same: the child shows the other disk's content.
    write(&path("other.vhdx"), 0, 7);
    let forced = Relink::new(path("germination-01.vhdx")).with_parent(Some(path("other.vhdx")));
    let plan = forced.with_override(Override::Identity).plan().unwrap();
    assert!(plan.summary().warnings[0].contains("is not the parent"));
    plan.run().unwrap();
    let mut model = Model::default();
    model.fill(0, 4096, 7);
    model.assert_same(&Chain::open(&path("after.vhdx"), &OpenOptions::new()).unwrap());
}

#[test]
fn a_folder_that_moves_as_a_whole_needs_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    make(&path("fen-base.vhd"));
    derive(&path("fen-base.vhd"), &path("now.vhd"), false);
    CopyChain::new(path("now.vhd"), path("one")).plan().unwrap().run(&Progress::new()).unwrap();
    std::fs::rename(path("one"), path("two")).unwrap();
    assert!(!relink(&path("two/now.vhd"), folder.path()).unwrap());
    let elsewhere = path("two/elsewhere");
    std::fs::create_dir(&elsewhere).unwrap();
    assert!(matches!(move_to(&path("missing.vhd"), &elsewhere, folder.path()), Err(Error::Io { .. })));
    assert!(matches!(move_to(&path("now.vhd"), &path("now.vhdx"), folder.path()), Err(Error::Usage(_))));
    let taken = move_to(&path("now.vhd"), &path("fen-base.vhd"), folder.path());
    assert!(matches!(taken, Err(Error::Refused(Refusal::Exists, _))));
    // A name is not another name, however it is spelled; and a link is not the image.
    for spelled in ["now.vhd", "two/../now.vhd", "./now.vhd"] {
        let same = move_to(&path("now.vhd"), &path(spelled), folder.path());
        assert!(matches!(same, Err(Error::Refused(Refusal::Exists, _))), "{spelled}: {same:?}");
    }
    std::os::unix::fs::symlink("now.vhd", path("link.vhd")).unwrap();
    assert!(matches!(move_to(&path("link.vhd"), &path("other.vhd"), folder.path()), Err(Error::Usage(_))));
    assert!(matches!(move_to(&path("now.vhd"), &path("link.vhd"), folder.path()), Err(Error::Refused(..))));
    assert!(matches!(Remove::new(path("link.vhd")).plan().map(|_| ()), Err(Error::Usage(_))));
    std::fs::remove_file(path("link.vhd")).unwrap();
    Chain::open(&path("now.vhd"), &OpenOptions::new()).unwrap();
    // Frozen for children that are not to be found: removed only when that is said.
    std::fs::remove_file(path("now.vhd")).unwrap();
    let remove = || Remove::new(path("fen-base.vhd"));
    let frozen = remove().plan().map(|_| ());
    assert!(matches!(frozen, Err(Error::Refused(Refusal::NeededByChildren, _))), "{frozen:?}");
    remove().with_override(Override::UnknownChildren).plan().unwrap().run().unwrap();
    assert_eq!(files(folder.path()), ["two"]);
}
