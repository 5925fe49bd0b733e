//! Families of files: moved, renamed, relinked, removed; after every step each disk reads as it should.

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::error::{Error, ParentProblemKind, Refusal};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{CopyChain, MoveImage, Override, Relink, Remove, Search, inspect};
use zestful_sapling::progress::Progress;

use crate::operations::files;
use crate::tribe::{Step, Tribe, derive, make, move_to, relink, steps, write};
use crate::world::Model;

proptest! {
    #![proptest_config(crate::world::config(96))]

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
