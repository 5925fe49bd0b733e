//! Chains of files: parents found, moved, lost, changed, and in a circle.

use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use zestful_sapling::chain::{Chain, ChainMut, Disk, DiskStream, DiskWindow, OpenOptions};
use zestful_sapling::error::{Error, ParentProblemKind, Refusal};
use zestful_sapling::family::{Family, Health, ParentState, Role, Search, children_of, inspect};
use zestful_sapling::ops::{Derive, Make, NewImage, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::{Access, FileStorage};

use crate::family_model::write_unasked;
use crate::support::{check_chain, perform};

struct Scene {
    folder: tempfile::TempDir,
}

impl Scene {
    /// A base and a child of a child, each with a byte of its own.
    fn new() -> Self {
        let scene = Self { folder: tempfile::tempdir().unwrap() };
        Make::new(scene.path("fen-base.vhdx"), 64 << 20).plan().unwrap().run(&Progress::new()).unwrap();
        scene.write("fen-base.vhdx", 1);
        scene.derive("fen-base.vhdx", "germination-01.vhdx");
        scene.write("germination-01.vhdx", 2);
        scene.derive("germination-01.vhdx", "after.vhdx");
        scene.write("after.vhdx", 3);
        scene
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn derive(&self, base: &str, child: &str) {
        Derive::new(self.path(base), vec![self.path(child)]).plan().unwrap().run(&Progress::new()).unwrap();
    }

    fn write(&self, name: &str, byte: u8) {
        let disk = ChainMut::open(&self.path(name), &OpenOptions::new()).unwrap();
        disk.write_at(&[byte; 4096], u64::from(byte) << 20).unwrap();
        disk.close().unwrap();
    }

    fn open(&self, name: &str) -> Result<Chain, Error> {
        Chain::open(&self.path(name), &OpenOptions::new())
    }

    fn problem(&self, name: &str) -> ParentProblemKind {
        match self.open(name).map(|_| ()) {
            Err(Error::Parent(problem)) => problem.kind,
            other => panic!("{other:?}"),
        }
    }

    /// The three bytes are there.
    fn assert_whole(&self, name: &str) {
        let disk = self.open(name).unwrap();
        for byte in 1..=3u8 {
            let mut found = [0; 1];
            disk.read_at(&mut found, u64::from(byte) << 20).unwrap();
            assert_eq!(found, [byte]);
        }
    }
}

#[test]
fn a_folder_moved_as_a_whole_needs_nothing() {
    let scene = Scene::new();
    scene.assert_whole("after.vhdx");
    let elsewhere = tempfile::tempdir().unwrap();
    let moved = elsewhere.path().join("moved");
    std::fs::rename(scene.folder.path(), &moved).unwrap();
    assert_eq!(Chain::open(&moved.join("after.vhdx"), &OpenOptions::new()).unwrap().layers().len(), 3);
    std::fs::rename(moved, scene.folder.path()).unwrap();
}

#[test]
fn a_child_elsewhere_finds_its_parent_by_path_or_beside_itself() {
    let scene = Scene::new();
    std::fs::create_dir(scene.path("deeper")).unwrap();
    scene.derive("after.vhdx", "deeper/leaf.vhdx");
    scene.assert_whole("deeper/leaf.vhdx");
    // The whole family in one folder: the recorded path leads nowhere, the name does.
    std::fs::create_dir(scene.path("flat")).unwrap();
    for name in ["fen-base.vhdx", "germination-01.vhdx", "after.vhdx", "deeper/leaf.vhdx"] {
        let file = Path::new(name).file_name().unwrap();
        std::fs::rename(scene.path(name), scene.path("flat").join(file)).unwrap();
    }
    scene.assert_whole("flat/leaf.vhdx");
    // Through a link the real file's folder counts.
    std::os::unix::fs::symlink(scene.path("flat/leaf.vhdx"), scene.path("link.vhdx")).unwrap();
    scene.assert_whole("link.vhdx");
}

#[test]
fn a_lost_parent_is_missed_by_name_and_found_by_hand() {
    let scene = Scene::new();
    std::fs::rename(scene.path("fen-base.vhdx"), scene.path("renamed.vhdx")).unwrap();
    match scene.problem("after.vhdx") {
        ParentProblemKind::Missing { tried, recorded } => {
            assert_eq!(recorded, [".\\fen-base.vhdx"]);
            assert!(tried[0].ends_with("fen-base.vhdx") && tried[0].is_absolute());
        }
        other => panic!("{other:?}"),
    }
    let report = inspect(&scene.path("germination-01.vhdx"), None).unwrap();
    assert_eq!((report.parent.unwrap().state, report.depth), (ParentState::Missing, 0));
    let by_hand = OpenOptions::new().with_parent(scene.path("renamed.vhdx"));
    assert_eq!(Chain::open(&scene.path("germination-01.vhdx"), &by_hand).unwrap().layers().len(), 2);
}

#[test]
fn what_stands_in_a_parents_place_is_named() {
    let scene = Scene::new();
    std::fs::remove_file(scene.path("fen-base.vhdx")).unwrap();
    std::fs::create_dir(scene.path("fen-base.vhdx")).unwrap();
    let ParentProblemKind::Unreadable { reason, .. } = scene.problem("after.vhdx") else { panic!() };
    assert!(reason.contains("is a folder"), "{reason}");
    std::fs::remove_dir(scene.path("fen-base.vhdx")).unwrap();
    std::fs::write(scene.path("fen-base.vhdx"), "not an image").unwrap();
    let ParentProblemKind::Unreadable { reason, .. } = scene.problem("after.vhdx") else { panic!() };
    assert!(reason.contains("the signature `vhdxfile` is missing"), "{reason}");
}

#[test]
fn a_parent_changed_behind_its_childs_back_is_never_read() {
    let scene = Scene::new();
    // Somebody takes the mark away and writes.
    let base = scene.path("fen-base.vhdx");
    let refused = FileStorage::open(&base, Access::Write).map(|_| ());
    assert!(matches!(refused, Err(Error::Refused(Refusal::ReadOnly { .. }, _))));
    let mut permissions = std::fs::metadata(&base).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut permissions, 0o644);
    std::fs::set_permissions(&base, permissions).unwrap();
    let children = children_of(&base, &Search::default()).unwrap();
    assert_eq!(children.children, [scene.path("germination-01.vhdx")]);
    // Our own writers know of the child; another program asks nobody.
    let ours = ChainMut::open(&base, &OpenOptions::new()).map(|_| ());
    assert!(matches!(ours, Err(Error::Refused(Refusal::NeededByChildren { .. }, _))), "{ours:?}");
    write_unasked(&base, 0, 9);
    let ParentProblemKind::Mismatch { parent, expected, found } = scene.problem("after.vhdx") else { panic!() };
    assert!(parent.ends_with("fen-base.vhdx") && expected != found);
    let report = check_chain(&scene.path("after.vhdx"), None).unwrap();
    assert_eq!(report.state, Health::Broken);
    assert_eq!(report.findings.iter().map(|f| f.code()).collect::<Vec<_>>(), ["parent-mismatch"]);
    // A look that writes nothing changes no identity: opening for writing alone does not orphan anybody.
    let scene = Scene::new();
    let current = ChainMut::open(&scene.path("after.vhdx"), &OpenOptions::new()).unwrap();
    let before = current.info().data_identity;
    current.flush().unwrap();
    current.close().unwrap();
    assert_eq!(scene.open("after.vhdx").unwrap().info().data_identity, before);
}

/// Puts another image in the place of the base, with the base's identity in its headers.
fn stand_in_for_the_base(scene: &Scene, other: &str) {
    let identity = scene.open("fen-base.vhdx").unwrap().info().data_identity.unwrap();
    let mut bytes = std::fs::read(scene.path(other)).unwrap();
    for at in [64 << 10, 128 << 10] {
        bytes[at + 32..at + 48].copy_from_slice(&identity.to_bytes_le());
        bytes[at + 4..at + 8].fill(0);
        let sum = crc32c::crc32c(&bytes[at..at + 4096]);
        bytes[at + 4..at + 8].copy_from_slice(&sum.to_le_bytes());
    }
    std::fs::remove_file(scene.path("fen-base.vhdx")).unwrap();
    std::fs::write(scene.path("fen-base.vhdx"), bytes).unwrap();
}

#[test]
fn parents_with_other_sectors_are_told() {
    let scene = Scene::new();
    let large = NewImage::new().with_sectors((4096, 4096));
    perform(Make::new(scene.path("large.vhdx"), 64 << 20).with_image(large)).unwrap();
    stand_in_for_the_base(&scene, "large.vhdx");
    let problem = scene.problem("germination-01.vhdx");
    assert!(
        matches!(problem, ParentProblemKind::SectorSize { child_bytes: 512, parent_bytes: 4096, .. }),
        "{problem:?}"
    );
}

#[test]
fn circles_are_told() {
    let scene = Scene::new();
    // A copy of the grandchild under the base's name.
    stand_in_for_the_base(&scene, "after.vhdx");
    assert!(matches!(scene.problem("germination-01.vhdx"), ParentProblemKind::Cycle { .. }));
    let report = check_chain(&scene.path("germination-01.vhdx"), None).unwrap();
    assert!(report.findings.iter().any(|finding| finding.code() == "parent-cycle"));
    let family = Family::of_folder(scene.folder.path()).unwrap();
    assert!(family.problems.iter().any(|problem| problem.message.contains("leads back")));
}

#[test]
fn a_family_is_told_with_its_roles() {
    let scene = Scene::new();
    scene.derive("fen-base.vhdx", "germination-02.vhdx");
    let family = Family::of_folder(scene.folder.path()).unwrap();
    assert_eq!((family.roots.len(), family.problems.len()), (1, 0));
    let base = &family.roots[0];
    let roles: Vec<Role> = base.children.iter().map(|child| child.role).collect();
    assert_eq!((base.role, roles), (Role::Base, vec![Role::Frozen, Role::Current]));
    assert_eq!(base.children[0].children[0].role, Role::Current);
    let chain = Family::of_image(&scene.path("after.vhdx"), None).unwrap();
    assert_eq!(chain.roots[0].children[0].children[0].path, scene.path("after.vhdx"));
}

#[test]
fn a_parent_is_held_while_a_child_is_open() {
    let scene = Scene::new();
    let child = ChainMut::open(&scene.path("after.vhdx"), &OpenOptions::new()).unwrap();
    assert_eq!(child.parents().len(), 2);
    assert_eq!(child.parents()[1].path().file_name().unwrap(), "fen-base.vhdx");
    let second = ChainMut::open(&scene.path("after.vhdx"), &OpenOptions::new()).map(|_| ());
    assert!(matches!(second, Err(Error::Refused(Refusal::InUse { .. }, _))));
    assert!(scene.open("germination-01.vhdx").is_ok(), "readers share");
}

/// A window shows its part and no more, and ends with the disk.
#[test]
fn windows_show_their_part_of_a_disk() {
    let scene = Scene::new();
    let path = scene.path("after.vhdx");
    let mut disk = ChainMut::open(&path, &OpenOptions::new()).unwrap();
    let size = disk.virtual_size();
    let mut stream = DiskStream::window(&mut disk, size - 1000, u64::MAX);
    assert_eq!(stream.seek(SeekFrom::End(-500)).unwrap(), 500);
    assert_eq!((stream.write(&[7; 600]).unwrap(), stream.write(&[7]).unwrap()), (500, 0));
    disk.close().unwrap();
    let disk = Chain::open(&path, &OpenOptions::new()).unwrap();
    let mut window = DiskWindow::new(&disk, size - 600, 4096);
    let mut found = Vec::new();
    assert_eq!(window.read_to_end(&mut found).unwrap(), 600);
    assert_eq!(found, [[0; 100].as_slice(), &[7; 500]].concat());
    assert!(window.seek(SeekFrom::Current(-601)).is_err());
    assert_eq!(DiskWindow::new(&disk, size + 1, 10).read(&mut [0; 4]).unwrap(), 0);
}
