//! Two commands at once, of which one works on a machine: one is stopped before each of its changes on the host, the
//! other runs to its end or its refusal, and the first goes on.

use zestful_sapling::chain::{ChainMut, OpenOptions};
use zestful_sapling::grove::{DescribeCheckpoint, Grove, ReleaseDisk};
use zestful_sapling::ops::{Compact, CopyDisk, Derive, Merge, MoveImage, NewSize, Operation, Planned, Resize};
use zestful_sapling::progress::Progress;
use zestful_sapling::repair::Resume;
use zestful_sapling::storage::testing::HostRecorder;

use crate::acts::is_orderly;
use crate::family_model::SIZE;
use crate::grove_crash::{WORKS, Work, machine};
use crate::machine::{Machine, assert_reads};
use crate::support::{Model, perform};

/// The sizes that disks get.
const GROWN: u64 = SIZE + (5 << 20);
const SHRUNK: u64 = SIZE - (1 << 20);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Act {
    Grove(Work),
    Rename,
    Release,
    Write,
    DeriveFromFirst,
    CopyOfThird,
    MergeByHand,
    MoveAway,
    Resume,
    Grow,
    /// Of a disk that stands on a base elsewhere, by a journal of its own.
    Shrink,
    /// A layer that a checkpoint keeps.
    CompactFirst,
    Reorder,
}

const OTHERS: [Act; 12] = [
    Act::Rename,
    Act::Release,
    Act::Write,
    Act::DeriveFromFirst,
    Act::CopyOfThird,
    Act::MergeByHand,
    Act::MoveAway,
    Act::Resume,
    Act::Grow,
    Act::Shrink,
    Act::CompactFirst,
    Act::Reorder,
];

fn acts() -> impl Iterator<Item = Act> {
    WORKS.into_iter().map(Act::Grove).chain(OTHERS)
}

/// What is read and judged, by whoever does it.
struct Stage {
    machine: Machine,
    first: Model,
    third: Model,
}

impl Stage {
    fn new() -> Self {
        let machine = machine();
        let content = |name: &str| machine.checkpoints[name].disks[0].clone();
        Self { first: content("first"), third: content("third"), machine }
    }

    fn outside(&self, name: &str) -> std::path::PathBuf {
        self.machine.root.path().canonicalize().unwrap().join(name)
    }

    fn perform(&self, act: Act) -> zestful_sapling::Result<()> {
        let (folder, disk) = (&self.machine.folder, &self.machine.disks[0]);
        let at = |name: &str| Grove::open(folder)?.place(Some("disk-0"), Some(name)).map(|place| place.path);
        let resize = |disk, to| perform(Resize::new(disk).with_size(NewSize::To(to))).map(|_| ());
        match act {
            Act::Grove(work) => work.run(folder),
            Act::Rename => perform(DescribeCheckpoint::new(folder, "first").with_note("another")).map(|_| ()),
            Act::Release => perform(ReleaseDisk::new(folder, "disk-1")).map(|_| ()),
            Act::Write => {
                let disk = ChainMut::open(disk, &OpenOptions::new())?;
                disk.write_at(&[0xEE; 4096], 5 << 20)?;
                disk.close()
            }
            Act::DeriveFromFirst => {
                let child = vec![self.outside("child.vhdx")];
                Derive::new(at("first")?, child).plan()?.run(&Progress::new()).map(|_| ())
            }
            Act::CopyOfThird => perform(CopyDisk::new(at("third")?, self.outside("copy.vhdx"))).map(|_| ()),
            Act::MergeByHand => perform(Merge::new(disk)).map(|_| ()),
            Act::MoveAway => perform(MoveImage::new(disk, self.outside("away.vhdx"))).map(|_| ()),
            Act::Resume => perform(Resume::new(folder)).map(|_| ()),
            Act::Grow => resize(disk, GROWN),
            Act::Shrink => resize(&self.machine.disks[1], SHRUNK),
            Act::CompactFirst => perform(Compact::new(at("first")?)).map(|_| ()),
            Act::Reorder => perform(Compact::new(disk).in_order(true)).map(|_| ()),
        }
    }

    /// The machine as it should be after what was done, in this order.
    fn expect(&mut self, done: &[Act]) {
        for act in done {
            match act {
                Act::Grove(work) => work.note(&mut self.machine),
                Act::Write => self.machine.present[0].fill(5 << 20, 4096, 0xEE),
                Act::Grow => self.machine.present[0].resize(GROWN),
                Act::Shrink => self.machine.present[1].resize(SHRUNK),
                Act::Rename => {
                    if let Some(first) = self.machine.checkpoints.get_mut("first") {
                        first.note = "another".to_owned();
                    }
                }
                _ => {}
            }
        }
    }
}

fn run(
    stage: &mut Stage,
    recorder: &HostRecorder,
    first: Act,
    second: Act,
    (at, changes): (usize, usize),
) -> Option<(bool, bool)> {
    recorder.rewind().unwrap();
    let before = (stage.machine.present.clone(), stage.machine.after.clone(), stage.machine.checkpoints.clone());
    let pause = recorder.pause_at(at);
    let when = format!("{first:?} stopped before change {at}, then {second:?}");
    let ended = std::thread::scope(|scope| {
        let running = scope.spawn(|| stage.perform(first));
        while !pause.is_reached() && !running.is_finished() {
            std::thread::sleep(std::time::Duration::from_micros(50));
        }
        if !pause.is_reached() {
            running.join().unwrap().unwrap_or_else(|error| panic!("{first:?} alone: {error}"));
            return None;
        }
        let other = stage.perform(second);
        assert!(is_orderly(&other), "{when}: {other:?}");
        drop(pause);
        let one = running.join().unwrap();
        assert!(is_orderly(&one), "{when}: {one:?}");
        Some((one, other))
    });
    let (one, other) = ended?;
    let when = format!("{when}, {one:?}, {other:?}");
    println!("{when}");
    // What one left unfinished is carried on.
    if stage.machine.folder.join("grove.journal").exists() {
        perform(Resume::new(&stage.machine.folder)).unwrap_or_else(|error| panic!("{when}: {error}"));
    }
    let is_released = [(first, &one), (second, &other)].iter().any(|(act, ok)| *act == Act::Release && ok.is_ok());
    let mut done = vec![(second, other.is_ok()), (first, one.is_ok())];
    // Before its last sync the work is over, and its journal gone.
    if matches!(first, Act::Grove(_)) && at + 1 == changes {
        done.reverse();
    }
    let done: Vec<Act> = done.into_iter().filter(|(_, ok)| *ok).map(|(act, _)| act).collect();
    stage.expect(&done);
    if one.is_ok() || other.is_ok() {
        let child = stage.outside("child.vhdx");
        if child.exists() {
            assert_reads(&child, &stage.first, &when);
        }
        let copy = stage.outside("copy.vhdx");
        if copy.exists() {
            assert_reads(&copy, &stage.third, &when);
        }
    }
    // A layer with a child elsewhere stays, whatever is forgotten; a disk that was released is none of the machine's.
    match is_released || stage.outside("child.vhdx").exists() {
        true => stage.machine.judge_content(&when),
        false => stage.machine.judge(&when),
    }
    (stage.machine.present, stage.machine.after, stage.machine.checkpoints) = before;
    Some((one.is_ok(), other.is_ok()))
}

#[test]
fn two_at_once_leave_the_machine_whole() {
    let every = if std::env::var_os("ZSAP_EVERY_PAIR").is_some() { 1 } else { 103 };
    let (mut runs, mut both, mut refused, mut number) = (0, 0, 0, 0);
    let mut stage = Stage::new();
    let root = stage.outside("");
    let recorder = HostRecorder::start(&root.join(".").canonicalize().unwrap()).unwrap();
    for first in acts() {
        recorder.rewind().unwrap();
        // What is refused alone has nothing to be stopped at.
        if stage.perform(first).is_err() {
            continue;
        }
        let changes = recorder.asked();
        for second in acts() {
            for at in 0..changes {
                number += 1;
                if number % every != 0 {
                    continue;
                }
                if let Some((one, other)) = run(&mut stage, &recorder, first, second, (at, changes)) {
                    runs += 1;
                    both += usize::from(one && other);
                    refused += usize::from(!one || !other);
                }
            }
        }
    }
    println!("{runs} runs, both went through in {both}");
    assert!(runs > 60 && both > 5 && refused > 30, "{runs} runs, {both} both, {refused} refused");
}
