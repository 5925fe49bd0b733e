//! What was cut short is carried on with the files that it was begun with, and with no others.

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::UnderWayState;
use zestful_sapling::image::Format;
use zestful_sapling::ops::{Direction, KeepName, Merge, MoveImage, Operation, Planned, Relink, Remove};
use zestful_sapling::progress::Progress;
use zestful_sapling::repair::Resumed;
use zestful_sapling::storage::testing::{FileChange, HostChange, HostRecorder};
use zestful_sapling::storage::{Access, FileStorage, Storage};

use crate::acts::{Act, Stage};
use crate::family_model::{all_files, derive, make, quick_folder, write};
use crate::meanwhile::Unasking;
use crate::sidecars::{journal_of, under_way};
use crate::support::{Model, abandon, resume};

/// All files below a folder, with their contents.
pub fn contents(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    all_files(folder).into_iter().map(|name| (name.clone(), std::fs::read(name).unwrap())).collect()
}

fn copy_folder(from: &Path, to: &Path) {
    assert!(std::process::Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
}

/// A base, a layer and a child in one folder, and what the child reads.
pub fn line(folder: &Path, format: Format) -> ([PathBuf; 3], Model) {
    let files = ["base", "layer", "now"].map(|name| folder.join(format!("{name}.{format}")));
    let mut content = Model::default();
    make(&files[0]);
    for (number, file) in files.iter().enumerate() {
        if number > 0 {
            derive(&files[number - 1], file, false);
        }
        let disk = ChainMut::open(file, &OpenOptions::new()).unwrap();
        let (at, byte) = ((number as u64) << 20, number as u8 + 1);
        disk.write_at(&vec![byte; 3 << 19], at).unwrap();
        disk.close().unwrap();
        content.fill(at, 3 << 19, byte);
    }
    (files, content)
}

#[test]
fn a_journal_in_a_copy_never_touches_the_original() {
    let (mut worked, mut refused) = (0, 0);
    for format in [Format::Vhdx, Format::Vhd] {
        for (direction, keep) in [(Direction::IntoParent, KeepName::Parent), (Direction::IntoChild, KeepName::Parent)] {
            for fail_from in (3..).step_by(if every() { 1 } else { 13 }) {
                let folder = quick_folder();
                let (original, copy) = (folder.path().join("original"), folder.path().join("copy"));
                std::fs::create_dir(&original).unwrap();
                let ([_, layer, now], content) = line(&original, format);
                let recorder = HostRecorder::start(folder.path()).unwrap();
                recorder.fail_from(fail_from);
                let merge = Merge::new(&now).with_direction(direction).with_name_of(keep).plan().unwrap();
                let ended = merge.run(&Progress::new());
                drop((merge, recorder));
                if ended.is_ok() {
                    break;
                }
                copy_folder(&original, &copy);
                // Given up there, or not; and in the copy carried on, or given up.
                if fail_from % 4 == 3 && abandon(&now, &[]).is_ok() {
                    content.assert_same(&Chain::open(&now, &OpenOptions::new()).unwrap());
                }
                let before = contents(&original);
                if let Ok(mut left) = std::fs::read_dir(&copy)
                    && let Some(journal) = left.find_map(|entry| {
                        entry.ok().map(|entry| entry.path()).filter(|path| path.to_string_lossy().ends_with(".journal"))
                    })
                {
                    if fail_from % 3 != 0 || abandon(&journal, &[]).is_err() {
                        resume(&journal, &[]).unwrap();
                    }
                    worked += 1;
                }
                assert!(contents(&original) == before, "{format} {direction:?} {fail_from}: the original was touched");
                let result = [&now, &layer].map(|path| copy.join(path.file_name().unwrap()));
                let result = result.iter().find(|path| path.exists()).unwrap();
                content.assert_same(&Chain::open(result, &OpenOptions::new()).unwrap());
            }
        }
        // A move inside of one folder goes on, or is taken back, in a copy of it.
        for fail_from in (4..).step_by(7) {
            let folder = quick_folder();
            let (original, copy) = (folder.path().join("original"), folder.path().join("copy"));
            std::fs::create_dir(&original).unwrap();
            let ([_, layer, now], content) = line(&original, format);
            let recorder = HostRecorder::start(folder.path()).unwrap();
            recorder.fail_from(fail_from);
            let name = format!("renamed.{format}");
            let ended = MoveImage::new(&layer, original.join(&name)).plan().unwrap().run(&Progress::new());
            drop(recorder);
            if ended.is_ok() {
                break;
            }
            copy_folder(&original, &copy);
            let before = contents(&original);
            if let Some(journal) = all_files(&copy).into_iter().find(|path| path.ends_with(".zsap.journal")) {
                if fail_from % 2 == 0 || abandon(Path::new(&journal), &[]).is_err() {
                    resume(Path::new(&journal), &[]).unwrap();
                }
                worked += 1;
            }
            assert!(contents(&original) == before, "{format} move {fail_from}: the original was touched");
            let child = copy.join(now.file_name().unwrap());
            content.assert_same(&Chain::open(&child, &OpenOptions::new()).unwrap());
        }
        // A family in several folders: the copy of one, and of all, refuses.
        let stage = Stage::new(format);
        let recorder = HostRecorder::start(&stage.cast.root).unwrap();
        for act in
            [Act::MergeIntoParent, Act::MergeIntoChild, Act::MergeDeep, Act::Transplant, Act::MoveLow, Act::MoveChild]
        {
            recorder.rewind().unwrap();
            stage.cast.perform(act).unwrap();
            for fail_from in (0..recorder.asked()).step_by(if every() { 1 } else { 11 }) {
                recorder.rewind().unwrap();
                recorder.fail_from(fail_from);
                assert!(stage.cast.perform(act).is_err());
                recorder.stop();
                let before = contents(&stage.cast.root);
                let elsewhere = quick_folder();
                let all = elsewhere.path().join("all");
                copy_folder(&stage.cast.root, &all);
                copy_folder(&stage.cast.root.join("c"), &stage.cast.root.join("copied"));
                let inside = stage.cast.root.join("copied");
                let journals = all_files(&all).into_iter().chain(all_files(&inside));
                for journal in journals.filter(|name| name.ends_with(".zsap.journal")) {
                    let image = journal.strip_suffix(".zsap.journal").unwrap();
                    let state = under_way(Path::new(image)).map(|work| work.state);
                    assert!(state.is_none_or(|state| state == UnderWayState::OfOtherFiles), "{journal}: {state:?}");
                    for ended in
                        [resume(Path::new(&journal), &[]).map(|_| ()), abandon(Path::new(&journal), &[]).map(|_| ())]
                    {
                        // A transplant's only journal stands beside the child; its base is another folder's.
                        assert!(
                            matches!(ended, Err(Error::Refused(Refusal::OtherFiles { .. }, _))),
                            "{act:?} {journal}: {ended:?}"
                        );
                        refused += 1;
                    }
                }
                std::fs::remove_dir_all(&inside).unwrap();
                assert!(contents(&stage.cast.root) == before, "{act:?} {fail_from}");
                stage.cast.finish("the original goes on");
                stage.judge(&[(act, true)], &format!("{act:?} {fail_from}"));
            }
        }
    }
    assert!(worked > 8 && refused > 50, "{worked} worked, {refused} refused");
}

/// A copy of a journal that comes back alone, after its work was finished or given up, is told for what it is.
#[test]
fn a_copy_of_a_journal_that_is_back_alone_holds_up_nobody() {
    for format in [Format::Vhdx, Format::Vhd] {
        for (direction, keep) in [
            (Direction::IntoParent, KeepName::Parent),
            (Direction::IntoParent, KeepName::Child),
            (Direction::IntoChild, KeepName::Child),
            (Direction::IntoChild, KeepName::Parent),
        ] {
            for given_up in [false, true] {
                let folder = quick_folder();
                let ([_, layer, now], mut content) = line(folder.path(), format);
                let recorder = HostRecorder::start(folder.path()).unwrap();
                recorder.fail_from(25);
                let merge = Merge::new(&now).with_direction(direction).with_name_of(keep).plan().unwrap();
                assert!(matches!(merge.run(&Progress::new()), Err(Error::UnderWay { .. })));
                drop((merge, recorder));
                let state = |image: &Path| under_way(image).unwrap().state;
                assert_eq!(state(&now), UnderWayState::CutShort);
                let somebody = FileStorage::open(&journal_of(&now), Access::Write).unwrap();
                assert_eq!(state(&now), UnderWayState::Held);
                drop(somebody);
                let saved = std::fs::read(journal_of(&layer)).unwrap();
                match given_up {
                    true => _ = abandon(&now, &[]).unwrap(),
                    false => _ = resume(&now, &[]).unwrap(),
                }
                let result = if keep == KeepName::Parent && !given_up { &layer } else { &now };
                std::fs::write(journal_of(&layer), saved).unwrap();
                assert_eq!(state(&layer), UnderWayState::Over);
                if given_up {
                    _ = abandon(&journal_of(&layer), &[]).unwrap();
                } else {
                    let resumed = resume(&journal_of(&layer), &[]).unwrap();
                    assert!(matches!(resumed, Resumed::Over(_)), "{resumed:?}");
                }
                assert_eq!(under_way(result), None);
                content.assert_same(&Chain::open(result, &OpenOptions::new()).unwrap());
                write(result, 7 << 20, 9);
                content.fill(7 << 20, 4096, 9);
                content.assert_same(&Chain::open(result, &OpenOptions::new()).unwrap());
            }
        }
    }
}

/// A merge whose data is moved and whose names are not: the file that is to go is the one that was merged, and no other
/// that came under its name; and whoever holds it is not robbed of it.
#[test]
fn only_what_was_merged_is_removed() {
    for (direction, keep, goes) in [
        (Direction::IntoParent, KeepName::Parent, 2),
        (Direction::IntoParent, KeepName::Child, 1),
        (Direction::IntoChild, KeepName::Child, 1),
    ] {
        for held in [false, true] {
            let folder = quick_folder();
            let (files, content) = line(folder.path(), Format::Vhdx);
            let request = || Merge::new(&files[2]).with_direction(direction).with_name_of(keep);
            let recorder = HostRecorder::start(folder.path()).unwrap();
            request().plan().unwrap().run(&Progress::new()).unwrap();
            let changes = recorder.changes();
            let is_moved = |change: &HostChange| match change {
                HostChange::Content(_, FileChange::Write(_, bytes), _) => bytes.ends_with(b"\"moved\"\n"),
                _ => false,
            };
            let moved = changes.iter().position(is_moved).unwrap() + 2;
            recorder.rewind().unwrap();
            recorder.fail_from(moved);
            assert!(request().plan().unwrap().run(&Progress::new()).is_err());
            drop(recorder);
            let (result, name) = (if keep == KeepName::Parent { &files[1] } else { &files[2] }, &files[goes]);
            if held {
                // Somebody who opened it before there was a journal.
                let lock = FileStorage::open(name, Access::AmendMetadata).unwrap();
                let Err(Error::UnderWay { source, .. }) = resume(&files[2], &[]) else { panic!() };
                assert!(matches!(*source, Error::Refused(Refusal::InUse { .. }, _)), "{source}");
                let there = std::fs::metadata(name).unwrap();
                assert_eq!((there.dev(), there.ino()), lock.host_identity().unwrap());
            } else if name == result || direction == Direction::IntoParent && keep == KeepName::Child {
                // It is renamed, not removed.
                continue;
            } else {
                // Another file, with the very same content and identity, has its name.
                std::fs::copy(name, folder.path().join("kept")).unwrap();
                std::fs::remove_file(name).unwrap();
                std::fs::rename(folder.path().join("kept"), name).unwrap();
            }
            resume(&files[2], &[]).unwrap();
            assert_eq!(name.exists(), !held, "{direction:?} {keep:?}");
            content.assert_same(&Chain::open(result, &OpenOptions::new()).unwrap());
        }
    }
    // The same for a plain removal, and for what was planned with a file that has another one in its place by now.
    let folder = quick_folder();
    let ([_, layer, now], _) = line(folder.path(), Format::Vhdx);
    let plan = Remove::new(&now).plan().unwrap();
    std::fs::copy(&now, folder.path().join("kept")).unwrap();
    std::fs::rename(folder.path().join("kept"), &now).unwrap();
    assert!(matches!(plan.run(&Progress::new()), Err(Error::Refused(Refusal::SourceChanged { .. }, _))));
    assert!(now.exists());
    let plan = Relink::new(&now).with_parent(layer).plan().unwrap();
    std::fs::copy(&now, folder.path().join("kept")).unwrap();
    std::fs::rename(folder.path().join("kept"), &now).unwrap();
    assert!(matches!(plan.run(&Progress::new()), Err(Error::Refused(Refusal::SourceChanged { .. }, _))));
}

/// Marks of how far a merge is count only while what it reads is what it was.
#[test]
fn marks_are_not_trusted_when_what_was_read_was_touched() {
    for format in [Format::Vhdx, Format::Vhd] {
        {
            // What goes into the child is its own from then on, whatever becomes of the parent.
            let folder = quick_folder();
            let (files, mut content) = line(folder.path(), format);
            let request = || Merge::new(&files[2]).with_direction(Direction::IntoParent);
            let recorder = HostRecorder::start(folder.path()).unwrap();
            // The first byte of the disk that the merge moves.
            let (reads, at) = (2, 2 << 20);
            let cut = (0..200).find(|change| {
                recorder.rewind().unwrap();
                recorder.fail_from(*change);
                _ = request().plan().unwrap().run(&Progress::new());
                std::fs::read_to_string(journal_of(&files[2])).is_ok_and(|text| text.contains("\"upto\""))
            });
            assert!(cut.is_some());
            drop(recorder);
            // The file changes behind everybody's back, its identity does not.
            let (_, place) = Chain::open(&files[reads], &OpenOptions::new().without_locks())
                .unwrap()
                .extent_at(at, 512)
                .unwrap()
                .data
                .unwrap();
            Unasking::open(&files[reads]).write_at(&[0xAB; 512], place).unwrap();
            content.fill(at, 512, 0xAB);
            resume(&files[2], &[]).unwrap();
            content.assert_same(&Chain::open(&files[2], &OpenOptions::new()).unwrap());
        }
    }
}

/// Layers between show other content while their ancestor takes in the child's: whoever grew from one of them without
/// our knowing reads right or not at all, in the middle and after giving up.
#[test]
fn a_stray_child_of_a_layer_between_never_reads_wrong_data() {
    let mut loud = 0;
    for format in [Format::Vhdx, Format::Vhd] {
        let folder = quick_folder();
        std::fs::create_dir(folder.path().join("stray")).unwrap();
        let root = folder.path().canonicalize().unwrap();
        let ([base, layer, now], _) = line(&root, format);
        write(&now, 0, 0x33);
        let stray = root.join("stray").join(format!("stray.{format}"));
        let expected = {
            derive(&layer, &stray, false);
            let mut before = Model::default();
            before.fill(0, 3 << 19, 1);
            before.fill(1 << 20, 3 << 19, 2);
            before
        };
        std::fs::remove_file(crate::sidecars::companion_of(&layer)).unwrap();
        let request = || {
            Merge::new(&now)
                .with_ancestor(base.clone())
                .with_direction(Direction::IntoParent)
                .with_name_of(KeepName::Parent)
        };
        let recorder = HostRecorder::start(&root).unwrap();
        let mut stray_reads = |when: &str| match Chain::open(&stray, &OpenOptions::new()) {
            Ok(chain) => expected.assert_same(&chain),
            Err(Error::Parent(_)) => loud += 1,
            Err(other) => panic!("{when}: {other}"),
        };
        for fail_from in 0.. {
            recorder.rewind().unwrap();
            recorder.fail_from(fail_from);
            let ended = request().plan().unwrap().run(&Progress::new());
            recorder.stop();
            stray_reads(&format!("{format} cut at {fail_from}"));
            if ended.is_ok() {
                break;
            }
            if journal_of(&now).exists() && abandon(&now, &[]).is_ok() {
                stray_reads(&format!("{format} given up at {fail_from}"));
                Chain::open(&now, &OpenOptions::new()).unwrap();
            }
        }
    }
    assert!(loud > 10, "{loud}");
}

fn every() -> bool {
    std::env::var_os("ZSAP_EVERY_STATE").is_some()
}
