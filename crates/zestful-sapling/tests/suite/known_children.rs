//! What is known of an image's children survives renames by hand, damage, other names and many commands at once.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Barrier;

use zestful_sapling::chain::{Chain, ChainMut, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Health, Override, Search, children_of, inspect, status_of};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{
    Derive, FreshIdentity, Merge, Operation, PinImage, Planned, Relink, Remove, Unfreeze, WriteBytes,
};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::{Access, FileStorage, ReadAt, Storage};

use crate::family_model::{derive, make, quick_folder, write};
use crate::sidecars::{companion, companion_of, recorded_children};
use crate::support::Model;
use crate::support::{unpin, verify_pin};

struct Scene {
    folder: tempfile::TempDir,
    format: Format,
}

impl Scene {
    /// A base with one child beside it and two in another folder.
    fn new(format: Format) -> Self {
        let scene = Self { folder: quick_folder(), format };
        std::fs::create_dir(scene.folder.path().join("far")).unwrap();
        make(&scene.path("base"));
        write(&scene.path("base"), 0, 1);
        for child in ["near", "far/one", "far/two"] {
            derive(&scene.path("base"), &scene.path(child), false);
        }
        scene
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().canonicalize().unwrap().join(format!("{name}.{}", self.format))
    }

    fn reads(&self, names: &[&str]) {
        let mut model = Model::default();
        model.fill(0, 4096, 1);
        for name in names {
            let chain = Chain::open(&self.path(name), &OpenOptions::new());
            model.assert_same(&chain.unwrap_or_else(|error| panic!("{name}: {error}")));
        }
    }

    /// Everything that would change the image is refused, because others need it or may need it.
    fn is_needed(&self, image: &Path, overrides: &[Override]) {
        let search = Search::default;
        let mut remove = Remove::new(image).with_search(search());
        let mut renew = FreshIdentity::new(image).with_search(search());
        let mut write = WriteBytes::new(image, 0, 1, std::io::empty()).with_search(search());
        for allowed in overrides {
            remove = remove.with_override(*allowed);
            renew = renew.with_override(*allowed);
            write = write.with_override(*allowed);
        }
        let refused = [
            remove.plan().map(|_| ()),
            renew.plan().map(|_| ()),
            write.plan().map(|_| ()),
            Unfreeze::new(image).plan().map(|_| ()),
            ChainMut::open(image, &OpenOptions::new()).map(|_| ()),
        ];
        for (number, ended) in refused.into_iter().enumerate() {
            let is_refused = matches!(ended, Err(Error::Refused(Refusal::NeededByChildren { .. }, _)));
            // Only what is frozen is freed.
            assert!(is_refused || number == 3 && matches!(ended, Err(Error::Usage(_))), "{number}: {ended:?}");
        }
    }
}

fn merge(child: &Path, search: Search) -> zestful_sapling::Result<()> {
    Merge::new(child).with_search(search).plan()?.run(&Progress::new()).map(|_| ())
}

#[test]
fn a_base_that_was_renamed_by_hand_is_connected_with_what_it_left_behind() {
    for format in [Format::Vhdx, Format::Vhd] {
        for other_folder in [false, true] {
            let scene = Scene::new(format);
            let renamed = scene.path(if other_folder { "far/renamed" } else { "renamed" });
            std::fs::rename(scene.path("base"), &renamed).unwrap();
            // Where it stands alone it is told; beside its image it is that image's.
            let status = status_of(scene.folder.path()).unwrap();
            let tells = status.problems.iter().any(|problem| problem.message.contains("is the companion of an image"));
            assert_eq!(tells, other_folder, "{:?}", status.problems);
            if !other_folder {
                let unknown = children_of(&renamed, &Search::default()).unwrap();
                assert_eq!((unknown.lost.len(), unknown.unknown.len()), (3, 0), "{unknown:?}");
            }
            let near = scene.path("near");
            let search = Search::below(vec![scene.folder.path().to_owned()]);
            assert!(Relink::new(&near).with_search(search).plan().unwrap().run(&Progress::new()).unwrap().changed);
            assert!(!companion_of(&scene.path("base")).exists(), "it was taken over");
            // Whoever relinked one child still knows of the others.
            let known = children_of(&renamed, &Search::default()).unwrap();
            assert_eq!(known.all().count(), 3, "{known:?}");
            let merged = merge(&near, Search::default());
            assert!(matches!(merged, Err(Error::Refused(Refusal::NeededByChildren { .. }, _))), "{merged:?}");
            scene.is_needed(&renamed, &[Override::UnknownChildren]);
            for child in ["far/one", "far/two"] {
                let search = Search::below(vec![scene.folder.path().to_owned()]);
                Relink::new(scene.path(child)).with_search(search).plan().unwrap().run(&Progress::new()).unwrap();
            }
            scene.reads(&["near", "far/one", "far/two"]);
            // A pin goes along as well.
            PinImage::new(&renamed).plan().unwrap().run(&Progress::new()).unwrap();
            std::fs::rename(&renamed, scene.path("far/again")).unwrap();
            if other_folder {
                assert!(inspect(&scene.path("far/again"), None).unwrap().pinned);
                let written = ChainMut::open(&scene.path("far/again"), &OpenOptions::new()).map(|_| ());
                assert!(matches!(written, Err(Error::Refused(Refusal::Pinned { .. }, _))), "{written:?}");
            }
        }
    }
}

/// A known child that cannot be read, or is not there, counts: it may need the image still.
#[test]
fn a_known_child_that_cannot_be_told_counts_as_one() {
    let spoil = |scene: &Scene, how: &str| {
        let child = scene.path("far/one");
        match how {
            "gone" => std::fs::remove_file(&child).unwrap(),
            "no image" => std::fs::write(&child, "something else").unwrap(),
            _ => {
                let file = FileStorage::open(&child, Access::Write).unwrap();
                let len = file.len().unwrap();
                for at in [0, 64 << 10, 128 << 10, len - 512] {
                    // The signature stays.
                    file.write_at(&[0; 400], at + 16).unwrap();
                }
            }
        }
    };
    for format in [Format::Vhdx, Format::Vhd] {
        for how in ["gone", "no image", "headers"] {
            let scene = Scene::new(format);
            for other in ["near", "far/two"] {
                Remove::new(scene.path(other)).plan().unwrap().run(&Progress::new()).unwrap();
            }
            spoil(&scene, how);
            let found = children_of(&scene.path("base"), &Search::default()).unwrap();
            let place = scene.path("far/one");
            let unknown: Vec<_> = found.unknown.iter().map(|unknown| &unknown.path).collect();
            assert_eq!(unknown, [&place], "{how}: {found:?}");
            scene.is_needed(&scene.path("base"), &[]);
            // A sibling is not merged into the base either.
            derive(&scene.path("base"), &scene.path("again"), false);
            let merged = merge(&scene.path("again"), Search::default());
            assert!(matches!(merged, Err(Error::Refused(Refusal::NeededByChildren { .. }, _))), "{how}: {merged:?}");
            let forced = Merge::new(scene.path("again")).with_override(Override::UnknownChildren).plan().unwrap();
            assert!(forced.summary().warnings.iter().any(|said| said.contains("may be needed by")));
        }
    }
}

/// The signature tells an image, not its name.
#[test]
fn children_are_found_whatever_they_are_called() {
    for format in [Format::Vhdx, Format::Vhd] {
        for name in ["child.bak", "child", "child.leaf", "child.raw"] {
            let scene = Scene::new(format);
            for other in ["near", "far/two"] {
                Remove::new(scene.path(other)).plan().unwrap().run(&Progress::new()).unwrap();
            }
            let renamed = scene.folder.path().canonicalize().unwrap().join(name);
            std::fs::rename(scene.path("far/one"), &renamed).unwrap();
            // As another program would have made it: no companion, no mark.
            std::fs::remove_file(companion_of(&scene.path("base"))).unwrap();
            std::fs::set_permissions(scene.path("base"), PermissionsExt::from_mode(0o644)).unwrap();
            let found = children_of(&scene.path("base"), &Search::default()).unwrap();
            assert_eq!(found.all().collect::<Vec<_>>(), [&renamed], "{name}: {found:?}");
            scene.is_needed(&scene.path("base"), &[Override::UnknownChildren]);
        }
    }
}

/// Many commands change one companion at once, and nothing of what they say is lost.
#[test]
fn changes_of_one_companion_take_turns() {
    let scene = Scene::new(Format::Vhdx);
    let base = scene.path("base");
    for round in 0..6 {
        let names: Vec<PathBuf> = (0..6).map(|number| scene.path(&format!("r{round}-{number}"))).collect();
        let gate = Barrier::new(names.len() + 1);
        std::thread::scope(|scope| {
            for name in &names {
                let plan = Derive::new(&base, vec![name.clone()]).plan().unwrap();
                let gate = &gate;
                scope.spawn(move || {
                    gate.wait();
                    plan.run(&Progress::new()).unwrap();
                });
            }
            let plan = PinImage::new(&base).plan().unwrap();
            gate.wait();
            plan.run(&Progress::new()).unwrap();
        });
        assert!(companion(&base)["pin"].is_object(), "the pin was lost");
        let known = recorded_children(&base);
        assert!(names.iter().all(|name| known.contains(name)), "{known:?}");
        unpin(&base, &Search::default()).unwrap();
    }
}

/// A former current disk is free again once nothing needs it, and not before.
#[test]
fn what_was_frozen_is_freed_when_nothing_needs_it() {
    for format in [Format::Vhdx, Format::Vhd] {
        let scene = Scene::new(format);
        let base = scene.path("base");
        for child in ["near", "far/one", "far/two"] {
            scene.is_needed(&base, &[Override::UnknownChildren]);
            let removed = Remove::new(scene.path(child)).plan().unwrap().run(&Progress::new()).unwrap();
            assert_eq!(removed.frozen_parent, (child == "far/two").then(|| base.clone()));
        }
        // Nothing is known to need it, and it says so itself: no override is asked for.
        let refused = ChainMut::open(&base, &OpenOptions::new()).map(|_| ());
        assert!(matches!(refused, Err(Error::Refused(Refusal::ReadOnly { .. }, _))), "{refused:?}");
        Unfreeze::new(&base).plan().unwrap().run(&Progress::new()).unwrap();
        write(&base, 0, 1);
        assert!(!companion_of(&base).exists());
        assert!(matches!(Unfreeze::new(&base).plan().map(|_| ()), Err(Error::Usage(_))));
        // Frozen by somebody who recorded nothing: there may be children.
        std::fs::set_permissions(&base, PermissionsExt::from_mode(0o444)).unwrap();
        let refused = Unfreeze::new(&base).plan().map(|_| ());
        assert!(matches!(refused, Err(Error::Refused(Refusal::NeededByChildren { .. }, _))), "{refused:?}");
        Unfreeze::new(&base).with_override(Override::UnknownChildren).plan().unwrap().run(&Progress::new()).unwrap();
        write(&base, 0, 2);
    }
}

/// A pinned image that was only touched, or copied by hand with its folder, is whole again once it was verified; one
/// that may have children stays read-only when its pin goes; and children need no record where nothing changes their
/// parent.
#[test]
fn pins_are_put_right_and_know_what_they_do_not_know() {
    let scene = Scene::new(Format::Vhdx);
    let base = scene.path("base");
    PinImage::new(&base).plan().unwrap().run(&Progress::new()).unwrap();
    let copy = quick_folder();
    for file in ["base.vhdx", "base.vhdx.zsap.json"] {
        std::fs::copy(scene.folder.path().join(file), copy.path().join(file)).unwrap();
    }
    std::fs::File::open(&base).unwrap().set_modified(std::time::SystemTime::UNIX_EPOCH).unwrap();
    for (folder, image) in [(scene.folder.path(), base.clone()), (copy.path(), copy.path().join("base.vhdx"))] {
        assert_eq!(status_of(folder).unwrap().state, Health::Broken);
        let verified = verify_pin(&image).unwrap();
        assert!(verified.state == Health::Healthy && verified.record_renewed, "{verified:?}");
        assert_eq!(status_of(folder).unwrap().problems, vec![]);
        assert!(!verify_pin(&image).unwrap().record_renewed);
    }
    // No record can be made, and none is needed while it is pinned.
    let companion = companion_of(&base);
    let kept = std::fs::read(&companion).unwrap();
    let staged = zestful_sapling::storage::testing::HostRecorder::start(scene.folder.path()).unwrap();
    let plan = Derive::new(&base, vec![scene.path("far/unrecorded")]).plan().unwrap();
    // The second change is the first write of the companion, after the child's file was laid out.
    let unrecorded = (0..60).find_map(|change| {
        staged.rewind().unwrap();
        staged.fail_once(change, zestful_sapling::storage::testing::Fault::Error(13));
        let outcome = plan.run(&Progress::new()).ok()?;
        outcome.unrecorded
    });
    assert!(unrecorded.is_some_and(|why| why.contains("cannot be recorded")));
    drop((staged, plan));
    scene.reads(&["far/unrecorded"]);
    assert_eq!(std::fs::read(&companion).unwrap(), kept);
    // With a child missing it is not known whether it may be written to.
    std::fs::remove_file(scene.path("near")).unwrap();
    for child in ["far/one", "far/two", "far/unrecorded"] {
        Remove::new(scene.path(child)).plan().unwrap().run(&Progress::new()).unwrap();
    }
    assert!(!unpin(&base, &Search::default()).unwrap().writable);
    // The same for one that only its pin made read-only; once its child is known to be gone, it is free.
    for by_hand in [true, false] {
        let alone = scene.path(if by_hand { "alone" } else { "lone" });
        make(&alone);
        PinImage::new(&alone).plan().unwrap().run(&Progress::new()).unwrap();
        let child = scene.path(if by_hand { "far/gone" } else { "far/removed" });
        derive(&alone, &child, false);
        match by_hand {
            true => std::fs::remove_file(&child).unwrap(),
            false => _ = Remove::new(&child).plan().unwrap().run(&Progress::new()).unwrap(),
        }
        assert_eq!(unpin(&alone, &Search::default()).unwrap().writable, !by_hand);
    }
}
