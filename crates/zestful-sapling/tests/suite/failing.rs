//! Hosts that fail once, at any change, and programs that write without asking anybody.

use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::process::{Command, Stdio};

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions, SharedDisk};
use zestful_sapling::error::{Error, Hold, Holder, Refusal};
use zestful_sapling::family::{Health, Search, children_of, status_of};
use zestful_sapling::image::Format;
use zestful_sapling::storage::testing::{Fault, HostRecorder};

use crate::acts::{ACTS, Stage, is_orderly};
use crate::family_model::{make, quick_folder};

const EIO: i32 = 5;
const EACCES: i32 = 13;
const ENOSPC: i32 = 28;
const EDQUOT: i32 = 122;

/// Each write, rename, link, removal and sync fails once, or a sync tells of a loss once and is clean afterwards.
#[test]
fn a_change_that_fails_once_loses_nobodys_disk() {
    let faults = [EIO, ENOSPC, EDQUOT, EACCES].map(Fault::Error).into_iter().chain([Fault::LostWrites]);
    let faults: Vec<Fault> = faults.collect();
    let every = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 17 };
    let (mut number, mut runs, mut failed) = (0, 0, 0);
    for format in [Format::Vhdx, Format::Vhd] {
        let stage = Stage::new(format);
        let recorder = HostRecorder::start(&stage.cast.root).unwrap();
        for act in ACTS {
            recorder.rewind().unwrap();
            stage.cast.perform(act).unwrap();
            for (at, fault) in (0..recorder.asked()).flat_map(|at| faults.iter().map(move |fault| (at, *fault))) {
                number += 1;
                if number % every != 0 {
                    continue;
                }
                recorder.rewind().unwrap();
                recorder.fail_once(at, fault);
                let ended = stage.cast.perform(act);
                let when = format!("{format} {act:?}, change {at} fails with {fault:?}: {ended:?}");
                assert!(is_orderly(&ended), "{when}");
                stage.judge(&[(act, ended.is_ok())], &when);
                stage.cast.finish(&when);
                stage.judge(&[(act, ended.is_ok())], &format!("{when}, carried on"));
                runs += 1;
                if ended.is_err() {
                    failed += 1;
                    let again = stage.cast.perform(act);
                    assert!(is_orderly(&again), "{when}, then {again:?}");
                    stage.cast.finish(&when);
                    stage.judge(&[(act, again.is_ok())], &format!("{when}, again: {again:?}"));
                }
            }
        }
    }
    println!("{runs} runs, {failed} failed");
    assert!(runs > 200 && failed * 2 > runs, "{runs} runs, {failed} failed");
}

/// Whoever has a file open for writing, whatever lock that takes or does not take, stops each act that would change
/// it, and no other. The same with a mapping, and with a loop device's file as the kernel tells of it.
#[test]
fn who_writes_without_asking_stops_what_would_change_the_file() {
    let mut refusals = 0;
    for format in [Format::Vhdx, Format::Vhd] {
        let stage = Stage::new(format);
        let recorder = HostRecorder::start(&stage.cast.root).unwrap();
        let members = ["a/base", "a/mid", "b/low", "b/other", "c/child", "c/leaf"].map(|name| stage.cast.path(name));
        for member in &members {
            for (number, act) in ACTS.into_iter().enumerate() {
                recorder.rewind().unwrap();
                let mode = std::fs::metadata(member).unwrap().permissions();
                std::fs::set_permissions(member, PermissionsExt::from_mode(0o644)).unwrap();
                let file = std::fs::File::options().read(true).write(true).open(member).unwrap();
                std::fs::set_permissions(member, mode).unwrap();
                // In another process now and then; that takes longer.
                let other = number.is_multiple_of(6).then(|| {
                    let mut sleeper =
                        Command::new("sleep").arg("60").stdin(Stdio::from(file.try_clone().unwrap())).spawn();
                    let started = sleeper.as_mut().unwrap();
                    while std::fs::read_to_string(format!("/proc/{}/comm", started.id())).unwrap_or_default()
                        != "sleep\n"
                    {
                        std::thread::yield_now();
                    }
                    sleeper.unwrap()
                });
                let held = if other.is_some() {
                    drop(file);
                    None
                } else {
                    Some(file)
                };
                let ended = stage.cast.perform(act);
                let when = format!("{format} {act:?} while somebody writes to {}", member.display());
                match stage.cast.touched(act).contains(member) {
                    true => {
                        let is_unlocked = |holder: &Holder| holder.how == Hold::Unlocked;
                        let is_refused = matches!(&ended, Err(Error::Refused(Refusal::InUse { holder, .. }, _))
                            if holder.as_deref().is_some_and(is_unlocked));
                        assert!(is_refused, "{when}: {ended:?}");
                        assert_eq!(recorder.changes(), vec![], "{when}");
                        refusals += 1;
                    }
                    false => assert!(ended.is_ok(), "{when}: {ended:?}"),
                }
                drop(held);
                if let Some(mut sleeper) = other {
                    sleeper.kill().unwrap();
                    sleeper.wait().unwrap();
                }
                stage.judge(&[(act, ended.is_ok())], &when);
            }
        }
    }
    assert!(refusals > 50, "{refusals}");
}

/// A file with a second name is refused by every act that changes it, wherever the name stands.
#[test]
fn a_second_name_of_a_file_stops_what_would_change_it() {
    for format in [Format::Vhdx, Format::Vhd] {
        let stage = Stage::new(format);
        let recorder = HostRecorder::start(&stage.cast.root).unwrap();
        let elsewhere = crate::family_model::quick_folder();
        for act in ACTS {
            for member in stage.cast.touched(act) {
                recorder.rewind().unwrap();
                if member == stage.cast.path("c/child") && act == crate::acts::Act::MergeBelow {
                    // Its file stays as it is.
                    continue;
                }
                let second = elsewhere.path().join("second");
                std::fs::hard_link(&member, &second).unwrap();
                let ended = stage.cast.perform(act);
                let when = format!("{format} {act:?} with a second name of {}", member.display());
                assert!(matches!(&ended, Err(Error::Refused(Refusal::HardLinks { .. }, _))), "{when}: {ended:?}");
                assert_eq!(recorder.changes(), vec![], "{when}");
                std::fs::remove_file(second).unwrap();
            }
        }
    }
}

/// A companion that cannot be written, whatever the reason, stops what would grow from its image; nothing hangs.
#[test]
fn a_child_that_cannot_be_recorded_does_not_appear() {
    let stage = Stage::new(Format::Vhdx);
    let recorder = HostRecorder::start(&stage.cast.root).unwrap();
    let path = |name: &str| stage.cast.path(name);
    for kind in ["damaged", "newer", "folder", "pipe"] {
        // Whose companion it is, and what would have had to be recorded in it.
        for (of, act) in [
            ("c/child", crate::acts::Act::DeriveFromChild),
            ("a/base", crate::acts::Act::DeriveFromBase),
            ("c/child", crate::acts::Act::CopyOntoChild),
            ("b/other", crate::acts::Act::Transplant),
            ("c/child", crate::acts::Act::Relink),
        ] {
            recorder.rewind().unwrap();
            let companion = crate::sidecars::companion_of(&path(of));
            let kept = std::fs::read(&companion).ok();
            _ = std::fs::remove_file(&companion);
            match kind {
                "damaged" => std::fs::write(&companion, "{").unwrap(),
                "newer" => std::fs::write(&companion, "{\"version\": 9}").unwrap(),
                "folder" => std::fs::create_dir(&companion).unwrap(),
                _ => assert!(Command::new("mkfifo").arg(&companion).status().unwrap().success()),
            }
            let ended = stage.cast.perform(act);
            // A relink that changes nothing in the child has found it before, too.
            let is_refused =
                matches!(&ended, Err(Error::Refused(Refusal::Unrecorded { .. }, _) | Error::UnderWay { .. }));
            assert!(is_refused || act == crate::acts::Act::Relink && ended.is_ok(), "{kind} {act:?}: {ended:?}");
            if kind == "folder" {
                std::fs::remove_dir(&companion).unwrap();
            } else {
                std::fs::remove_file(&companion).unwrap();
            }
            if let Some(kept) = kept {
                std::fs::write(&companion, kept).unwrap();
            }
            stage.cast.finish(kind);
            stage.judge(&[(act, ended.is_ok())], &format!("{kind} {act:?}"));
        }
    }
    // A pipe in a journal's place is told, and stops the image only.
    recorder.rewind().unwrap();
    let journal = crate::sidecars::journal_of(&path("b/other"));
    assert!(Command::new("mkfifo").arg(&journal).status().unwrap().success());
    assert!(stage.cast.perform(crate::acts::Act::WriteOther).is_err());
    assert!(status_of(&stage.cast.root.join("b")).unwrap().state > Health::Attention);
    stage.cast.perform(crate::acts::Act::DeriveFromChild).unwrap();
    std::fs::remove_file(journal).unwrap();
    stage.judge(&[(crate::acts::Act::DeriveFromChild, true)], "a pipe beside another image");
    let found = children_of(&path("c/child"), &Search::default()).unwrap();
    assert_eq!((found.children.len(), found.unknown), (2, vec![]));
    assert!(std::fs::metadata(path("c/child")).unwrap().nlink() == 1);
}

/// A closing fails at any of its changes, and whoever uses the disk goes on: what is flushed then is durable, or the
/// flush fails. Closing it again leaves it tidy.
#[test]
fn what_is_flushed_after_a_closing_that_failed_is_durable() {
    let mut went_on = 0;
    for (format, fault) in [Format::Vhdx, Format::Vhd].into_iter().flat_map(|format| {
        [Fault::Error(ENOSPC), Fault::Error(EIO), Fault::LostWrites].map(move |fault| (format, fault))
    }) {
        let folder = quick_folder();
        let root = folder.path().canonicalize().unwrap();
        let image = root.join(format!("fen-base.{format}"));
        make(&image);
        let recorder = HostRecorder::start(&root).unwrap();
        for at in 0.. {
            recorder.rewind().unwrap();
            let disk = SharedDisk::new(ChainMut::open(&image, &OpenOptions::new()).unwrap());
            disk.write_at(&[1; 4096], 0).unwrap();
            recorder.fail_once(recorder.asked() + at, fault);
            let closed = disk.settle();
            recorder.stop();
            let when = format!("{format}, change {at} of the closing, {fault:?}: {closed:?}");
            let flushed = disk.write_at(&[2; 4096], 5 << 20).and_then(|()| disk.flush());
            if at % 2 == 0 && flushed.is_ok() {
                disk.settle().unwrap_or_else(|error| panic!("{when}, again: {error}"));
            }
            drop(disk);
            let chain = Chain::open(&image, &OpenOptions::new()).unwrap_or_else(|error| panic!("{when}: {error}"));
            let mut found = [0; 4096];
            for (byte, place) in [(1, 0), (2, 5 << 20)].into_iter().filter(|_| flushed.is_ok()) {
                chain.read_at(&mut found, place).unwrap();
                assert!(found == [byte; 4096], "{when}: what was flushed at byte {place} is lost");
            }
            went_on += usize::from(flushed.is_ok() && closed.is_err());
            if closed.is_ok() {
                break;
            }
        }
    }
    assert!(went_on > 10, "{went_on}");
}
