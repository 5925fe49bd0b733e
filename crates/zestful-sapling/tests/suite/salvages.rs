//! What can be read of a damaged disk is saved, and what is missing is told.

use std::path::{Path, PathBuf};

use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::error::{Error, ParentProblemKind};
use zestful_sapling::image::Format;
use zestful_sapling::repair::{Salvage, SalvageOutcome};
use zestful_sapling::storage::testing::{Fault, HostRecorder};

use crate::damage::{reseal, reseal_vhd};
use crate::family_model::{derive, make, quick_folder, write};
use crate::findings::{VHD, VHDX};
use crate::repairs::{Content, store};
use crate::support::{Model, perform};

fn chain(path: &Path) -> Chain {
    Chain::open(path, &OpenOptions::new()).unwrap()
}

/// Every image that a rule spoils, as far as it stands alone: what is not told to be missing is what was there.
#[test]
fn what_is_not_missing_is_what_was_there() {
    let folder = quick_folder();
    let (mut saved, mut lost) = (0, 0);
    let alone = ["vhdx-block-partial", "vhdx-bitmap-unneeded", "vhd-cut", "vhd-unwritten-data"];
    for (rows, format) in [(VHDX, Format::Vhdx), (VHD, Format::Vhd)] {
        for (code, image, spoil) in rows.iter().filter(|row| alone.contains(&row.0)) {
            let storage = image();
            spoil(&storage);
            match format {
                Format::Vhdx => reseal(&storage),
                _ => reseal_vhd(&storage),
            }
            let (source, target) =
                (folder.path().join(format!("{code}.{format}")), folder.path().join(format!("{code}.raw")));
            store(&storage, &source);
            let outcome = perform(Salvage::new(&source, &target).with_source_format(format)).unwrap();
            let whole = Content::of(std::sync::Arc::new(image()), format).unwrap();
            let new =
                zestful_sapling::storage::FileStorage::open(&target, zestful_sapling::storage::Access::Read).unwrap();
            let found = Content::of(std::sync::Arc::new(new), Format::Raw).unwrap();
            let missing = |content: Content| content.without(&outcome.content.lost).without(&outcome.content.doubtful);
            let (is, was) = (missing(found), missing(whole));
            assert!(is.sectors() == was.sectors() || is.size() != was.size(), "{code}");
            assert_eq!(outcome.list.is_some(), !outcome.content.is_empty(), "{code}");
            saved += 1;
            lost += usize::from(!outcome.content.is_empty());
        }
    }
    assert!(saved >= 4 && lost >= 2, "{saved} {lost}");
}

/// Base, middle and child, each with writes of its own.
struct Scene {
    folder: tempfile::TempDir,
    whole: Model,
    above: Model,
}

impl Scene {
    fn new(format: Format) -> Self {
        let folder = quick_folder();
        let mut scene = Self { folder, whole: Model::default(), above: Model::default() };
        make(&scene.path("fen-base", format));
        for (name, parent, units) in [
            ("fen-base", None, &[(0u64, 1u8), (1, 1), (300, 1), (900, 1)][..]),
            ("germination-01", Some("fen-base"), &[(1, 2), (301, 2)]),
            ("germination-01-now", Some("germination-01"), &[(5, 3), (300, 3), (1000, 3)]),
        ] {
            if let Some(parent) = parent {
                derive(&scene.path(parent, format), &scene.path(name, format), false);
            }
            for (at, byte) in units {
                write(&scene.path(name, format), at * 4096, *byte);
                scene.whole.fill(at * 4096, 4096, *byte);
                if name.ends_with("now") {
                    scene.above.fill(at * 4096, 4096, *byte);
                }
            }
        }
        scene
    }

    fn path(&self, name: &str, format: Format) -> PathBuf {
        self.folder.path().join(format!("{name}.{format}"))
    }
}

/// The saved disk holds what the model holds, where nothing is said to be missing.
fn assert_saved(outcome: &SalvageOutcome, model: &Model) {
    let disk = chain(&outcome.path);
    let (mut buffer, mut sure) = ([0; 512], 0);
    for unit in 0..disk.virtual_size() / 512 {
        let range = unit * 512..(unit + 1) * 512;
        let is_missing = outcome.content.lost.within(range.clone()).next().is_some()
            || outcome.content.doubtful.within(range).next().is_some();
        disk.read_at(&mut buffer, unit * 512).unwrap();
        if !is_missing {
            assert_eq!(buffer, [model.at(unit); 512], "unit {unit}");
            sure += 1;
        }
    }
    assert!(sure > 0);
}

#[test]
fn a_broken_chain_is_gone_past() {
    for format in [Format::Vhdx, Format::Vhd] {
        let scene = Scene::new(format);
        let (base, middle, now) =
            ["fen-base", "germination-01", "germination-01-now"].map(|name| scene.path(name, format)).into();
        let target = |name: &str| scene.path(name, Format::Vhdx);
        // Whole: nothing is missing.
        let outcome = perform(Salvage::new(&now, target("whole"))).unwrap();
        assert!(outcome.content.is_empty() && outcome.list.is_none());
        scene.whole.assert_same(&chain(&outcome.path));
        // A header of the middle layer is torn: mended in memory, the file stays as it is.
        let before = std::fs::read(&middle).unwrap();
        let spoiled_at = if format == Format::Vhdx { 64 << 10 } else { 0 };
        let mut spoiled = before.clone();
        spoiled[spoiled_at] ^= 0xFF;
        let mode = std::fs::metadata(&middle).unwrap().permissions();
        std::fs::remove_file(&middle).unwrap();
        std::fs::write(&middle, &spoiled).unwrap();
        std::fs::set_permissions(&middle, mode).unwrap();
        let outcome = perform(Salvage::new(&now, target("torn"))).unwrap();
        assert!(outcome.content.is_empty() && !outcome.layers[1].steps.is_empty());
        scene.whole.assert_same(&chain(&outcome.path));
        assert!(std::fs::read(&middle).unwrap() == spoiled, "the source was written to");
        // The middle layer is gone: refused, until it is named.
        std::fs::remove_file(&middle).unwrap();
        match perform(Salvage::new(&now, target("gone"))) {
            Err(Error::Parent(problem)) => assert!(matches!(problem.kind, ParentProblemKind::Missing { .. })),
            other => panic!("{other:?}"),
        }
        let nothing = Salvage::new(&now, target("gone")).without(scene.path("moor", format));
        assert!(matches!(perform(nothing), Err(Error::Parent(_))));
        let outcome = perform(Salvage::new(&now, target("gone")).without(&middle)).unwrap();
        assert_eq!((outcome.skipped.len(), outcome.content.lost.is_empty()), (1, true));
        assert_saved(&outcome, &scene.above);
        // All that the child does not hold is in doubt, though the base has something there.
        let below = Salvage::new(&now, target("below")).without(&middle).with_below(&base);
        let with_base = perform(below).unwrap();
        assert_eq!(with_base.content, outcome.content);
        assert_saved(&with_base, &scene.above);
        let mut first = [0; 512];
        chain(&with_base.path).read_at(&mut first, 0).unwrap();
        assert_eq!(first, [1; 512]);
        // The layer is found again: what was missing is taken up, and nothing else is read.
        std::fs::write(&middle, &before).unwrap();
        let again = perform(Salvage::new(&now, target("gone"))).unwrap();
        assert!(again.taken_up && again.content.is_empty() && again.list.is_none());
        scene.whole.assert_same(&chain(&again.path));
        // Once somebody wrote to the new image, it is his.
        std::fs::remove_file(&middle).unwrap();
        let outcome = perform(Salvage::new(&now, target("mine")).without(&middle)).unwrap();
        write(&outcome.path, 0, 9);
        std::fs::write(&middle, &before).unwrap();
        assert!(matches!(perform(Salvage::new(&now, target("mine"))), Err(Error::Refused(..))));
        // A layer that is none of the chain's is a mistake.
        let wrong = Salvage::new(&now, target("wrong")).without(&now);
        assert!(matches!(perform(wrong), Err(Error::Usage(_))));
        assert!(!target("wrong").exists());
    }
}

/// A host that fills up or fails at any change of a salvage, and of the taking up of what was missing: the source stays
/// as it is, nothing wrong is left under the new name, and the same command does it in the end.
#[test]
fn every_change_may_fail() {
    let scene = Scene::new(Format::Vhdx);
    let (middle, now) = (scene.path("germination-01", Format::Vhdx), scene.path("germination-01-now", Format::Vhdx));
    let (saved, list) = (scene.path("saved", Format::Vhdx), scene.folder.path().join("saved.vhdx.zsap.salvage.json"));
    let away = scene.folder.path().join("away");
    let mut failures = 0;
    for fault in [Fault::Error(28), Fault::Error(5)] {
        for takes_up in [false, true] {
            for number in 0.. {
                _ = std::fs::remove_file(&saved);
                _ = std::fs::remove_file(&list);
                std::fs::rename(&middle, &away).unwrap();
                let past = || perform(Salvage::new(&now, &saved).without(&middle)).map(|_| ());
                let all = || perform(Salvage::new(&now, &saved)).map(|_| ());
                if takes_up {
                    past().unwrap();
                    std::fs::rename(&away, &middle).unwrap();
                }
                let before = std::fs::read(&now).unwrap();
                let recorder = HostRecorder::start(scene.folder.path()).unwrap();
                recorder.fail_once(number, fault);
                let ended = if takes_up { all() } else { past() };
                let asked = recorder.asked();
                drop(recorder);
                let when = format!("takes up: {takes_up}, change {number}, {fault:?}: {ended:?}");
                assert!(matches!(ended, Ok(()) | Err(Error::Io { .. } | Error::Refused(..))), "{when}");
                assert!(std::fs::read(&now).unwrap() == before, "{when}");
                if saved.exists() {
                    // That something is missing is never not told.
                    if !list.exists() {
                        scene.whole.assert_same(&chain(&saved));
                    }
                }
                if !takes_up {
                    std::fs::rename(&away, &middle).unwrap();
                }
                // Whole, and without a list: nothing is left to be done, only that could not be made durable.
                let is_whole = saved.exists() && !list.exists();
                if ended.is_err() && !is_whole {
                    all().unwrap_or_else(|error| panic!("{when}: {error}"));
                    scene.whole.assert_same(&chain(&saved));
                    failures += 1;
                }
                if ended.is_ok() && asked <= number {
                    break;
                }
            }
        }
    }
    assert!(failures > 20, "{failures}");
}
