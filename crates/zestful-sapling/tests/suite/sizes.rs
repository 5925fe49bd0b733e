//! Disks that get another size: what is there stays, what is new is zero, and a crash leaves the old size or the new
//! one.

use std::sync::Arc;

use proptest::prelude::*;
use zestful_sapling::Error;
use zestful_sapling::chain::{ChainMut, Disk, SharedDisk};
use zestful_sapling::finding::Finding;
use zestful_sapling::image::{Format, Space, vhd, vhdx};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::FaultStorage;
use zestful_sapling::storage::{MemoryStorage, ReadAt, Storage};

use crate::crash::prepared;
use crate::support::{Layers, MIB, Model, Shape, UNIT};

/// Sizes that end in the same block, in a new one, and far beyond what the table of a small disk has room for.
fn sizes(shape: &Shape) -> [u64; 3] {
    let far = match shape.format {
        Format::Vhdx => 130 << 30,
        Format::Vhd => 2 << 30,
        _ => 32 << 20,
    };
    [shape.virtual_size + 4096, shape.virtual_size + 5 * MIB, far]
}

fn shapes() -> Vec<(Shape, bool)> {
    let odd = 4 * MIB - 12 * 4096;
    let raw = Shape { format: Format::Raw, ..Shape::plain(odd) };
    let sectors = Shape { sector: 4096, ..Shape::plain(odd) };
    let mut all = vec![(raw, false), (sectors, true)];
    for child in [false, true] {
        all.extend([(Shape::plain(odd), child), (Shape::vhd(odd), child)]);
    }
    all
}

#[test]
fn what_was_there_stays_and_what_is_new_is_zero() {
    for (shape, child) in shapes() {
        let (layers, mut model) = prepared(shape, child);
        let mut disk = layers.open();
        // To the last sector, so that the last block is there, or a part of it.
        disk.write_at(&[7; 8192], layers.shape.virtual_size - 8192).unwrap();
        model.fill(layers.shape.virtual_size - 8192, 8192, 7);
        for (round, size) in (1..).zip(sizes(&layers.shape)) {
            disk.grow(size, Space::Sparse).unwrap();
            assert_eq!(disk.virtual_size(), size);
            model.assert_same(&disk);
            for at in [size - 4096, layers.shape.virtual_size, size / 2 / 4096 * 4096] {
                disk.write_at(&[round; 4096], at).unwrap();
                model.fill(at, 4096, round);
            }
            model.assert_same(&disk);
            disk.close().unwrap();
            layers.shape.assert_valid(layers.storages.last().unwrap().clone(), false);
            disk = layers.open();
            assert_eq!(disk.virtual_size(), size);
            model.assert_same(&disk);
        }
    }
}

/// Bytes behind the end of the disk in its last block, and an entry of the table behind the last one that counts.
#[test]
fn what_other_programs_left_behind_the_end_is_zero() {
    let behind = 12 * 4096;
    for shape in [Shape::plain(4 * MIB - behind), Shape::vhd(4 * MIB - behind)] {
        let (layers, mut model) = prepared(shape, false);
        let disk = layers.open();
        let end = layers.shape.virtual_size;
        disk.write_at(&[7; 8192], end - 8192).unwrap();
        model.fill(end - 8192, 8192, 7);
        disk.close().unwrap();
        let storage = layers.storages.last().unwrap();
        let mut bytes = vec![0; storage.len().unwrap() as usize];
        storage.read_at(&mut bytes, 0).unwrap();
        let found = bytes.windows(8192).position(|window| window == [7; 8192]).unwrap() as u64;
        storage.write_at(&vec![0xEE; behind as usize], found + 8192).unwrap();
        if layers.shape.format == Format::Vhdx {
            let block = found + 8192 + behind - MIB;
            // Fully present, at that place.
            let entry = (block | 6).to_le_bytes();
            // The log, before the table, has had it too.
            let at = bytes.windows(8).rposition(|window| window == entry).unwrap();
            storage.write_at(&entry, at as u64 + 8).unwrap();
        }
        let mut disk = layers.open();
        disk.grow(6 * MIB, Space::Sparse).unwrap();
        model.assert_same(&disk);
        disk.close().unwrap();
        layers.shape.assert_valid(storage.clone(), false);
    }
}

/// How the image takes its space.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Way {
    Alone,
    Child,
    Fixed,
}

fn ways(shape: &Shape) -> Vec<Way> {
    match shape.format {
        Format::Raw => vec![Way::Alone],
        _ => vec![Way::Alone, Way::Child, Way::Fixed],
    }
}

/// A disk with content in its first half, and in its last sectors.
fn filled(shape: Shape, way: Way) -> (Layers, Model) {
    let (size, sector) = (shape.virtual_size, shape.sector);
    let (layers, mut model) = if way == Way::Fixed {
        let storage = Arc::new(MemoryStorage::new());
        match shape.format {
            Format::Vhd => vhd::CreateOptions::new(size).with_fixed(true).create_in(&*storage).unwrap(),
            _ => {
                let options = vhdx::CreateOptions::new(size).with_sectors(sector, 4096).with_fixed(true);
                options.with_block_size(shape.block_sizes[0]).create_in(&*storage).unwrap();
            }
        }
        (Layers { shape, storages: vec![storage] }, Model::default())
    } else {
        prepared(shape, way == Way::Child)
    };
    let disk = layers.open();
    for (at, len) in [(0, size / 3), (size - size / 4, size / 4)] {
        let (at, len) = (at / 4096 * 4096, (len / 4096 * 4096).max(4096).min(size));
        disk.write_at(&vec![0x3C; len as usize], at).unwrap();
        model.fill(at, len, 0x3C);
    }
    disk.close().unwrap();
    (layers, model)
}

/// What is left of a disk that is cut.
fn cut(model: &Model, size: u64) -> Model {
    Model { units: model.units.range(..size / UNIT).map(|(unit, byte)| (*unit, *byte)).collect(), size: None }
}

proptest! {
    #![proptest_config(crate::support::config(60))]

    /// Random sizes, and writes, one after the other, on the end of a chain whose other layers have sizes of their own.
    #[test]
    fn sizes_come_and_go(
        shape in crate::support::shapes(),
        way in 0..3usize,
        steps in proptest::collection::vec((0..4u8, any::<prop::sample::Index>(), 1..=255u8), 1..24),
    ) {
        let shape = Shape { virtual_size: shape.virtual_size.min(6 * MIB), ..shape };
        let way = ways(&shape)[way];
        let (mut layers, mut model) = filled(shape, way);
        let sector = u64::from(layers.shape.sector);
        let mut disk = layers.open();
        for (what, place, byte) in steps {
            let size = disk.virtual_size();
            match what {
                0 => {
                    let len = (place.index(4 * MIB as usize) as u64 / sector * sector).max(sector).min(size);
                    let at = place.index((size - len + 1) as usize) as u64 / sector * sector;
                    disk.write_at(&vec![byte; len as usize], at).unwrap();
                    model.fill(at, len, byte);
                }
                1 => {
                    let new = (place.index(24 * MIB as usize) as u64 / sector * sector).max(sector);
                    let shows = disk.parents().iter().any(|parent| parent.info().virtual_size > size);
                    match new >= size {
                        true if shows => assert!(disk.grow(new, Space::Sparse).is_err()),
                        true => disk.grow(new, Space::Sparse).unwrap(),
                        false => disk.shrink(new).unwrap(),
                    }
                    model = cut(&model, disk.virtual_size());
                    model.assert_same(&disk);
                }
                2 if byte < 64 && layers.storages.len() < 5 && way != Way::Fixed => {
                    layers.shape.virtual_size = size;
                    disk.close().unwrap();
                    layers.derive();
                    disk = layers.open();
                }
                2 => {
                    disk.flush().unwrap();
                    drop(disk);
                    disk = layers.open();
                }
                _ => {
                    disk.close().unwrap();
                    layers.shape.assert_valid(layers.storages.last().unwrap().clone(), false);
                    disk = layers.open();
                }
            }
        }
        model.assert_same(&disk);
        disk.close().unwrap();
        layers.shape.assert_valid(layers.storages.last().unwrap().clone(), false);
        model.assert_same(&layers.open());
    }
}

#[test]
fn a_crash_leaves_the_old_size_or_the_new_one() {
    for (shape, _) in shapes() {
        for way in ways(&shape) {
            let old = shape.virtual_size;
            let far = if way == Way::Fixed { 9 * MIB } else { sizes(&shape)[2] };
            let [near, next, _] = sizes(&shape);
            for size in [near, next, far, old - 4096, old / 2 / 4096 * 4096, 4096] {
                // Its one footer is not always at the end: whoever grows such an image keeps a record of it.
                if (shape.format, way) != (Format::Vhd, Way::Fixed) || size < old {
                    crash(shape.clone(), way, size);
                }
            }
        }
    }
}

fn crash(shape: Shape, way: Way, size: u64) {
    let old = shape.virtual_size;
    let (layers, model) = filled(shape, way);
    let start: MemoryStorage = (**layers.storages.last().unwrap()).clone();
    let storage = Arc::new(FaultStorage::new(start.clone()));
    let mut disk = ChainMut::from_parts(layers.shape.open_mut(storage.clone()), layers.parents());
    if size > old {
        disk.grow(size, Space::Sparse).unwrap()
    } else {
        disk.shrink(size).unwrap()
    }
    let done = storage.operations();
    disk.close().unwrap();
    for state in storage.recording(start).crash_states(11, 2) {
        let (issued, state) = state.unwrap();
        let state: Arc<dyn Storage> = Arc::new(state);
        let mut after = ChainMut::from_parts(layers.shape.open_mut(state.clone()), layers.parents());
        let found = after.virtual_size();
        assert!(found == size || found == old && issued < done, "{found} after {issued}");
        cut(&model, found).assert_same(&after);
        // Whatever was left behind the end is not there when the disk is larger again.
        let parents = layers.parents();
        if parents.iter().all(|parent| parent.info().virtual_size <= found) {
            let again = found.max(old) + 2 * MIB;
            after.grow(again, Space::Sparse).unwrap();
            cut(&model, found).assert_same(&after);
            after.write_at(&[9; UNIT as usize * 8], again - UNIT * 8).unwrap();
        } else {
            // As the one who carries on does it.
            after.shrink(found).unwrap();
        }
        after.close().unwrap();
        // Between the two copies of the region table they differ, or one is torn; the first good one rules.
        let findings = vhdx::check(state.clone(), &Progress::new()).unwrap();
        let between = |finding: &Finding| finding.code().starts_with("vhdx-region-table");
        if layers.shape.format != Format::Vhdx || !findings.iter().any(between) {
            layers.shape.assert_valid(state, true);
        }
    }
}

#[test]
fn what_cannot_grow_says_why() {
    let refused = |result: zestful_sapling::Result<()>| assert!(matches!(result, Err(Error::Usage(_))), "{result:?}");
    for (shape, most) in [(Shape::plain(4 * MIB), 64u64 << 40), (Shape::vhd(4 * MIB), 2040 << 30)] {
        let (layers, _) = prepared(shape, false);
        let mut disk = layers.open();
        refused(disk.grow(3 * MIB, Space::Sparse));
        refused(disk.grow(4 * MIB + 100, Space::Sparse));
        refused(disk.grow(most + 512, Space::Sparse));
        disk.grow(4 * MIB, Space::Sparse).unwrap();
    }
    for size in [0, 100, 5 * MIB] {
        let (layers, _) = prepared(Shape::plain(4 * MIB), false);
        refused(layers.open().shrink(size));
    }
    // What a larger parent holds behind the end would show.
    let (layers, _) = prepared(Shape::plain(8 * MIB), true);
    let small = Shape::plain(4 * MIB);
    let storage = Arc::new(MemoryStorage::new());
    let parent = layers.shape.open(layers.storages[0].clone());
    crate::support::create(&small, 1, Some(&*parent), &*storage);
    refused(ChainMut::from_parts(small.open_mut(storage), vec![parent]).grow(8 * MIB, Space::Sparse));
}

/// A disk grows while others read and write it.
#[test]
fn a_disk_grows_under_those_who_use_it() {
    for shape in [Shape::plain(4 * MIB), Shape::vhd(4 * MIB)] {
        let (layers, mut model) = prepared(shape, true);
        let disk = SharedDisk::new(layers.open());
        std::thread::scope(|scope| {
            for thread in 0..3u64 {
                let disk = &disk;
                scope.spawn(move || {
                    for round in 0..60u8 {
                        disk.write_at(&[round; 4096], thread * MIB).unwrap();
                        let mut found = [0; 4096];
                        disk.read_at(&mut found, thread * MIB).unwrap();
                        assert_eq!(found, [round; 4096]);
                    }
                });
            }
            for step in 1..6 {
                disk.grow((4 << (2 * step)) * MIB, Space::Sparse).unwrap();
            }
        });
        (0..3).for_each(|thread| model.fill(thread * MIB, 4096, 59));
        disk.close().unwrap();
        let again = layers.open();
        assert_eq!(again.virtual_size(), 4096 * MIB);
        model.assert_same(&again);
    }
}
