//! Checkpoints of a machine that runs: this process has its disks open, somebody writes to them, and the images change
//! under those who do.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions, SharedDisk};
use zestful_sapling::error::Error;
use zestful_sapling::finding::Severity;
use zestful_sapling::grove::{AddDisk, Grove, Role, TakeCheckpoint, TakeOutcome};
use zestful_sapling::image::Format;
use zestful_sapling::ops::CopyDisk;
use zestful_sapling::storage::testing::{Fault, HostRecorder};
use zestful_sapling::{Refusal, Result};

use crate::family_model::make;
use crate::grove_crash::{clear_left_over, machine, settle};
use crate::machine::Machine;
use crate::support::perform;

const KIB: u64 = 1 << 10;

fn open(machine: &Machine) -> Vec<Arc<SharedDisk>> {
    let open = |path: &PathBuf| Arc::new(SharedDisk::new(ChainMut::open(path, &OpenOptions::new()).unwrap()));
    machine.disks.iter().map(open).collect()
}

fn take(folder: &Path, name: &str, disks: &[Arc<SharedDisk>]) -> Result<TakeOutcome> {
    perform(TakeCheckpoint::new(folder, name).with_note("n").of_running(disks.to_vec()))
}

fn is_known(machine: &Machine, name: &str) -> bool {
    Grove::open(&machine.folder).unwrap().checkpoint(name).is_ok()
}

/// Writes to all disks, and says so in the model; `false` when a disk takes no more writes, since a sync failed.
fn write_all(machine: &mut Machine, disks: &[Arc<SharedDisk>], unit: u64, byte: u8) -> bool {
    let mut all = true;
    for (number, disk) in disks.iter().enumerate() {
        match disk.write_at(&[byte; 4096], unit * 4096).and_then(|()| disk.flush()) {
            Ok(()) => machine.present[number].fill(unit * 4096, 4096, byte),
            Err(Error::Refused(Refusal::EarlierFailure { .. }, _)) => all = false,
            Err(error) => panic!("{error}"),
        }
    }
    all
}

/// Everybody sees through the open disks what the model says.
fn assert_open(machine: &Machine, disks: &[Arc<SharedDisk>], when: &str) {
    for (disk, content) in disks.iter().zip(&machine.present) {
        for (unit, byte) in &content.units {
            let mut found = [0; 512];
            disk.read_at(&mut found, unit * 512).unwrap();
            assert_eq!(found, [*byte; 512], "{when}: unit {unit}");
        }
    }
}

/// What one process writes to two disks in turn is one moment in each checkpoint; readers of checkpoints copy them
/// meanwhile; a third disk is written to by several threads.
#[test]
fn a_checkpoint_of_a_machine_that_runs_is_one_moment_on_all_disks() {
    let machine = Machine::new(&[Format::Vhdx, Format::Vhd, Format::Vhdx]);
    let disks = open(&machine);
    let (over, told) = (AtomicBool::new(false), AtomicU64::new(0));
    let places = (0..64u64).map(|place| place * 96 * KIB).collect::<Vec<_>>();
    std::thread::scope(|scope| {
        scope.spawn(|| {
            for number in 1u64.. {
                for disk in &disks[..2] {
                    let mut sector = [0; 512];
                    sector[..8].copy_from_slice(&number.to_le_bytes());
                    let place = places[number as usize % places.len()];
                    disk.write_at(&sector, MIB + place).unwrap();
                    disk.write_at(&sector, 0).unwrap();
                }
                if number % 16 == 0 {
                    disks[0].flush().unwrap();
                }
                told.store(number, Ordering::Release);
                if over.load(Ordering::Acquire) {
                    return;
                }
            }
        });
        for thread in 0..3u64 {
            let (disk, over) = (&disks[2], &over);
            scope.spawn(move || {
                for round in 0u64.. {
                    let byte = (round % 250 + 1) as u8;
                    disk.write_at(&[byte; 4096], (thread * 500 + round % 500) * 4096).unwrap();
                    let mut found = [0; 4096];
                    disk.read_at(&mut found, (thread * 500 + round % 500) * 4096).unwrap();
                    assert!(found == [byte; 4096], "a write is lost in round {round}");
                    if over.load(Ordering::Acquire) {
                        return;
                    }
                }
            });
        }
        let mut least = 0;
        for number in 0..20 {
            while told.load(Ordering::Acquire) < least + 3 {
                std::thread::yield_now();
            }
            least = told.load(Ordering::Acquire);
            let name = format!("moment-{number}");
            let outcome = take(&machine.folder, &name, &disks).unwrap_or_else(|error| panic!("{error}"));
            assert!(outcome.paused_milliseconds.is_some() && outcome.begun.is_none());
            let most = told.load(Ordering::Acquire) + 1;
            let grove = Grove::open(&machine.folder).unwrap();
            let read = |label: &str| {
                let place = grove.place(Some(label), Some(&name)).unwrap();
                let copy = machine.root.path().join(format!("{name}-{label}.vhdx"));
                perform(CopyDisk::new(&place.path, &copy)).unwrap();
                let chain = Chain::open(&place.path, &OpenOptions::new()).unwrap();
                let copied = Chain::open(&copy, &OpenOptions::new()).unwrap();
                let mut found = [0; 512];
                let mut other = [0; 512];
                chain.read_at(&mut found, 0).unwrap();
                copied.read_at(&mut other, 0).unwrap();
                assert_eq!(found, other);
                u64::from_le_bytes(found[..8].try_into().unwrap())
            };
            let (first, second) = (read("disk-0"), read("disk-1"));
            assert!(first == second || first == second + 1, "{name}: {first} and {second}");
            assert!((least..=most).contains(&first), "{name}: {first} is not from {least} to {most}");
        }
        over.store(true, Ordering::Release);
    });
    assert_eq!(disks[0].layers(), 21);
    disks.iter().for_each(|disk| disk.settle().unwrap());
    drop(disks);
    let last = told.load(Ordering::Acquire);
    for path in &machine.disks[..2] {
        let mut found = [0; 512];
        Chain::open(path, &OpenOptions::new()).unwrap().read_at(&mut found, 0).unwrap();
        assert!(u64::from_le_bytes(found[..8].try_into().unwrap()) <= last);
    }
    for path in &machine.disks {
        let report = crate::support::check_chain(path, None).unwrap();
        let bad = report.findings.iter().find(|found| found.severity() == Severity::Error);
        assert!(bad.is_none(), "{bad:?}");
    }
}

const MIB: u64 = 1 << 20;

/// Whichever change fails: those who use the disks go on with what they had, and the machine ends in the old state or
/// the new one.
#[test]
fn a_change_that_fails_keeps_nobody_from_their_disks() {
    let every = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 5 };
    let machine = machine();
    let root = machine.root.path().canonicalize().unwrap();
    let known = (machine.present.clone(), machine.after.clone(), machine.checkpoints.clone());
    let mut machine = machine;
    let recorder = HostRecorder::start(&root).unwrap();
    let (first, changes) = {
        let disks = open(&machine);
        write_all(&mut machine, &disks, 5, 77);
        let first = recorder.asked();
        take(&machine.folder, "new", &disks).unwrap();
        (first, recorder.asked())
    };
    let (mut number, mut looked, mut taken, mut finished, mut lost, mut stuck) = (0, 0, 0, 0, 0, 0);
    for at in first..changes {
        for fault in [None, Some(Fault::Error(5)), Some(Fault::LostWrites)] {
            number += 1;
            if number % every != 0 {
                continue;
            }
            recorder.rewind().unwrap();
            (machine.present, machine.after, machine.checkpoints) = known.clone();
            let disks = open(&machine);
            assert!(write_all(&mut machine, &disks, 5, 77));
            match fault {
                None => recorder.fail_from(at),
                Some(fault) => recorder.fail_once(at, fault),
            }
            let ended = take(&machine.folder, "new", &disks);
            recorder.stop();
            let when = format!("{fault:?} at change {at}: {ended:?}");
            println!("{when}");
            assert_open(&machine, &disks, &when);
            let (before, after) = (machine.present.clone(), machine.after.clone());
            let goes_on = write_all(&mut machine, &disks, 6, 88);
            // A sync that failed is final, and so is a disk that cannot be opened again.
            assert!(goes_on || ended.is_err(), "{when}");
            let is_left = matches!(ended, Err(Error::Refused(Refusal::EarlierFailure { .. }, _)));
            assert!(!is_left || !goes_on, "{when}: nobody knows what is written then");
            looked += 1;
            lost += usize::from(!goes_on);
            let mut must_be_stuck = false;
            // Sometimes the process ends here, without closing; else the next checkpoint finishes this one.
            let again = match number / every % 3 {
                0 => None,
                _ if !goes_on => None,
                _ => Some(take(&machine.folder, "again", &disks)),
            };
            let again = match again {
                Some(Err(Error::Refused(Refusal::UnderWay { .. }, _))) => {
                    must_be_stuck = true;
                    false
                }
                Some(Err(error)) => panic!("{when}, and then: {}", error.with_causes()),
                Some(Ok(outcome)) => {
                    finished += usize::from(outcome.begun.is_some());
                    true
                }
                None => false,
            };
            drop(disks);
            settle(&machine.folder, number, &when);
            clear_left_over(&machine.folder);
            // Some disks were switched and others not, and somebody wrote to them: each stays as it reads.
            let grove = Grove::open(&machine.folder).unwrap();
            if grove.catalogue().checkpoints.iter().any(|one| one.name.as_deref() == Some("unfinished-5")) {
                assert!(ended.is_err() && !again, "{when}");
                machine.judge_content(&when);
                stuck += 1;
                continue;
            }
            assert!(!must_be_stuck, "{when}");
            let present = std::mem::replace(&mut machine.present, before);
            machine.after = after;
            if is_known(&machine, "new") {
                machine.note_taken("new", "n");
                taken += 1;
            } else {
                assert!(ended.is_err(), "{when}");
            }
            machine.present = present;
            if again {
                machine.note_taken("again", "n");
            }
            machine.judge(&when);
        }
    }
    let seen = format!(
        "{looked} failures: {taken} taken, {finished} of them finished later, {lost} disks left, {stuck} stuck"
    );
    assert!(taken > 3 && finished > 0 && (lost + stuck) * 3 < looked, "{seen}");
    println!("{seen}");
}

/// Power is lost at any moment, while somebody writes before, and after.
#[test]
fn what_a_guest_was_told_is_durable_survives_whatever_happens_to_the_checkpoint() {
    let every = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 13 };
    let mut machine = machine();
    let root = machine.root.path().canonicalize().unwrap();
    let recorder = HostRecorder::start(&root).unwrap();
    let disks = open(&machine);
    write_all(&mut machine, &disks, 5, 77);
    let written = recorder.asked();
    take(&machine.folder, "new", &disks).unwrap();
    let taken = recorder.asked();
    let known = (machine.present.clone(), machine.after.clone(), machine.checkpoints.clone());
    write_all(&mut machine, &disks, 5, 88);
    write_all(&mut machine, &disks, 900, 88);
    drop(disks);
    let states = recorder.crash_states(11, 2).unwrap();
    recorder.stop();
    let end = states.iter().map(|(issued, _)| *issued).max().unwrap();
    let mut seen = [0; 2];
    for (number, (issued, state)) in states.into_iter().enumerate() {
        if issued < written || issued != end && !number.is_multiple_of(every) {
            continue;
        }
        let when = format!("after {issued} changes (state {number})");
        println!("{when}");
        recorder.restore(&state).unwrap();
        settle(&machine.folder, number, &when);
        clear_left_over(&machine.folder);
        (machine.present, machine.after, machine.checkpoints) = known.clone();
        let is_taken = is_known(&machine, "new");
        assert!(is_taken || issued < taken, "{when}");
        seen[usize::from(is_taken)] += 1;
        if is_taken {
            machine.note_taken("new", "n");
        }
        // What was written later is there or not, and what was flushed is.
        for disk in 0..machine.disks.len() {
            let chain = Chain::open(&machine.disks[disk], &OpenOptions::new()).unwrap();
            for (unit, old) in [(5, 77), (900, 0)] {
                for sector in unit * 8..unit * 8 + 8 {
                    let old = if unit == 900 { known.0[disk].at(sector) } else { old };
                    let mut found = [0; 512];
                    chain.read_at(&mut found, sector * 512).unwrap();
                    assert!(found == [old; 512] || found == [88; 512] && issued > taken, "{when}: unit {unit}");
                    assert!(found == [88; 512] || issued < end, "{when}: unit {unit}");
                    machine.present[disk].fill(sector * 512, 512, found[0]);
                }
            }
        }
        machine.judge(&when);
    }
    assert!(seen[0] > 3 && seen[1] > 3, "{seen:?}");
}

/// What is refused is refused before anybody waits, and nothing has changed.
#[test]
fn a_checkpoint_that_cannot_be_taken_leaves_a_running_machine_alone() {
    let mut machine = Machine::new(&[Format::Vhdx, Format::Vhd]);
    let apart = machine.folder.join("swap.raw");
    make(&apart);
    perform(AddDisk::new(&machine.folder, &apart).with_role(Role::Apart)).unwrap();
    let disks = open(&machine);
    assert!(write_all(&mut machine, &disks, 5, 77));
    let refused = |name: &str, disks: &[Arc<SharedDisk>]| match take(&machine.folder, name, disks) {
        Err(Error::Refused(why, _)) => Some(why),
        Err(Error::Usage(_)) => None,
        other => panic!("{other:?}"),
    };
    assert_eq!(refused("new", &disks[..1]), Some(Refusal::NotAllDisks { missing: vec!["disk-1".to_owned()] }));
    assert!(refused("new", &[]).is_some());
    assert_eq!(refused("a/b", &disks), None);
    // A catalogue that was made anew takes every disk for a tracked one, also one whose format has no layers.
    let catalogue = machine.folder.join("grove.json");
    let told = std::fs::read_to_string(&catalogue).unwrap();
    std::fs::write(&catalogue, told.replace("\"apart\"", "\"tracked\"")).unwrap();
    let raw = Arc::new(SharedDisk::new(ChainMut::open(&apart, &OpenOptions::new()).unwrap()));
    let with_raw: Vec<_> = disks.iter().cloned().chain([raw]).collect();
    assert_eq!(refused("new", &with_raw), Some(Refusal::NoLayers { image: apart.clone() }));
    drop(with_raw);
    std::fs::write(&catalogue, told).unwrap();
    // A request of before that does not end: nobody waits for longer than was allowed.
    let root = machine.root.path().canonicalize().unwrap();
    let recorder = HostRecorder::start(&root).unwrap();
    let pause = recorder.pause_at(0);
    std::thread::scope(|scope| {
        let disk = &disks[0];
        let writing = scope.spawn(move || disk.write_at(&[9; 4096], 7 * 4096));
        while !pause.is_reached() {
            std::thread::sleep(Duration::from_micros(50));
        }
        let folder = machine.folder.clone();
        let request = TakeCheckpoint::new(&folder, "new").of_running(disks.clone());
        let ended = perform(request.with_pause_at_most(Duration::from_millis(30)));
        // Its own flush comes first, of which nobody has to wait for more than for any other.
        assert!(matches!(&ended, Err(Error::Refused(Refusal::PauseTooLong, _))), "{ended:?}");
        disks[1].write_at(&[9; 4096], 7 * 4096).unwrap();
        drop(pause);
        writing.join().unwrap().unwrap();
    });
    recorder.stop();
    for disk in 0..2 {
        machine.present[disk].fill(7 * 4096, 4096, 9);
    }
    let none = TakeCheckpoint::new(&machine.folder, "new").of_running(disks.clone());
    let ended = perform(none.with_pause_at_most(Duration::ZERO));
    assert!(matches!(&ended, Err(Error::Refused(Refusal::PauseTooLong, _))), "{ended:?}");
    assert_open(&machine, &disks, "refused");
    assert!(write_all(&mut machine, &disks, 8, 8));
    take(&machine.folder, "new", &disks).unwrap();
    machine.note_taken("new", "n");
    drop(disks);
    std::fs::remove_file(&apart).unwrap();
    perform(zestful_sapling::grove::ReleaseDisk::new(&machine.folder, "swap")).unwrap();
    machine.judge("at last");
}

/// What others do to the files beside us, with locks or without: it is refused, nobody's write is lost, and two who
/// want a checkpoint at once both get one, one after the other, or are told.
#[test]
fn whoever_else_is_at_the_files_of_a_running_machine_is_seen() {
    let mut machine = Machine::new(&[Format::Vhdx, Format::Vhd]);
    let disks = open(&machine);
    assert!(write_all(&mut machine, &disks, 5, 77));
    let (image, second) = (machine.disks[1].clone(), machine.root.path().join("second-name.vhd"));
    let why = |name: &str| match take(&machine.folder, name, &disks) {
        Err(Error::Refused(why, _)) => why,
        other => panic!("{other:?}"),
    };
    std::fs::hard_link(&image, &second).unwrap();
    assert!(matches!(why("new"), Refusal::HardLinks { .. }));
    std::fs::remove_file(&second).unwrap();
    // A program that takes no locks.
    let foreign = std::fs::OpenOptions::new().write(true).open(&image).unwrap();
    assert!(matches!(why("new"), Refusal::InUse { .. }));
    drop(foreign);
    // Another file under the name of a disk: what is open is none of the machine's.
    let aside = machine.folder.join("aside.vhd");
    std::fs::rename(&image, &aside).unwrap();
    std::fs::copy(&aside, &image).unwrap();
    assert!(matches!(why("new"), Refusal::NotAllDisks { .. }));
    std::fs::rename(&aside, &image).unwrap();
    assert_open(&machine, &disks, "refused");
    let (folder, all) = (machine.folder.clone(), &disks);
    let ended: Vec<(String, bool)> = std::thread::scope(|scope| {
        let both = ["left", "right"].map(|name| {
            (
                name,
                scope.spawn({
                    let folder = folder.clone();
                    move || take(&folder, name, all)
                }),
            )
        });
        both.into_iter()
            .map(|(name, taking)| match taking.join().unwrap() {
                Ok(_) => (name.to_owned(), true),
                Err(Error::Refused(Refusal::InUse { .. }, _)) => (name.to_owned(), false),
                Err(error) => panic!("{error}"),
            })
            .collect()
    });
    assert!(ended.iter().any(|(_, taken)| *taken), "{ended:?}");
    let grove = Grove::open(&folder).unwrap();
    for (name, taken) in &ended {
        assert_eq!(grove.checkpoint(name).is_ok(), *taken, "{name}");
    }
    // Those that are there, in the order in which they were taken.
    let mut there: Vec<_> = grove.catalogue().checkpoints.iter().collect();
    there.sort_by_key(|one| one.number);
    there.iter().for_each(|one| machine.note_taken(one.name.as_deref().unwrap(), "n"));
    assert!(write_all(&mut machine, &disks, 6, 88));
    drop(disks);
    machine.judge("two at once");
}
