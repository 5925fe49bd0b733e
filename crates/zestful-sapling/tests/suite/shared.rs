//! Disks that many threads use at once: against a model, through crashes, on a host that runs full now and then, and
//! while the chain changes under them.
//!
//! The sectors of a disk are dealt out to the threads, so that neighbours in a block, and in a sector, are written by
//! different threads at the same time, while what each sector may hold is known: a thread knows what it wrote last, and
//! whoever flushes knows what was written before.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions, SharedDisk};
use zestful_sapling::family::Guard;
use zestful_sapling::image::Format;
use zestful_sapling::ops::{CopyDisk, Make, NewImage};
use zestful_sapling::storage::testing::{FaultStorage, Recording};
use zestful_sapling::storage::{ReadAt, Storage};

use crate::support::{Layers, MIB, Model, Shape, UNIT, for_each_unit, perform};

const THREADS: u64 = 4;
/// Units that one thread owns in a row.
const RUN: u64 = 5;

/// A small deterministic generator.
struct Random(u64);

impl Random {
    fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1)
    }

    fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % limit.max(1)
    }
}

/// What happened to a unit: all that was tried, what it held at first before that, and the last that came to a good
/// end.
#[derive(Clone)]
struct History {
    tried: Vec<u8>,
    done: usize,
}

/// What each unit holds at least: the number of what was tried last with a good end.
type Known = BTreeMap<u64, usize>;

/// What all threads did, and what is known to be durable.
struct Truth {
    start: Model,
    threads: Vec<Mutex<BTreeMap<u64, History>>>,
    /// After so many changes of the file this much is there.
    flushed: Mutex<Vec<(usize, Known)>>,
}

impl Truth {
    fn new(start: Model) -> Self {
        let threads = (0..THREADS).map(|_| Mutex::default()).collect();
        Self { start, threads, flushed: Mutex::default() }
    }

    fn owner(&self, unit: u64) -> &Mutex<BTreeMap<u64, History>> {
        &self.threads[(unit / RUN % THREADS) as usize]
    }

    /// What is done now.
    fn known(&self) -> Known {
        let of = |thread: &Mutex<BTreeMap<u64, History>>| {
            thread.lock().unwrap().iter().map(|(unit, history)| (*unit, history.done)).collect::<Vec<_>>()
        };
        self.threads.iter().flat_map(of).collect()
    }

    /// What a unit may hold when so much of its history is there at least.
    fn allowed(&self, unit: u64, known: usize) -> Vec<u8> {
        let own = self.owner(unit).lock().unwrap();
        own.get(&unit).map_or_else(|| vec![self.start.at(unit)], |history| history.tried[known..].to_vec())
    }

    /// Makes a change of units of one thread, and notes it before and after.
    fn change(&self, from: u64, units: u64, byte: u8, act: impl FnOnce() -> zestful_sapling::Result<()>) {
        for unit in from..from + units {
            let begin = || History { tried: vec![self.start.at(unit)], done: 0 };
            self.owner(unit).lock().unwrap().entry(unit).or_insert_with(begin).tried.push(byte);
        }
        match act() {
            Ok(()) => (from..from + units).for_each(|unit| {
                let mut own = self.owner(unit).lock().unwrap();
                let history = own.get_mut(&unit).unwrap();
                history.done = history.tried.len() - 1;
            }),
            Err(error) => assert!(is_no_room(&error), "{error}"),
        }
    }

    fn flush(&self, disk: &SharedDisk, changes: &dyn Fn() -> usize) {
        let known = self.known();
        match disk.flush() {
            Ok(()) => self.flushed.lock().unwrap().push((changes(), known)),
            Err(error) => assert!(is_no_room(&error), "{error}"),
        }
    }

    /// The disk holds what is known to be there, or what was tried later.
    fn assert_holds(&self, disk: &dyn Disk, known: &Known, when: &str) {
        let touched: BTreeMap<u64, Vec<u8>> = self
            .threads
            .iter()
            .flat_map(|thread| thread.lock().unwrap().keys().copied().collect::<Vec<_>>())
            .map(|unit| (unit, self.allowed(unit, known.get(&unit).copied().unwrap_or_default())))
            .collect();
        for_each_unit(disk, |units, found| {
            for unit in units {
                // Of what was written in parts of a sector one may be there without the other.
                let right = match (touched.get(&unit), found) {
                    (None, found) => found == Some(self.start.at(unit)),
                    (Some(allowed), None) => allowed.len() > 1,
                    (Some(allowed), Some(found)) => allowed.contains(&found),
                };
                assert!(right, "{when}: unit {unit} holds {found:?} and not one of {:?}", touched.get(&unit));
            }
        });
    }
}

fn is_no_room(error: &zestful_sapling::Error) -> bool {
    let mut source: Option<&dyn std::error::Error> = Some(error);
    while let Some(error) = source {
        let io = error.downcast_ref::<std::io::Error>().map(std::io::Error::kind);
        if io == Some(std::io::ErrorKind::StorageFull) {
            return true;
        }
        source = error.source();
    }
    false
}

/// One thread's work: writes, zeroes and reads of its own units, some of it in parts of sectors, and flushes.
fn work(disk: &SharedDisk, truth: &Truth, thread: u64, seed: u64, steps: u64, changes: &dyn Fn() -> usize) {
    let mut random = Random::new(seed.wrapping_add(thread));
    let (rounds, count, apart) = places(disk.virtual_size());
    for step in 0..steps {
        let round = random.below(count) * apart + random.below(rounds);
        let first = (round * THREADS + thread) * RUN;
        let (skip, byte) = (random.below(RUN), (step % 255 + 1) as u8);
        let (from, units) = (first + skip, 1 + random.below(RUN - skip));
        let (at, len) = (from * UNIT, units * UNIT);
        match random.below(10) {
            0..4 => truth.change(from, units, byte, || disk.write_at(&vec![byte; len as usize], at)),
            4 => truth.change(from, units, 0, || disk.zero_at(at, len)),
            5 => truth.change(from, units, byte, || {
                let middle = at + len / 3;
                disk.write_at(&vec![byte; (middle - at) as usize], at)?;
                disk.write_at(&vec![byte; (at + len - middle) as usize], middle)
            }),
            6 => truth.flush(disk, changes),
            _ => {
                let mut found = vec![0; len as usize];
                disk.read_at(&mut found, at).unwrap();
                for (unit, bytes) in (from..).zip(found.chunks(UNIT as usize)) {
                    let done = truth.owner(unit).lock().unwrap().get(&unit).map_or(0, |history| history.done);
                    let allowed = truth.allowed(unit, done);
                    assert!(bytes.iter().all(|byte| allowed.contains(byte)), "unit {unit}: {bytes:?}, {allowed:?}");
                }
            }
        }
    }
}

fn all_at_once(disk: &SharedDisk, truth: &Truth, seed: u64, steps: u64, changes: &(dyn Fn() -> usize + Sync)) {
    std::thread::scope(|scope| {
        for thread in 0..THREADS {
            scope.spawn(move || work(disk, truth, thread, seed, steps, changes));
        }
    });
}

/// Every layout that is written to.
fn shapes() -> impl Strategy<Value = (Shape, bool)> {
    let raw = Shape { format: Format::Raw, ..Shape::plain(3 * MIB) };
    let sectors = Shape { sector: 4096, ..Shape::plain(3 * MIB) };
    prop_oneof![
        3 => any::<bool>().prop_map(|child| (Shape::plain(3 * MIB), child)),
        3 => any::<bool>().prop_map(|child| (Shape::vhd(3 * MIB), child)),
        2 => any::<bool>().prop_map(move |child| (sectors.clone(), child)),
        1 => Just((raw, false)),
        3 => any::<bool>().prop_map(|child| (Shape { block_sizes: vec![MIB; 5], ..Shape::plain(400 * MIB) }, child)),
        3 => any::<bool>().prop_map(|child| (Shape::vhd(400 * MIB), child)),
    ]
}

/// Rounds of units in a row that are worked on, how many such places there are, and how many rounds they are apart.
fn places(virtual_size: u64) -> (u64, u64, u64) {
    let rounds = virtual_size / UNIT / (RUN * THREADS);
    // On a large disk in places that are far apart: many tables and bitmaps, and neighbours all the same.
    if rounds > 2000 { (8, 14, rounds / 14) } else { (rounds, 1, rounds) }
}

/// A disk with content in every other of its places, or a child of one.
fn worn(shape: Shape, child: bool) -> (Layers, Model) {
    let (mut layers, mut model) = (Layers::new(shape), Model::default());
    let (rounds, count, apart) = places(layers.shape.virtual_size);
    let disk = layers.open();
    let round = RUN * THREADS * UNIT;
    for place in 0..count {
        let (at, len) = (place * apart * round, rounds * round / 2 / 4096 * 4096);
        if len > 0 {
            disk.write_at(&vec![0xB5; len as usize], at / 4096 * 4096).unwrap();
            model.fill(at / 4096 * 4096, len, 0xB5);
        }
    }
    disk.close().unwrap();
    if child {
        layers.derive();
    }
    (layers, model)
}

proptest! {
    #![proptest_config(crate::support::config(16))]

    /// Whatever the threads do at once, each finds what it wrote, and after the end, and in every crash state, there is
    /// what was flushed, or what was written later.
    #[test]
    fn nobody_loses_what_others_do_not_touch(
        (shape, child) in shapes(),
        seed in any::<u64>(),
        full in any::<bool>(),
    ) {
        let (layers, model) = worn(shape, child);
        let start = (**layers.storages.last().unwrap()).clone();
        let storage = Arc::new(FaultStorage::new(start.clone()).with_pauses(seed));
        let truth = Truth::new(model);
        let disk = SharedDisk::new(ChainMut::from_parts(layers.shape.open_mut(storage.clone()), layers.parents()));
        let changes = || storage.operations();
        all_at_once(&disk, &truth, seed, 40, &changes);
        if full {
            // A host that runs full now and then: what fails is told to who asked, and the rest goes on.
            storage.set_no_room(Some(3));
            all_at_once(&disk, &truth, seed ^ 1, 40, &changes);
            storage.set_no_room(None);
            all_at_once(&disk, &truth, seed ^ 2, 20, &changes);
        }
        truth.flush(&disk, &changes);
        if seed % 2 == 0 {
            disk.close().unwrap();
            layers.shape.assert_valid(storage.clone(), false);
        } else {
            drop(disk);
        }
        let end = ChainMut::from_parts(layers.shape.open_mut(storage.clone()), layers.parents());
        truth.assert_holds(&end, &truth.known(), "at the end");
        drop(end);
        judge_crashes(&layers, &truth, &storage.recording(start), seed);
    }
}

/// Of all crash states a few dozen, others for each case.
fn judge_crashes(layers: &Layers, truth: &Truth, recording: &Recording, seed: u64) {
    let mut flushed = truth.flushed.lock().unwrap().clone();
    flushed.sort_by_key(|(at, _)| *at);
    let every = 1 + recording.operations.len() / 12;
    for state in recording.crash_states(seed, 1).skip(seed as usize % every).step_by(every) {
        let (issued, state) = state.unwrap();
        let state: Arc<dyn Storage> = Arc::new(state);
        layers.shape.assert_valid(state.clone(), true);
        let known = flushed.iter().rfind(|(at, _)| *at <= issued).map(|(_, known)| known.clone()).unwrap_or_default();
        let disk = ChainMut::from_parts(layers.shape.open_mut(state.clone()), layers.parents());
        truth.assert_holds(&disk, &known, &format!("after {issued} changes"));
        // Whatever the crash left half-done is mended by the next session that writes.
        disk.write_at(&[1; UNIT as usize], 0).unwrap();
        disk.close().unwrap();
        layers.shape.assert_valid(state, false);
    }
}

/// A reader and a writer are held up in the middle of a block; meanwhile the block is given back, and new ones are
/// wanted. The reader finds nothing that belongs elsewhere, and the writer harms nothing there.
#[test]
fn space_that_is_given_back_is_not_used_while_somebody_is_in_it() {
    // Of no length that anything else has.
    const HELD: usize = 12 << 10;
    for shape in [Shape::plain(8 * MIB), Shape::vhd(8 * MIB)] {
        let block = shape.block_sizes[0];
        let layers = Layers::new(shape);
        let storage = Arc::new(FaultStorage::new((*layers.storages[0]).clone()));
        let disk = SharedDisk::new(ChainMut::from_parts(layers.shape.open_mut(storage.clone()), layers.parents()));
        let fill = |number: u64, byte: u8| disk.write_at(&vec![byte; block as usize], number * block).unwrap();
        fill(0, 1);
        disk.flush().unwrap();
        for writes in [false, true] {
            storage.hold(Some(HELD));
            std::thread::scope(|scope| {
                let late = scope.spawn(|| {
                    let mut bytes = vec![9; HELD];
                    match writes {
                        true => disk.write_at(&bytes, 4096).unwrap(),
                        false => disk.read_at(&mut bytes, 4096).unwrap(),
                    }
                    bytes
                });
                storage.wait_for_held(1);
                disk.zero_at(0, block).unwrap();
                disk.flush().unwrap();
                (1..4).for_each(|number| fill(number, 2));
                disk.flush().unwrap();
                storage.hold(None);
                let bytes = late.join().unwrap();
                assert!(writes || bytes.iter().all(|byte| *byte == 1), "a reader found {}", bytes[0]);
            });
            let mut others = vec![0; 3 * block as usize];
            disk.read_at(&mut others, block).unwrap();
            assert!(others.iter().all(|byte| *byte == 2), "somebody wrote where another block is");
            fill(0, 1);
        }
        // Once nobody is in it, it is used again.
        let len = storage.len().unwrap();
        for _ in 0..40 {
            disk.zero_at(0, block).unwrap();
            disk.flush().unwrap();
            fill(0, 1);
        }
        assert_eq!(storage.len().unwrap(), len, "what was given back is not lost");
        disk.close().unwrap();
        layers.shape.assert_valid(storage, false);
    }
}

/// While others read and write, the current image is frozen and a child takes its place; the frozen ones can be read
/// by anybody meanwhile, and written to by nobody.
#[test]
fn a_disk_goes_on_in_a_child_under_those_who_use_it() {
    for ending in ["vhdx", "vhd"] {
        let folder = tempfile::tempdir().unwrap();
        let path = |number: usize| -> PathBuf { folder.path().join(format!("germination-0{number}.{ending}")) };
        let new = NewImage::default().with_block_size(2 * MIB);
        perform(Make::new(path(1), 6 * MIB).with_image(new)).unwrap();
        let disk = SharedDisk::new(ChainMut::open(&path(1), &OpenOptions::new()).unwrap());
        let truth = Truth::new(Model::default());
        let marks: Vec<Known> = std::thread::scope(|scope| {
            for thread in 0..THREADS {
                let (disk, truth) = (&disk, &truth);
                scope.spawn(move || work(disk, truth, thread, 5, 400, &|| 0));
            }
            (2..5)
                .map(|number| {
                    std::thread::sleep(std::time::Duration::from_millis(15));
                    let known = truth.known();
                    disk.go_on_in(&path(number), &Guard::new()).unwrap();
                    let refused = ChainMut::open(&path(number - 1), &OpenOptions::new()).map(|_| ());
                    assert!(refused.is_err(), "the frozen image is written to by nobody");
                    let copied = folder.path().join(format!("copy-{number}.raw"));
                    perform(CopyDisk::new(path(number - 1), &copied)).unwrap();
                    let copy = Chain::open(&copied, &OpenOptions::new()).unwrap();
                    truth.assert_holds(&copy, &known, "a copy of what was frozen");
                    known
                })
                .collect()
        });
        assert_eq!(disk.layers(), 4);
        disk.flush().unwrap();
        disk.close().unwrap();
        let again = Chain::open(&path(4), &OpenOptions::new()).unwrap();
        truth.assert_holds(&again, &truth.known(), "all of it");
        for (number, known) in (1..).zip(&marks) {
            let frozen = Chain::open(&path(number), &OpenOptions::new()).unwrap();
            truth.assert_holds(&frozen, known, "what was frozen");
        }
    }
}

/// What was remembered of the layers below says nothing of the one that was frozen after.
#[test]
fn what_is_remembered_of_layers_knows_the_one_that_is_new() {
    for ending in ["vhdx", "vhd"] {
        let folder = tempfile::tempdir().unwrap();
        let path = |number: usize| -> PathBuf { folder.path().join(format!("germination-0{number}.{ending}")) };
        perform(Make::new(path(1), 6 * MIB).with_image(NewImage::default().with_block_size(2 * MIB))).unwrap();
        let disk = SharedDisk::new(ChainMut::open(&path(1), &OpenOptions::new()).unwrap());
        let mut model = Model::default();
        for number in 2..8u8 {
            let at = u64::from(number) * 3 * UNIT;
            disk.write_at(&[number; UNIT as usize], at).unwrap();
            model.fill(at, UNIT, number);
            disk.go_on_in(&path(usize::from(number)), &Guard::new()).unwrap();
            // All of it is asked of the layers below, and remembered.
            let mut found = vec![0; 6 * MIB as usize];
            disk.read_at(&mut found, 0).unwrap();
            for written in 2..=number {
                let found = &found[usize::from(written) * 3 * UNIT as usize..][..UNIT as usize];
                assert!(found.iter().all(|byte| *byte == written), "{ending}: {written} after {number}");
            }
        }
        disk.close().unwrap();
        model.assert_same(&Chain::open(&path(7), &OpenOptions::new()).unwrap());
    }
}

/// Four threads write parts of one sector all the time: none of them takes away what another wrote.
#[test]
fn parts_of_one_sector_are_nobody_elses() {
    for shape in [Shape::plain(4 * MIB), Shape { sector: 4096, ..Shape::plain(4 * MIB) }, Shape::vhd(4 * MIB)] {
        let (sector, layers) = (u64::from(shape.sector), Layers::new(shape));
        let storage = Arc::new(FaultStorage::new((*layers.storages[0]).clone()).with_pauses(3));
        let disk = SharedDisk::new(ChainMut::from_parts(layers.shape.open_mut(storage), layers.parents()));
        let part = sector / THREADS;
        std::thread::scope(|scope| {
            for thread in 0..THREADS {
                let disk = &disk;
                scope.spawn(move || {
                    for round in 0..250 {
                        disk.write_at(&vec![round as u8; part as usize], sector + thread * part).unwrap();
                        let mut found = vec![0; part as usize];
                        disk.read_at(&mut found, sector + thread * part).unwrap();
                        assert!(found.iter().all(|byte| *byte == round as u8), "round {round}: {found:?}");
                    }
                });
            }
        });
    }
}

/// Flushes that meet share a sync of the host.
#[test]
fn flushes_at_the_same_time_share_a_commit() {
    for shape in [Shape::plain(4 * MIB), Shape::vhd(4 * MIB), Shape { format: Format::Raw, ..Shape::plain(4 * MIB) }] {
        let layers = Layers::new(shape);
        let storage = Arc::new(FaultStorage::new((*layers.storages[0]).clone()).with_slow_syncs());
        let disk = SharedDisk::new(ChainMut::from_parts(layers.shape.open_mut(storage.clone()), layers.parents()));
        disk.write_at(&vec![1; MIB as usize], 0).unwrap();
        disk.flush().unwrap();
        let before = storage.syncs();
        std::thread::scope(|scope| {
            for number in 0..8u64 {
                let disk = &disk;
                scope.spawn(move || {
                    for round in 0..10 {
                        disk.write_at(&[round; 512], number * 512).unwrap();
                        disk.flush().unwrap();
                    }
                });
            }
        });
        let syncs = storage.syncs() - before;
        assert!(syncs < 60, "80 flushes took {syncs} syncs");
    }
}

/// A write that is under way while somebody flushes is not taken for durable by the next flush.
#[test]
fn a_flush_covers_what_ended_before_it() {
    const HELD: usize = 12 << 10;
    for shape in [Shape::plain(4 * MIB), Shape::vhd(4 * MIB)] {
        let layers = Layers::new(shape);
        let storage = Arc::new(FaultStorage::new((*layers.storages[0]).clone()));
        let disk = SharedDisk::new(ChainMut::from_parts(layers.shape.open_mut(storage.clone()), layers.parents()));
        disk.write_at(&vec![1; layers.shape.block_sizes[0] as usize], 0).unwrap();
        disk.flush().unwrap();
        for at_once in [false, true] {
            storage.hold(Some(HELD));
            std::thread::scope(|scope| {
                let late = scope.spawn(|| match at_once {
                    true => assert!(disk.write_at_once(&[2; HELD], 4096).unwrap()),
                    false => disk.write_at(&[2; HELD], 4096).unwrap(),
                });
                storage.wait_for_held(1);
                disk.flush().unwrap();
                storage.hold(None);
                late.join().unwrap();
            });
            let before = storage.syncs();
            disk.flush().unwrap();
            assert!(storage.syncs() > before, "what ended after the first flush was never synced");
        }
    }
}
