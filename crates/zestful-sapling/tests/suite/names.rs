//! Families of files: moved, renamed, relinked, removed; after every step each disk reads as it should.

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::error::{Error, ParentProblemKind, Refusal};
use zestful_sapling::family::{Override, Search, inspect, status_of};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{CopyChain, Derive, Operation, Planned, Relink, Remove};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::HostRecorder;

use crate::family_model::{Step, Tribe, all_files, derive, make, move_to, relink, steps, write};
use crate::operations::files;
use crate::sidecars::journal_of;
use crate::support::Model;
use crate::support::{abandon, resume};

proptest! {
    #![proptest_config(crate::support::config(96))]

    #[test]
    fn families_read_as_before_wherever_their_files_go(steps in steps(), vhd in any::<bool>()) {
        let mut tribe = Tribe::new(if vhd { Format::Vhd } else { Format::Vhdx });
        for step in &steps {
            tribe.step(step);
            tribe.judge();
        }
    }
}

/// Wherever a move is cut short it is told of, and the same move, or `resume`, carries on; or `abandon` takes it back.
#[test]
fn a_move_that_was_cut_short_is_carried_on_or_taken_back() {
    let mut ends = [0; 3];
    for format in [Format::Vhdx, Format::Vhd] {
        for fail_from in (0..).step_by(3) {
            let mut tribe = Tribe::new(format);
            for (of, absolute) in [(0, false), (1, true), (1, false)] {
                tribe.step(&Step::Write { to: of, at: 0, byte: 1 + of as u8 });
                tribe.step(&Step::Derive { of, absolute });
            }
            let (from, to) = (tribe.path(1), tribe.fresh(2));
            let recorder = HostRecorder::start(tribe.root.path()).unwrap();
            recorder.fail_from(fail_from);
            let moved = move_to(&from, &to, tribe.root.path());
            drop(recorder);
            if moved.is_ok() {
                break;
            }
            let is_begun = [&from, &to].into_iter().any(|path| journal_of(path).exists());
            if is_begun {
                let folder = if journal_of(&from).exists() { &from } else { &to }.parent().unwrap();
                assert_eq!(status_of(folder).unwrap().under_way.len(), 1, "{fail_from}");
                // Nothing else is done with it meanwhile.
                if let Some(name) = [&from, &to].into_iter().find(|path| path.exists() && journal_of(path).exists()) {
                    let derived = Derive::new(name, vec![tribe.fresh(0)]).plan().map(|_| ());
                    assert!(matches!(derived, Err(Error::Refused(Refusal::UnderWay { .. }, _))), "{derived:?}");
                }
            }
            let end = fail_from / 3 % 3;
            let given_up = end == 2 && is_begun && abandon(&from, &[]).or_else(|_| abandon(&to, &[])).is_ok();
            if is_begun && !given_up && (end == 1 || !from.exists()) {
                let name = if journal_of(&from).exists() { &from } else { &to };
                resume(name, &[]).unwrap();
            }
            if from.exists() && !given_up {
                move_to(&from, &to, tribe.root.path()).unwrap();
            }
            ends[if given_up { 2 } else { end.min(1) }] += 1;
            tribe.members[1].as_mut().unwrap().path = if given_up { from } else { to };
            let left = all_files(tribe.root.path()).into_iter().find(|path| path.ends_with(".zsap.journal"));
            assert_eq!(left, None, "{fail_from}");
            tribe.judge();
        }
    }
    assert!(ends.iter().all(|count| *count > 2), "{ends:?}");
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
    let plan = |child: &str, parent: &str| Relink::new(path(child)).with_parent(path(parent)).plan();
    let refused = plan("germination-01.vhdx", "other.vhdx").map(|_| ());
    let Err(Error::Refused(Refusal::IdentityDiffers { parent, expected, found }, _)) = refused else {
        panic!("{refused:?}")
    };
    let identity = |name: &str| inspect(&path(name), None).unwrap().data_identity;
    assert_eq!((parent, found), (path("other.vhdx"), identity("other.vhdx")));
    assert_eq!(expected, [identity("fen-base.vhdx").unwrap()]);
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
    let two =
        Relink::new(path("germination-01.vhdx")).with_search(Search::below(vec![path("copies")])).plan().map(|_| ());
    let Err(Error::Refused(Refusal::Ambiguous { .. }, advice)) = two else { panic!("{two:?}") };
    assert!(advice.message.contains("a.vhdx") && advice.message.contains("b.vhdx"), "{advice}");
    plan("germination-01.vhdx", "copies/b.vhdx").unwrap().run(&Progress::new()).unwrap();
    Chain::open(&path("after.vhdx"), &OpenOptions::new()).unwrap();
    // Taken all the same: the child shows the other disk's content.
    write(&path("other.vhdx"), 0, 7);
    let forced = Relink::new(path("germination-01.vhdx")).with_parent(path("other.vhdx"));
    let plan = forced.with_override(Override::Identity).plan().unwrap();
    assert!(plan.summary().warnings.iter().any(|said| said.contains("is not the parent")));
    plan.run(&Progress::new()).unwrap();
    let mut model = Model::default();
    model.fill(0, 4096, 7);
    drop(plan);
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
    assert!(matches!(taken, Err(Error::Refused(Refusal::Exists { .. }, _))));
    // A name is not another name, however it is spelled; and a link is not the image.
    for spelled in ["now.vhd", "two/../now.vhd", "./now.vhd"] {
        let same = move_to(&path("now.vhd"), &path(spelled), folder.path());
        assert!(matches!(same, Err(Error::Refused(Refusal::Exists { .. }, _))), "{spelled}: {same:?}");
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
    assert!(matches!(frozen, Err(Error::Refused(Refusal::NeededByChildren { .. }, _))), "{frozen:?}");
    remove().with_override(Override::UnknownChildren).plan().unwrap().run(&Progress::new()).unwrap();
    assert_eq!(files(folder.path()), ["two"]);
}
