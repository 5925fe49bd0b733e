//! What others do between a plan and its run, and beside a writer.

use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions, SharedDisk};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Guard, Override};
use zestful_sapling::image::{Format, ParentRecord, open_image_mut};
use zestful_sapling::ops::{Direction, Merge, MoveImage, Operation, PinImage, Planned, Relink, Transplant};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::{Fault, HostRecorder};
use zestful_sapling::storage::{Access, FileStorage, ReadAt, Storage};

use crate::acts::{Act, Stage};
use crate::family_model::{derive, make, quick_folder};
use crate::support::{Model, resume};
use crate::unfinished::{contents, line};

/// A program that takes no locks.
pub struct Unasking(std::fs::File, PathBuf);

impl Unasking {
    pub fn open(path: &Path) -> Arc<Self> {
        let mode = std::fs::metadata(path).unwrap().permissions();
        std::fs::set_permissions(path, PermissionsExt::from_mode(0o644)).unwrap();
        let file = std::fs::File::options().read(true).write(true).open(path).unwrap();
        std::fs::set_permissions(path, mode).unwrap();
        Arc::new(Self(file, path.to_owned()))
    }
}

impl ReadAt for Unasking {
    fn path(&self) -> &Path {
        &self.1
    }
    fn len(&self) -> zestful_sapling::Result<u64> {
        Ok(self.0.metadata().unwrap().len())
    }
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> zestful_sapling::Result<()> {
        self.0.read_exact_at(buffer, offset).map_err(|_| Error::Cancelled)
    }
}

impl Storage for Unasking {
    fn write_at(&self, bytes: &[u8], offset: u64) -> zestful_sapling::Result<()> {
        self.0.write_all_at(bytes, offset).map_err(|_| Error::Cancelled)
    }
    fn set_len(&self, len: u64) -> zestful_sapling::Result<()> {
        self.0.set_len(len).map_err(|_| Error::Cancelled)
    }
    fn sync(&self) -> zestful_sapling::Result<()> {
        Ok(())
    }
}
/// A loss that the host reports to the thread that syncs beside the writing is final for the image: no table comes to
/// name what is gone.
#[test]
fn a_sync_that_fails_beside_the_writer_names_no_lost_data() {
    const RANGE: u64 = 16 << 10;
    for format in [Format::Vhdx, Format::Vhd] {
        let folder = quick_folder();
        let files = ["base", "layer", "now"].map(|name| folder.path().join(format!("{name}.{format}")));
        zestful_sapling::ops::Make::new(&files[0], 64 << 30).plan().unwrap().run(&Progress::new()).unwrap();
        derive(&files[0], &files[1], false);
        // Small ranges far apart: bitmaps change, and are committed, all the while.
        let mut content = Model::default();
        let disk = ChainMut::open(&files[1], &OpenOptions::new()).unwrap();
        for n in 0..3600u64 {
            let byte = n as u8 | 1;
            disk.write_at(&vec![byte; RANGE as usize], n << 24).unwrap();
            content.fill(n << 24, RANGE, byte);
        }
        disk.close().unwrap();
        derive(&files[1], &files[2], false);
        let recorder = HostRecorder::start(folder.path()).unwrap();
        // The first one comes at the end of a batch, after which nothing is committed.
        recorder.lose_writes_beside(1);
        let merge = Merge::new(&files[2]).with_direction(Direction::IntoChild).plan().unwrap();
        let ended = merge.run(&Progress::new());
        drop((merge, recorder));
        assert!(matches!(ended, Err(Error::UnderWay { .. })), "{ended:?}");
        content.assert_same(&Chain::open(&files[2], &OpenOptions::new()).unwrap());
        resume(&files[2], &[]).unwrap();
        content.assert_same(&Chain::open(&files[2], &OpenOptions::new()).unwrap());
    }
}

/// What a plan relied on is looked at again by its run: space, records, pins, and files swapped while a lock was
/// waited for.
#[test]
fn a_run_looks_again_at_what_its_plan_relied_on() {
    let folder = quick_folder();
    let ([base, layer, now], content) = line(folder.path(), Format::Vhdx);
    make(&folder.path().join("other.vhdx"));
    let before = contents(folder.path());
    let recorder = HostRecorder::start(folder.path()).unwrap();
    let merge = || Merge::new(&now).with_direction(Direction::IntoChild).plan();
    let transplant = || Transplant::new(&now, folder.path().join("other.vhdx")).plan();
    recorder.pretend_free_space(1 << 20);
    assert!(matches!(merge().map(|_| ()), Err(Error::Refused(Refusal::NoSpace { .. }, _))));
    assert!(matches!(transplant().map(|_| ()), Err(Error::Refused(Refusal::NoSpace { .. }, _))));
    recorder.pretend_free_space(1 << 40);
    let plan = merge().unwrap();
    recorder.pretend_free_space(1 << 20);
    assert!(matches!(plan.run(&Progress::new()), Err(Error::Refused(Refusal::NoSpace { .. }, _))));
    drop(plan);
    recorder.pretend_free_space(1 << 40);
    let plan = transplant().unwrap();
    recorder.pretend_free_space(1 << 20);
    assert!(matches!(plan.run(&Progress::new()), Err(Error::Refused(Refusal::NoSpace { .. }, _))));
    drop((plan, recorder));
    assert!(contents(folder.path()) == before);
    // A program without locks changes the child's record between plan and run.
    let plan = Relink::new(&now).with_parent(layer.clone()).plan().unwrap();
    let mut image = open_image_mut(Unasking::open(&now), None).unwrap();
    let known = image.info().parent.clone().unwrap();
    let record = ParentRecord {
        identity: known.accepted[0],
        also: None,
        time_stamp: None,
        name: "elsewhere.vhdx".into(),
        relative: ".\\elsewhere.vhdx".into(),
        absolute: None,
    };
    image.set_parent(&record).unwrap();
    image.close().unwrap();
    assert!(matches!(plan.run(&Progress::new()), Err(Error::Refused(Refusal::SourceChanged { .. }, _))));
    drop(plan);
    Relink::new(&now).with_parent(layer.clone()).plan().unwrap().run(&Progress::new()).unwrap();
    // A pin holds without the mark, too.
    PinImage::new(&now).plan().unwrap().run(&Progress::new()).unwrap();
    std::fs::set_permissions(&now, PermissionsExt::from_mode(0o644)).unwrap();
    let written = ChainMut::open(&now, &OpenOptions::new()).map(|_| ());
    assert!(matches!(written, Err(Error::Refused(Refusal::Pinned { .. }, _))), "{written:?}");
    content.assert_same(&Chain::open(&now, &OpenOptions::new()).unwrap());
    // A file that is swapped while its lock is waited for: what is locked in the end stands under the name.
    for _ in 0..20 {
        let lock = FileStorage::open(&base, Access::AmendMetadata).unwrap();
        let waiting = std::thread::scope(|scope| {
            let waiting = scope.spawn(|| FileStorage::open(&base, Access::AmendMetadata));
            std::thread::sleep(std::time::Duration::from_millis(4));
            std::fs::copy(&base, folder.path().join("new")).unwrap();
            std::fs::rename(folder.path().join("new"), &base).unwrap();
            drop(lock);
            waiting.join().unwrap()
        });
        let there = std::fs::metadata(&base).unwrap();
        if let Ok(held) = waiting {
            assert_eq!((there.dev(), there.ino()), held.host_identity().unwrap());
        }
    }
}

/// A file that takes another's place belongs to whoever owned that one: mode, owner and attributes go along.
#[test]
fn what_takes_a_place_inherits_it() {
    // On a disk, since not every memory file system has attributes.
    let folder = tempfile::tempdir().unwrap();
    let ([_, _, now], content) = line(folder.path(), Format::Vhdx);
    let has_attributes =
        rustix::fs::setxattr(&now, "user.machine", b"germination-01", rustix::fs::XattrFlags::empty()).is_ok();
    let is_root = std::os::unix::fs::chown(&now, Some(1234), Some(55)).is_ok();
    std::fs::set_permissions(&now, PermissionsExt::from_mode(0o660)).unwrap();
    Merge::new(&now).with_direction(Direction::IntoParent).plan().unwrap().run(&Progress::new()).unwrap();
    let there = std::fs::metadata(&now).unwrap();
    assert_eq!(there.permissions().mode() & 0o777, 0o660);
    if is_root {
        assert_eq!((there.uid(), there.gid()), (1234, 55));
    }
    if has_attributes {
        let mut value = [0; 64];
        let len = rustix::fs::getxattr(&now, "user.machine", &mut value[..]).unwrap();
        assert_eq!(&value[..len], b"germination-01");
    }
    content.assert_same(&Chain::open(&now, &OpenOptions::new()).unwrap());
}

/// Images that are to be told of a merge or a move, and were moved by hand meanwhile, are found again or hold it up.
#[test]
fn children_that_moved_by_hand_meanwhile_are_told_all_the_same() {
    for act in [Act::MergeIntoParent, Act::MergeIntoChild, Act::MergeDeep] {
        for (name, is_found) in [("c/renamed", true), ("far/renamed", false)] {
            let stage = Stage::new(Format::Vhdx);
            std::fs::create_dir(stage.cast.root.join("far")).unwrap();
            let recorder = HostRecorder::start(&stage.cast.root).unwrap();
            stage.cast.perform(act).unwrap();
            let half = recorder.asked() / 2;
            recorder.rewind().unwrap();
            recorder.fail_from(half);
            assert!(matches!(stage.cast.perform(act), Err(Error::UnderWay { .. })));
            drop(recorder);
            let (leaf, moved) = (stage.cast.path("c/leaf"), stage.cast.path(name));
            std::fs::rename(&leaf, &moved).unwrap();
            let child = stage.cast.path("c/child");
            let resumed = resume(&child, &[]);
            assert_eq!(resumed.is_ok(), is_found, "{act:?}: {resumed:?}");
            if let Err(error) = resumed {
                let Error::UnderWay { source, .. } = error else { panic!("{error}") };
                assert!(matches!(*source, Error::Refused(Refusal::NeededByChildren { .. }, _)), "{source}");
                std::fs::rename(&moved, &leaf).unwrap();
                stage.cast.finish("brought back");
            } else {
                std::fs::rename(&moved, &leaf).unwrap();
                Relink::new(&leaf).plan().unwrap().run(&Progress::new()).unwrap();
            }
            stage.judge(&[(act, true)], &format!("{act:?} {name}"));
        }
    }
    // Said to be gone for good, it is left out.
    let stage = Stage::new(Format::Vhdx);
    let recorder = HostRecorder::start(&stage.cast.root).unwrap();
    stage.cast.perform(Act::MoveChild).unwrap();
    let half = recorder.asked() / 2;
    recorder.rewind().unwrap();
    recorder.fail_from(half);
    assert!(stage.cast.perform(Act::MoveChild).is_err());
    drop(recorder);
    std::fs::remove_file(stage.cast.path("c/leaf")).unwrap();
    let again = MoveImage::new(stage.cast.path("c/child"), stage.cast.path("a/there"));
    assert!(again.clone().plan().unwrap().run(&Progress::new()).is_err());
    again.with_override(Override::UnknownChildren).plan().unwrap().run(&Progress::new()).unwrap();
    assert!(stage.cast.path("a/there").exists());
}

/// A disk in use goes on in a child only when nobody else is at its image: under another name, without a lock, or with
/// another file in its place; and when the child can be recorded. Otherwise it goes on where it was.
#[test]
fn a_disk_in_use_is_frozen_only_when_it_is_ours_alone() {
    for format in [Format::Vhdx, Format::Vhd] {
        let folder = quick_folder();
        let path = |name: &str| folder.path().join(format!("{name}.{format}"));
        make(&path("now"));
        let disk = SharedDisk::new(ChainMut::open(&path("now"), &OpenOptions::new()).unwrap());
        let mut content = Model::default();
        let mut refuse = |why: &str, number: u8| {
            let tidy = disk.info().data_identity;
            disk.write_at(&[number; 4096], u64::from(number) << 20).unwrap();
            // It was tidy, and somebody may have grown something from it.
            assert_ne!(disk.info().data_identity, tidy, "{why}: the identity is the old one");
            content.fill(u64::from(number) << 20, 4096, number);
            let refused = disk.go_on_in(&path("next"), &Guard::new());
            assert!(matches!(refused, Err(Error::Refused(..))), "{why}: {refused:?}");
            assert!(!path("next").exists(), "{why}");
            let mode = std::fs::metadata(path("now")).unwrap().permissions();
            assert!(!mode.readonly(), "{why}: it is frozen");
        };
        let other = std::fs::File::options().write(true).open(path("now")).unwrap();
        refuse("another handle", 1);
        drop(other);
        std::fs::hard_link(path("now"), path("alias")).unwrap();
        refuse("a second name", 2);
        std::fs::remove_file(path("alias")).unwrap();
        // The same content, as far as its identity tells, and then another.
        std::fs::copy(path("now"), path("copy")).unwrap();
        std::fs::rename(path("now"), path("aside")).unwrap();
        std::fs::rename(path("copy"), path("now")).unwrap();
        refuse("a copy in its place", 3);
        std::fs::rename(path("aside"), path("now")).unwrap();
        let companion = folder.path().join(format!("now.{format}.zsap.json"));
        std::fs::create_dir(&companion).unwrap();
        refuse("no record", 4);
        std::fs::remove_dir(&companion).unwrap();
        // Another host, with which there are no locks, has begun something.
        let journal = folder.path().join(format!("now.{format}.zsap.journal"));
        std::fs::write(&journal, "begun").unwrap();
        let refused = disk.go_on_in(&path("next"), &Guard::new());
        assert!(matches!(refused, Err(Error::Damaged(_))) && !path("next").exists(), "{refused:?}");
        std::fs::remove_file(journal).unwrap();
        std::fs::write(path("next"), "taken").unwrap();
        assert!(disk.go_on_in(&path("next"), &Guard::new()).is_err());
        std::fs::remove_file(path("next")).unwrap();
        disk.go_on_in(&path("next"), &Guard::new()).unwrap();
        disk.write_at(&[9; 4096], 0).unwrap();
        content.fill(0, 4096, 9);
        disk.close().unwrap();
        content.assert_same(&Chain::open(&path("next"), &OpenOptions::new()).unwrap());
    }
}

/// Each change on the host fails once: the disk goes on where it was, and may be frozen later.
#[test]
fn a_freeze_that_fails_leaves_a_disk_that_goes_on() {
    for format in [Format::Vhdx, Format::Vhd] {
        let folder = quick_folder();
        let root = folder.path().canonicalize().unwrap();
        let path = |name: &str| root.join(format!("{name}.{format}"));
        make(&path("now"));
        let recorder = HostRecorder::start(&root).unwrap();
        let (mut at, mut taken_back) = (0, 0);
        loop {
            recorder.rewind().unwrap();
            let disk = SharedDisk::new(ChainMut::open(&path("now"), &OpenOptions::new()).unwrap());
            disk.write_at(&[1; 4096], 0).unwrap();
            disk.flush().unwrap();
            recorder.fail_once(recorder.asked() + at, Fault::Error(5));
            let frozen = disk.go_on_in(&path("next"), &Guard::new());
            let when = format!("{format}, change {at}: {frozen:?}");
            if frozen.is_err() && !path("next").exists() {
                taken_back += 1;
                assert!(!std::fs::metadata(path("now")).unwrap().permissions().readonly(), "{when}: it is frozen");
                // After a sync of the image itself that failed, it takes nothing more.
                if disk.write_at(&[1; 4096], 0).is_ok() {
                    disk.go_on_in(&path("next"), &Guard::new()).unwrap_or_else(|error| panic!("{when}, then {error}"));
                }
            }
            drop(disk);
            let name = if path("next").exists() { "next" } else { "now" };
            let mut found = [0; 4096];
            Chain::open(&path(name), &OpenOptions::new()).unwrap().read_at(&mut found, 0).unwrap();
            assert!(found == [1; 4096], "{when}");
            if frozen.is_ok() && at > 20 {
                break;
            }
            at += 1;
        }
        assert!(taken_back > 5, "{taken_back}");
    }
}
