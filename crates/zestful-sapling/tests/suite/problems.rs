//! Each kind of problem that a folder can have, and how bad it counts.

use std::path::{Path, PathBuf};

use zestful_sapling::family::{Health, ProblemKind, Status, status_of};
use zestful_sapling::ops::{Derive, FreshIdentity, Make, PinImage};
use zestful_sapling::storage::testing::HostRecorder;

use crate::family_model::write;
use crate::sidecars::{companion_of, journal_of};
use crate::support::perform;

/// A base and a child, to be spoiled.
struct Scene(tempfile::TempDir);

impl Scene {
    fn new() -> Self {
        let scene = Self(tempfile::tempdir().unwrap());
        perform(Make::new(scene.path("base.vhdx"), 1 << 30)).unwrap();
        perform(Derive::new(scene.path("base.vhdx"), vec![scene.path("child.vhdx")])).unwrap();
        assert_eq!(scene.status().state, Health::Healthy, "{:?}", scene.status());
        scene
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn status(&self) -> Status {
        status_of(self.0.path()).unwrap()
    }

    /// Writes over a file that may be marked read-only.
    fn put(&self, name: &str, bytes: &[u8]) {
        _ = std::fs::remove_file(self.path(name));
        std::fs::write(self.path(name), bytes).unwrap();
    }

    fn free(&self, name: &str) {
        let mut mode = std::fs::metadata(self.path(name)).unwrap().permissions();
        std::os::unix::fs::PermissionsExt::set_mode(&mut mode, 0o644);
        std::fs::set_permissions(self.path(name), mode).unwrap();
    }
}

fn touch(path: &Path) {
    let file = std::fs::File::options().append(true).open(path).unwrap();
    file.set_modified(std::time::UNIX_EPOCH).unwrap();
}

type Spoil = fn(&Scene);

#[test]
fn every_problem_is_told_with_its_kind_and_its_place_on_the_ladder() {
    let table: [(ProblemKind, Health, &str, Spoil); 12] = [
        (ProblemKind::Unreadable, Health::Broken, "spoiled.vhdx", |scene| scene.put("spoiled.vhdx", b"nothing")),
        (ProblemKind::ParentMissing, Health::Broken, "child.vhdx", |scene| {
            std::fs::rename(scene.path("base.vhdx"), scene.path("base.gone")).unwrap();
            std::fs::remove_file(scene.path("base.gone")).unwrap();
        }),
        (ProblemKind::ParentChanged, Health::Broken, "child.vhdx", |scene| {
            std::fs::remove_file(scene.path("base.vhdx")).unwrap();
            perform(Make::new(scene.path("base.vhdx"), 1 << 30)).unwrap();
        }),
        (ProblemKind::ParentUnusable, Health::Broken, "child.vhdx", |scene| scene.put("base.vhdx", b"nothing")),
        (ProblemKind::ParentCycle, Health::Broken, "base.vhdx", |scene| {
            std::fs::remove_file(scene.path("base.vhdx")).unwrap();
            std::fs::hard_link(scene.path("child.vhdx"), scene.path("base.vhdx")).unwrap();
        }),
        (ProblemKind::PinTouched, Health::Broken, "base.vhdx", |scene| {
            perform(PinImage::new(scene.path("base.vhdx"))).unwrap();
            touch(&scene.path("base.vhdx"));
        }),
        (ProblemKind::CompanionDamaged, Health::Broken, "base.vhdx", |scene| {
            scene.put("base.vhdx.zsap.json", b"{");
        }),
        (ProblemKind::LoneCompanion, Health::Attention, "lost.vhdx.zsap.json", |scene| {
            perform(Make::new(scene.path("lost.vhdx"), 1 << 20)).unwrap();
            perform(PinImage::new(scene.path("lost.vhdx"))).unwrap();
            assert!(companion_of(&scene.path("lost.vhdx")).exists());
            std::fs::remove_file(scene.path("lost.vhdx")).unwrap();
        }),
        (ProblemKind::JournalDamaged, Health::Broken, "child.vhdx", |scene| {
            std::fs::write(journal_of(&scene.path("child.vhdx")), b"torn\n").unwrap();
        }),
        (ProblemKind::Twin, Health::Attention, "twin.vhdx", |scene| {
            std::fs::copy(scene.path("child.vhdx"), scene.path("twin.vhdx")).unwrap();
        }),
        (ProblemKind::DanglingLink, Health::Attention, "link.vhdx", |scene| {
            std::os::unix::fs::symlink("gone.vhdx", scene.path("link.vhdx")).unwrap();
        }),
        (ProblemKind::LeftOver, Health::Attention, "a.vhdx.partial-0123abcd", |scene| {
            scene.put("a.vhdx.partial-0123abcd", b"");
        }),
    ];
    for (kind, health, name, spoil) in table {
        let scene = Scene::new();
        spoil(&scene);
        let status = scene.status();
        let found = status.problems.iter().find(|problem| problem.code == kind);
        let found = found.unwrap_or_else(|| panic!("{kind:?}: {:?}", status.problems));
        assert_eq!((found.severity, found.path.file_name()), (health, Path::new(name).file_name()), "{kind:?}");
        assert!(status.state >= health, "{kind:?}");
        let count = status.problems.iter().filter(|problem| problem.code == kind).count();
        assert_eq!(count, 1, "told once: {:?}", status.problems);
        // Whoever reads through what is broken is no more certain than that.
        if kind == ProblemKind::PinTouched {
            assert!(status.current.iter().all(|disk| disk.state == Health::Broken), "{:?}", status.current);
        }
    }
    let scene = Scene::new();
    let recorder = HostRecorder::start(scene.0.path()).unwrap();
    recorder.pretend_free_space(1 << 20);
    let status = scene.status();
    let found = status.problems.iter().find(|problem| problem.code == ProblemKind::DoesNotFit);
    assert_eq!((found.map(|problem| problem.severity), status.state), (Some(Health::Attention), Health::Attention));
}

/// What was put right is healthy again, and what is merely odd is not broken.
#[test]
fn a_problem_that_was_put_right_is_gone() {
    let scene = Scene::new();
    std::fs::copy(scene.path("child.vhdx"), scene.path("twin.vhdx")).unwrap();
    assert_eq!(scene.status().state, Health::Attention);
    perform(FreshIdentity::new(scene.path("twin.vhdx"))).unwrap();
    assert_eq!(scene.status().state, Health::Healthy);
    scene.free("base.vhdx");
    write(&scene.path("twin.vhdx"), 0, 7);
    assert_eq!(scene.status().state, Health::Healthy, "{:?}", scene.status().problems);
}
