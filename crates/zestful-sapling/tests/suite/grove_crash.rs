//! Loss of power, a host that is full, a change that fails once, a killed command: at every moment of a checkpoint, a
//! way back, a forgetting. The next command finds the old state or the new one, on all disks alike.

use std::collections::BTreeSet;
use std::path::PathBuf;

use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::error::Error;
use zestful_sapling::family::Health;
use zestful_sapling::grove::{CopyGrove, Forget, Grove, Limits, Present, Revert, TakeCheckpoint, Which, status_of};
use zestful_sapling::image::Format;
use zestful_sapling::storage::testing::{Fault, HostRecorder};

use crate::machine::{Machine, files_below};
use crate::support::{abandon, perform, resume};

/// What is done to a machine with this tree:
///
/// ```text
/// first ── second ── third
///             └───── present
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Work {
    Take,
    Keep,
    Discard,
    ForgetFirst,
    ForgetSecond,
    ForgetThird,
}

pub const WORKS: [Work; 6] =
    [Work::Take, Work::Keep, Work::Discard, Work::ForgetFirst, Work::ForgetSecond, Work::ForgetThird];

pub fn machine() -> Machine {
    let mut machine = Machine::new(&[Format::Vhdx, Format::Vhd]);
    for (number, name) in ["first", "second", "third"].into_iter().enumerate() {
        for disk in 0..2 {
            // A block that holds nothing but zeros.
            machine.write(disk, 1500, 0);
            for unit in [0, 1, 40 + number as u64, 300 * number as u64] {
                machine.write(disk, unit, 10 * number as u8 + disk as u8 + 1);
            }
        }
        machine.take(name);
    }
    machine.revert("second", None);
    for disk in 0..2 {
        machine.write(disk, 1501, 0);
        machine.write(disk, 1, 99);
        machine.write(disk, 1000, 99);
    }
    machine
}

impl Work {
    pub fn run(self, folder: &std::path::Path) -> zestful_sapling::Result<()> {
        let forget = |name: &str| perform(Forget::new(folder, Which::Named(name.to_owned()))).map(|_| ());
        match self {
            Work::Take => perform(TakeCheckpoint::new(folder, "new").with_note("n")).map(|_| ()),
            Work::Keep => perform(Revert::new(folder, "third", Present::KeptAs("new".to_owned()))).map(|_| ()),
            Work::Discard => perform(Revert::new(folder, "third", Present::Discarded)).map(|_| ()),
            Work::ForgetFirst => forget("first"),
            Work::ForgetSecond => forget("second"),
            Work::ForgetThird => forget("third"),
        }
    }

    /// What the machine should be afterwards.
    pub fn note(self, machine: &mut Machine) {
        match self {
            Work::Take => machine.note_taken("new", "n"),
            Work::Keep => machine.note_reverted("third", Some("new")),
            Work::Discard => machine.note_reverted("third", None),
            Work::ForgetFirst => machine.note_forgotten("first"),
            Work::ForgetSecond => machine.note_forgotten("second"),
            Work::ForgetThird => machine.note_forgotten("third"),
        }
    }
}

/// The machine before and after some work, which stands in one folder.
struct Case {
    old: Machine,
    new: Expected,
}

/// What is to be found afterwards.
struct Expected {
    present: crate::machine::Moment,
    after: Option<String>,
    checkpoints: std::collections::BTreeMap<String, crate::machine::Known>,
}

impl Case {
    fn new(work: Work) -> Self {
        let mut machine = machine();
        let before = (machine.present.clone(), machine.after.clone(), machine.checkpoints.clone());
        work.note(&mut machine);
        let new = Expected {
            present: std::mem::replace(&mut machine.present, before.0),
            after: std::mem::replace(&mut machine.after, before.1),
            checkpoints: std::mem::replace(&mut machine.checkpoints, before.2),
        };
        Self { old: machine, new }
    }

    /// Whether the new state is there; the content of the present tells, or else the checkpoints.
    fn is_new(&self) -> bool {
        let grove = Grove::open(&self.old.folder).unwrap();
        let named: BTreeSet<&str> =
            grove.catalogue().checkpoints.iter().filter_map(|one| one.name.as_deref()).collect();
        let after = grove.catalogue().named_from(grove.catalogue().after).and_then(|one| one.name.clone());
        named == self.new.checkpoints.keys().map(String::as_str).collect() && after == self.new.after
    }

    /// Runs `act` as if the other state were the machine's.
    fn as_new<T>(&mut self, act: impl FnOnce(&Machine) -> T) -> T {
        let swap = |case: &mut Self| {
            std::mem::swap(&mut case.old.present, &mut case.new.present);
            std::mem::swap(&mut case.old.after, &mut case.new.after);
            std::mem::swap(&mut case.old.checkpoints, &mut case.new.checkpoints);
        };
        swap(self);
        let found = act(&self.old);
        swap(self);
        found
    }

    /// At this moment, before any other command: every current path has a whole image, with the old content or the new.
    fn judge_cut_short(&self, when: &str) {
        for (number, path) in self.old.disks.iter().enumerate() {
            let chain = Chain::open(path, &OpenOptions::new());
            let chain = chain.unwrap_or_else(|error| panic!("{when}: {}: {error}", path.display()));
            let reads = |content: &crate::support::Model| {
                std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| content.assert_same(&chain))).is_ok()
            };
            let (old, new) = (&self.old.present[number], &self.new.present[number]);
            // Without the noise of the first comparison where both are the same.
            if old.units == new.units {
                old.assert_same(&chain);
            } else {
                assert!(reads(old) || reads(new), "{when}: {} reads as neither", path.display());
            }
        }
    }

    /// All is as before, or all as after.
    fn judge(&mut self, when: &str) -> bool {
        let is_new = self.is_new();
        match is_new {
            true => self.as_new(|machine| machine.judge(&format!("{when}, done"))),
            false => self.old.judge(&format!("{when}, taken back")),
        }
        is_new
    }
}

fn quietly<T>(act: impl FnOnce() -> T) -> T {
    let hook = std::panic::take_hook();
    std::panic::set_hook(Box::new(|info| {
        // A comparison that is allowed to fail is told of nowhere.
        if !std::backtrace::Backtrace::force_capture().to_string().contains("judge_cut_short") {
            eprintln!("{info}");
        }
    }));
    let found = act();
    std::panic::set_hook(hook);
    found
}

/// What the next command does: finish by itself whatever is left, carry it on, or give it up.
pub fn settle(folder: &std::path::Path, how: usize, when: &str) {
    if !folder.join("grove.journal").exists() {
        return;
    }
    let settled = match how % 3 {
        0 => resume(folder, &[]).map(|_| ()),
        1 => abandon(folder, &[]).map(|_| ()).or_else(|_| resume(folder, &[]).map(|_| ())),
        _ => match perform(zestful_sapling::grove::TakeCheckpoint::new(folder, "probe")) {
            Ok(_) => perform(Forget::new(folder, Which::Named("probe".to_owned()))).map(|_| ()),
            // What takes long is not finished by itself.
            Err(Error::Refused(zestful_sapling::Refusal::UnderWay { .. }, _)) => resume(folder, &[]).map(|_| ()),
            Err(error) => Err(error),
        },
    };
    settled.unwrap_or_else(|error| panic!("{when}: {}", error.with_causes()));
}

#[test]
fn every_crash_state_is_the_old_state_or_the_new_one() {
    let every = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 23 };
    let (mut states, mut done) = (0, 0);
    for work in WORKS {
        let mut case = Case::new(work);
        let root = case.old.root.path().canonicalize().unwrap();
        let recorder = HostRecorder::start(&root).unwrap();
        work.run(&case.old.folder).unwrap();
        let found = recorder.crash_states(7, 2).unwrap();
        recorder.stop();
        let end = found.iter().map(|(issued, _)| *issued).max();
        for (number, (issued, state)) in found.into_iter().enumerate() {
            let is_over = Some(issued) == end;
            if !is_over && !number.is_multiple_of(every) {
                continue;
            }
            recorder.restore(&state).unwrap();
            let when = format!("{work:?} after {issued} changes (state {number})");
            println!("{when}");
            quietly(|| case.judge_cut_short(&when));
            settle(&case.old.folder, number, &when);
            clear_left_over(&case.old.folder);
            let is_new = case.judge(&when);
            assert!(is_new || !is_over, "{when}: what returned is gone");
            states += 1;
            done += usize::from(is_new);
        }
    }
    assert!(states > 80 && done > 20 && states - done > 20, "{states} states, {done} of them done");
}

/// Names that nothing refers to, and that no command was asked to clear: of files that never got theirs.
pub fn clear_left_over(folder: &std::path::Path) {
    let is_partial = |path: &PathBuf| path.to_string_lossy().contains(".partial-");
    files_below(folder).iter().filter(|path| is_partial(path)).for_each(|path| std::fs::remove_file(path).unwrap());
}

#[test]
fn a_change_that_fails_loses_nothing_and_leaves_a_state_that_can_be_settled() {
    let every = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 7 };
    let (mut failures, mut number) = (0, 0);
    for work in WORKS {
        let mut case = Case::new(work);
        let root = case.old.root.path().canonicalize().unwrap();
        let recorder = HostRecorder::start(&root).unwrap();
        work.run(&case.old.folder).unwrap();
        let changes = recorder.asked();
        for at in 0..changes {
            for fault in [None, Some(Fault::Error(5)), Some(Fault::LostWrites)] {
                number += 1;
                if number % every != 0 {
                    continue;
                }
                recorder.rewind().unwrap();
                match fault {
                    None => recorder.fail_from(at),
                    Some(fault) => recorder.fail_once(at, fault),
                }
                let ended = work.run(&case.old.folder);
                recorder.stop();
                let when = format!("{work:?}, {fault:?} at change {at}: {ended:?}");
                if let Err(error) = &ended {
                    let is_told = matches!(error, Error::Io { .. } | Error::UnderWay { .. } | Error::Refused(..));
                    assert!(is_told, "{when}");
                    failures += 1;
                }
                quietly(|| case.judge_cut_short(&when));
                let is_begun = case.old.folder.join("grove.journal").exists();
                assert!(is_begun || !matches!(ended, Err(Error::UnderWay { .. })), "{when}");
                settle(&case.old.folder, number, &when);
                clear_left_over(&case.old.folder);
                let is_new = case.judge(&when);
                assert!(is_new || ended.is_err(), "{when}");
                // An error that left nothing behind means that nothing was done, but for the very last sync.
                let is_told = is_begun || ended.is_ok() || fault.is_some() || at + 1 == changes;
                assert!(!is_new || is_told, "{when}");
            }
        }
    }
    assert!(failures > 50, "{failures}");
}

/// A copy is there whole, or not at all; and the machine is as it was.
#[test]
fn a_copy_is_whole_or_not_there() {
    let every = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 29 };
    for flat in [false, true] {
        let mut machine = machine();
        let root = machine.root.path().canonicalize().unwrap();
        let (target, folder) = (root.join("copy"), machine.folder.clone());
        let recorder = HostRecorder::start(&root).unwrap();
        perform(CopyGrove::new(&folder, &target).flat(flat)).unwrap();
        let found = recorder.crash_states(3, 2).unwrap();
        recorder.stop();
        let end = found.iter().map(|(issued, _)| *issued).max();
        let (mut there, mut states) = (0, 0);
        for (number, (issued, state)) in found.into_iter().enumerate() {
            if Some(issued) != end && !number.is_multiple_of(every) {
                continue;
            }
            recorder.restore(&state).unwrap();
            let when = format!("flat {flat}, after {issued} changes (state {number})");
            states += 1;
            settle(&folder, number, &when);
            clear_left_over(&folder);
            machine.judge(&when);
            assert!(target.exists() || Some(issued) != end, "{when}");
            if target.exists() {
                there += 1;
                let here = (machine.folder.clone(), machine.disks.clone(), machine.checkpoints.clone());
                machine.disks = here.1.iter().map(|path| target.join(path.file_name().unwrap())).collect();
                machine.folder.clone_from(&target);
                machine.judge_content(&format!("{when}, the copy"));
                (machine.folder, machine.disks, machine.checkpoints) = here;
            }
        }
        assert!(there > 0 && there < states, "{there} of {states}");
        // A host that is full at any moment leaves nothing under that name.
        for fail_from in (0..).step_by(37) {
            recorder.rewind().unwrap();
            recorder.fail_from(fail_from);
            let ended = perform(CopyGrove::new(&folder, &target).flat(flat));
            recorder.stop();
            if ended.is_ok() {
                break;
            }
            settle(&folder, fail_from, "full");
            machine.judge(&format!("flat {flat}, full after {fail_from} changes"));
            assert!(!target.exists() || fail_from > 50, "{ended:?}");
        }
    }
}

/// A forgetting that was cut short in the middle of a merge is one thing that is unfinished, and is carried on as one.
#[test]
fn a_forgetting_is_told_once_whatever_it_had_begun() {
    let mut case = Case::new(Work::ForgetFirst);
    let root = case.old.root.path().canonicalize().unwrap();
    let folder = case.old.folder.clone();
    let recorder = HostRecorder::start(&root).unwrap();
    let mut met = 0;
    for at in (0..).step_by(3) {
        recorder.rewind().unwrap();
        recorder.fail_from(at);
        let ended = Work::ForgetFirst.run(&folder);
        recorder.stop();
        if ended.is_ok() {
            break;
        }
        let is_merging = files_below(&folder).iter().any(|path| path.to_string_lossy().ends_with(".zsap.journal"));
        if !is_merging || !folder.join("grove.journal").exists() {
            continue;
        }
        met += 1;
        let when = format!("after {at} changes");
        let status = status_of(&folder, &Limits::default()).unwrap();
        let works: Vec<_> = status.under_way.iter().map(|work| work.path.clone()).collect();
        assert!(works == std::slice::from_ref(&folder), "{when}: {works:?}");
        assert_eq!(status.state, Health::Unfinished, "{when}: {:?}", status.problems);
        if met % 4 == 0 {
            settle(&folder, 0, &when);
            clear_left_over(&folder);
            assert!(case.judge(&when), "{when}");
        }
    }
    assert!(met > 5, "{met}");
}
