//! Loss of power at every moment: whatever a crash leaves opens, is valid, and holds all that was flushed.

use std::collections::BTreeMap;
use std::sync::Arc;

use proptest::prelude::*;
use zestful_sapling::Error;
use zestful_sapling::chain::ChainMut;
use zestful_sapling::error::Refusal;
use zestful_sapling::image::{Image, ImageMut, ParentRecord};
use zestful_sapling::storage::MemoryStorage;
use zestful_sapling::storage::testing::{FaultStorage, Recording};

use crate::support::{Layers, Model, Shape, Step, UNIT, for_each_unit, renew, shapes, steps, write};

/// What happened to the disk, and how many operations on the file had been issued before.
enum Event {
    Fill {
        from: u64,
        units: u64,
        byte: u8,
    },
    /// Everything before is durable.
    Flushed,
}

struct Run {
    recording: Recording,
    events: Vec<(usize, Event)>,
    start: Model,
    parents: Layers,
}

/// Does the steps on the last of the layers and records what reaches its file.
fn record(layers: Layers, start_model: Model, steps: &[Step]) -> Run {
    let sector = u64::from(layers.shape.sector);
    let start = (**layers.storages.last().unwrap()).clone();
    let storage = Arc::new(FaultStorage::new(start.clone()));
    let mut image = layers.shape.open_mut(storage.clone());
    let mut events = Vec::new();
    for step in steps {
        let before = storage.operations();
        let mut fill = |at: u64, count: u64, byte| {
            events.push((before, Event::Fill { from: at * sector / UNIT, units: count * sector / UNIT, byte }));
        };
        match *step {
            Step::Write { at, count, byte } => {
                fill(at, count, byte);
                write(&mut *image, at, count, byte, sector).unwrap();
            }
            Step::Zero { at, count } => {
                fill(at, count, 0);
                image.zero_at(at * sector, count * sector).unwrap();
            }
            Step::Close | Step::Drop => {
                if matches!(step, Step::Close) {
                    image.close().unwrap();
                } else {
                    image.flush().unwrap();
                    drop(image);
                }
                events.push((storage.operations(), Event::Flushed));
                image = layers.shape.open_mut(storage.clone());
            }
            Step::Renew => renew(&mut *image).unwrap(),
            Step::Flush | Step::Derive => {
                image.flush().unwrap();
                events.push((storage.operations(), Event::Flushed));
            }
        }
    }
    image.close().unwrap();
    events.push((storage.operations(), Event::Flushed));
    Run { recording: storage.recording(start), events, start: start_model, parents: layers }
}

impl Run {
    /// After `issued` operations: what was flushed by then, and what else each unit may hold.
    fn allowed(&self, issued: usize) -> (Model, BTreeMap<u64, Vec<u8>>) {
        let (mut flushed, mut later) = (self.start.clone(), Vec::new());
        for (at, event) in &self.events {
            match event {
                Event::Fill { from, units, byte } if *at < issued => later.push((*from, *units, *byte)),
                Event::Flushed if *at <= issued => {
                    for (from, units, byte) in later.drain(..) {
                        flushed.fill(from * UNIT, units * UNIT, byte);
                    }
                }
                _ => {}
            }
        }
        let mut others: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
        for (from, units, byte) in later {
            for unit in from..from + units {
                others.entry(unit).or_default().push(byte);
            }
        }
        (flushed, others)
    }

    fn parents(&self) -> Vec<Box<dyn Image>> {
        self.parents.parents()
    }

    fn judge(&self, issued: usize, state: &MemoryStorage, (flushed, others): &(Model, BTreeMap<u64, Vec<u8>>)) {
        let storage = Arc::new(state.clone());
        let shape = &self.parents.shape;
        shape.assert_valid(storage.clone(), true);
        // Read as a reader does, with the log replayed in memory, through a chain that cannot be written.
        let read_only = shape.open(storage.clone());
        let disk = ReadOnly(std::iter::once(read_only).chain(self.parents()).collect());
        let size = shape.virtual_size;
        let compare = |disk: &dyn zestful_sapling::chain::Disk, upto: u64| {
            for_each_unit(disk, |units, found| {
                for unit in units.start..units.end.min(upto / UNIT) {
                    let fits =
                        |byte| byte == flushed.at(unit) || others.get(&unit).is_some_and(|more| more.contains(&byte));
                    let right = found.is_some_and(fits);
                    assert!(right, "unit {unit} holds {found:?} after {issued} operations, not {}", flushed.at(unit));
                }
            });
        };
        compare(&disk, size);
        // And as a writer does, with the log replayed into the file.
        let disk = ChainMut::from_parts(shape.open_mut(storage.clone()), self.parents());
        compare(&disk, size);
        // Work goes on, on whatever the crash left in unused places: at the end, where a block may be new.
        let last = (size - 1) / 4096 * 4096;
        disk.write_at(&vec![0x5A; (size - last) as usize], last).unwrap();
        compare(&disk, last);
        disk.close().unwrap();
        shape.assert_valid(storage, false);
    }

    fn judge_all(&self, seed: u64, subsets: usize) -> usize {
        let (mut count, mut last, mut allowed) = (0, None, (Model::default(), BTreeMap::new()));
        for state in self.recording.crash_states(seed, subsets) {
            let (issued, state) = state.unwrap();
            if last != Some(issued) {
                (last, allowed) = (Some(issued), self.allowed(issued));
            }
            self.judge(issued, &state, &allowed);
            count += 1;
        }
        count
    }
}

struct ReadOnly(Vec<Box<dyn Image>>);

impl zestful_sapling::chain::Disk for ReadOnly {
    fn layer(&self, number: usize) -> Option<&dyn Image> {
        self.0.get(number).map(|layer| &**layer)
    }
    fn info(&self) -> &zestful_sapling::image::ImageInfo {
        self.0[0].info()
    }
}

fn small(shape: Shape) -> Shape {
    Shape { virtual_size: shape.virtual_size.min(4 << 20), ..shape }
}

/// A child over a base with content, or the base alone.
pub fn prepared(shape: Shape, child: bool) -> (Layers, Model) {
    let mut layers = Layers::new(shape);
    let mut model = Model::default();
    let disk = layers.open();
    let len = (layers.shape.virtual_size / 2).next_multiple_of(4096).min(layers.shape.virtual_size);
    disk.write_at(&vec![0xB5; len as usize], 0).unwrap();
    model.fill(0, len, 0xB5);
    disk.close().unwrap();
    if child {
        layers.derive();
    }
    (layers, model)
}

proptest! {
    #![proptest_config(crate::support::config(22))]

    #[test]
    fn every_crash_state_holds_what_was_flushed(
        (shape, steps) in shapes().prop_flat_map(|shape| {
            let shape = small(shape);
            let steps = steps(&shape, 2..10, 0);
            (Just(shape), steps)
        }),
        child in any::<bool>(),
        seed in any::<u64>(),
    ) {
        let (layers, model) = prepared(shape, child);
        record(layers, model, &steps).judge_all(seed, 3);
    }

    /// A crash while a writer replays the log of an earlier crash.
    #[test]
    fn a_crash_during_replay_loses_nothing(
        (shape, steps) in shapes().prop_flat_map(|shape| {
            let shape = small(shape);
            let steps = steps(&shape, 2..6, 0);
            (Just(shape), steps)
        }),
        seed in any::<u64>(),
    ) {
        let (layers, model) = prepared(shape, true);
        let run = record(layers, model, &steps);
        for state in run.recording.crash_states(seed, 0).step_by(5) {
            let (issued, state) = state.unwrap();
            let allowed = run.allowed(issued);
            let again = Arc::new(FaultStorage::new(state.clone()));
            drop(run.parents.shape.open_mut(again.clone()));
            for second in again.recording(state).crash_states(seed, 2) {
                run.judge(issued, &second.unwrap().1, &allowed);
            }
        }
    }
}

/// Space that a commit gives back must not be used before that commit: the state before it still needs it.
#[test]
fn space_given_back_is_not_used_too_early() {
    let shapes = [Shape::plain(6 << 20), Shape::vhd(6 << 20)];
    let mib = 2048;
    let steps = [
        Step::Zero { at: 0, count: mib },
        Step::Write { at: 4 * mib, count: mib, byte: 7 },
        Step::Zero { at: 4 * mib, count: mib },
        Step::Write { at: 5 * mib, count: 8, byte: 8 },
        Step::Flush,
        Step::Write { at: 4 * mib + 8, count: 8, byte: 9 },
        Step::Zero { at: mib, count: mib },
        Step::Write { at: 0, count: 16, byte: 10 },
    ];
    run_all(&shapes, &steps, 100);
}

/// A bit that is set before its sector's data is there would show whatever stood in the file.
#[test]
fn sectors_appear_with_their_data() {
    let steps = [
        Step::Write { at: 0, count: 8, byte: 7 },
        Step::Flush,
        Step::Write { at: 64, count: 64, byte: 8 },
        Step::Zero { at: 256, count: 8 },
        Step::Flush,
        Step::Write { at: 512, count: 8, byte: 9 },
    ];
    run_all(&[Shape::plain(2 << 20), Shape::vhd(2 << 20)], &steps, 25);
}

fn run_all(shapes: &[Shape], steps: &[Step], least: usize) {
    for (shape, child) in shapes.iter().cloned().flat_map(|shape| [(shape.clone(), false), (shape, true)]) {
        let (layers, model) = prepared(shape, child);
        let states = record(layers, model, steps).judge_all(3, 8);
        assert!(states > least, "{states}");
    }
}

/// The host fills up at every single operation: the error is told, what was flushed is still there, and once there is
/// room work goes on where it was. A sync that fails is final.
#[test]
fn a_failure_at_any_operation_is_told_and_only_that_of_a_sync_is_final() {
    let work = |image: &dyn ImageMut| -> zestful_sapling::Result<()> {
        image.write_at(&[1; 4096], 512)?;
        image.flush()?;
        image.zero_at(0, 1 << 20)?;
        image.write_at(&[2; 512], 2 << 20)?;
        image.flush()?;
        image.write_at(&[3; 2 << 20], 0)?;
        image.flush()
    };
    for shape in [Shape::plain(3 << 20), Shape::vhd(3 << 20)] {
        let (layers, model) = prepared(shape, true);
        let start = (**layers.storages.last().unwrap()).clone();
        let mut model = model;
        model.fill(0, 2 << 20, 3);
        model.fill(2 << 20, 512, 2);
        let (mut failures, mut finals) = (0, 0);
        for fail_from in 0.. {
            let storage = Arc::new(FaultStorage::new(start.clone()).fail_from(fail_from));
            let image = layers.shape.open_mut(storage.clone());
            let Err(error) = work(&*image) else { break };
            failures += 1;
            assert!(matches!(error, Error::Io { .. }), "{error}");
            storage.recover();
            layers.shape.assert_valid(storage.clone(), true);
            match work(&*image) {
                Ok(()) => {
                    let disk = ChainMut::from_parts(image, layers.parents());
                    model.assert_same(&disk);
                    disk.close().unwrap();
                    layers.shape.assert_valid(storage, false);
                }
                Err(again) => {
                    finals += 1;
                    assert!(matches!(again, Error::Refused(Refusal::EarlierFailure { .. }, _)), "{again:?}");
                    layers.shape.assert_valid(storage, true);
                }
            }
        }
        assert!(failures > 15 && finals > 5 && failures > finals + 5, "{finals} of {failures}");
    }
}

/// The crash states are as many and as different as they claim to be.
#[test]
fn crash_states_cover_prefixes_tears_and_subsets() {
    use zestful_sapling::storage::{ReadAt, Storage};
    let storage = FaultStorage::new(MemoryStorage::new());
    storage.write_at(&[1; 2048], 0).unwrap();
    storage.sync().unwrap();
    storage.write_at(&[2; 2048], 0).unwrap();
    storage.write_at(&[3; 2048], 2048).unwrap();
    let mut seen = std::collections::BTreeSet::new();
    for state in storage.recording(MemoryStorage::new()).crash_states(7, 200) {
        let state = state.unwrap().1;
        let mut bytes = vec![0; state.len().unwrap() as usize];
        state.read_at(&mut bytes, 0).unwrap();
        seen.insert(bytes.chunks(512).map(|unit| char::from(b'0' + unit[0])).collect::<String>());
    }
    for expected in ["", "1111", "2222", "11113333", "22223333", "22111111"[..4].as_ref(), "1122", "222233"] {
        assert!(seen.contains(expected), "{expected} is not among {seen:?}");
    }
    assert!(!seen.iter().any(|state| state.starts_with('0') && state.contains('3')), "{seen:?}");
}

/// A crash while another parent is recorded leaves the record before or the new one, and the content identity as it is.
#[test]
fn a_parent_record_is_the_old_one_or_the_new_one() {
    for shape in [Shape::plain(4 << 20), Shape::vhd(4 << 20)] {
        let (layers, _) = prepared(shape, true);
        let start = (**layers.storages.last().unwrap()).clone();
        let before = layers.shape.open(Arc::new(start.clone())).info().clone();
        let reference = before.parent.clone().unwrap();
        let storage = Arc::new(FaultStorage::new(start.clone()));
        let mut image = layers.shape.open_mut(storage.clone());
        // A longer record than the one before, then a shorter one, into the room that is free by then.
        let record = |name: String| ParentRecord {
            identity: reference.accepted[0],
            also: None,
            time_stamp: reference.time_stamp,
            relative: format!(".\\{name}"),
            absolute: None,
            name,
        };
        let records = [record("l".repeat(700)), record("s".to_owned())];
        let mut done = Vec::new();
        for record in &records {
            image.set_parent(record).unwrap();
            done.push(storage.operations());
        }
        image.close().unwrap();
        for state in storage.recording(start).crash_states(11, 30) {
            let (issued, state) = state.unwrap();
            let info = layers.shape.open(Arc::new(state)).info().clone();
            let found = &info.parent.unwrap().paths[0].text;
            let durable = done.iter().filter(|end| **end <= issued).count();
            let all = [&reference.paths[0].text, &records[0].relative, &records[1].relative];
            let allowed = &all[durable..(durable + 2).min(all.len())];
            assert!(allowed.contains(&found), "after {issued} operations: {} bytes of path", found.len());
            assert_eq!(info.data_identity, before.data_identity);
        }
    }
}
