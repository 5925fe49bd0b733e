//! Blocks move to other places in their files: against a model, in every crash state, and on hosts that fail.

use std::sync::Arc;

use proptest::prelude::*;
use zestful_sapling::chain::ChainMut;
use zestful_sapling::image::{Arrangement, Format, Placement};
use zestful_sapling::storage::testing::{Fault, FaultStorage};
use zestful_sapling::storage::{MemoryStorage, ReadAt, Storage};

use crate::support::{Layers, MIB, Model, Shape, Step, shapes, steps, write};

/// Does the steps on the last of the layers, and grows a child where they say so.
pub fn live(layers: &mut Layers, model: &mut Model, steps: &[Step]) {
    let sector = u64::from(layers.shape.sector);
    for step in steps {
        let mut image = layers.shape.open_mut(layers.storages.last().unwrap().clone());
        match *step {
            Step::Write { at, count, byte } => {
                write(&mut *image, at, count, byte, sector).unwrap();
                model.fill(at * sector, count * sector, byte);
            }
            Step::Zero { at, count } => {
                image.zero_at(at * sector, count * sector).unwrap();
                model.fill(at * sector, count * sector, 0);
            }
            _ => {}
        }
        image.close().unwrap();
        if matches!(step, Step::Derive) && layers.storages.len() < 4 {
            layers.derive();
        }
    }
}

fn placement(layers: &Layers) -> Placement {
    layers.shape.open(layers.storages.last().unwrap().clone()).placement(u64::MAX, true).unwrap().unwrap()
}

/// What is so after each arrangement that came to its end.
fn judge(layers: &Layers, before: Placement, how: Arrangement) {
    let after = placement(layers);
    assert_eq!(after.blocks, before.blocks);
    assert!(after.file_len <= before.file_len && after.file_len >= before.packed_len, "{before:?} {after:?}");
    if how == Arrangement::InOrder {
        // Structures that stay where they are may stand between.
        assert!(after.jumps <= 5, "{before:?} {after:?}");
    }
}

proptest! {
    #![proptest_config(crate::support::config(80))]

    /// Whatever was done to an image, its blocks move, and nobody who reads it notices.
    #[test]
    fn what_moves_reads_as_before(
        (shape, steps) in shapes().prop_flat_map(|shape| (Just(shape.clone()), steps(&shape, 1..24, 2))),
        order in any::<bool>(),
        room in prop_oneof![Just(0), Just(3 * MIB), Just(1 << 40)],
        grown in any::<bool>(),
    ) {
        let how = if order { Arrangement::InOrder } else { Arrangement::Packed };
        let (mut layers, mut model) = (Layers::new(shape), Model::default());
        live(&mut layers, &mut model, &steps);
        let storage = layers.storages.last().unwrap().clone();
        if grown {
            // The table goes behind the blocks.
            let mut image = layers.shape.open_mut(storage.clone());
            image.grow(layers.shape.virtual_size.next_multiple_of(4096) + 9 * 1024 * MIB).unwrap();
            image.close().unwrap();
        }
        let before = placement(&layers);
        let mut image = layers.shape.open_mut(storage.clone());
        let (identity, data, mut moved) = (image.info().identity, image.info().data_identity, 0);
        let mut watch = |bytes| {
            moved += bytes;
            Ok(())
        };
        image.arrange(how, room, &mut watch).unwrap();
        prop_assert_eq!((image.info().identity, image.info().data_identity), (identity, data));
        image.close().unwrap();
        judge(&layers, before, how);
        layers.shape.assert_valid(storage.clone(), false);
        let disk = ChainMut::from_parts(layers.shape.open_mut(storage.clone()), layers.parents());
        prop_assert_eq!(disk.parents().len() + 1, layers.storages.len());
        model.assert_same(&disk);
        disk.close().unwrap();
        // Once more there is nothing to do, and nothing is done.
        let len = storage.len().unwrap();
        let mut image = layers.shape.open_mut(storage.clone());
        image.arrange(how, room, &mut |bytes| {
            assert_eq!(bytes, 0);
            Ok(())
        }).unwrap();
        image.close().unwrap();
        prop_assert_eq!(storage.len().unwrap(), len);
        // What is written afterwards lies over nothing.
        live(&mut layers, &mut model, &steps);
        model.assert_same(&layers.open());
        layers.shape.assert_valid(layers.storages.last().unwrap().clone(), false);
    }
}

/// An image of eight blocks in the wrong order, with gaps between, alone or over a parent.
fn scattered(format: Format, child: bool) -> (Layers, Model) {
    let shape = if format == Format::Vhd { Shape::vhd(8 * MIB) } else { Shape::plain(8 * MIB) };
    let block = shape.block_sizes[0];
    let (mut layers, mut model) = (Layers::new(shape), Model::default());
    let mut disk = layers.open();
    if child {
        disk.write_at(&[0x11; 8192], 2 * block).unwrap();
        model.fill(2 * block, 8192, 0x11);
        disk.close().unwrap();
        layers.derive();
        disk = layers.open();
    }
    for (number, byte) in [(7, 7), (0, 1), (5, 5), (2, 2), (6, 6), (1, 1), (4, 4), (3, 3)] {
        let at = number * block + 4096 * byte;
        disk.write_at(&vec![byte as u8; 12288], at).unwrap();
        model.fill(at, 12288, byte as u8);
        disk.flush().unwrap();
    }
    for number in [5, 6] {
        disk.zero_at(number * block, block).unwrap();
        model.fill(number * block, block, 0);
    }
    disk.close().unwrap();
    (layers, model)
}

const FORMS: [(Format, bool); 4] =
    [(Format::Vhdx, false), (Format::Vhdx, true), (Format::Vhd, false), (Format::Vhd, true)];

#[test]
fn a_crash_at_any_moment_leaves_every_block_in_one_of_its_places() {
    let mut states = 0;
    for (format, child) in FORMS {
        for how in [Arrangement::Packed, Arrangement::InOrder] {
            for room in [0, 3 * MIB] {
                let (layers, model) = scattered(format, child);
                let start: MemoryStorage = (**layers.storages.last().unwrap()).clone();
                let storage = Arc::new(FaultStorage::new(start.clone()));
                let mut image = layers.shape.open_mut(storage.clone());
                image.arrange(how, room, &mut |_| Ok(())).unwrap();
                image.close().unwrap();
                for state in storage.recording(start).crash_states(7, 2) {
                    let (issued, state) = state.unwrap();
                    let state: Arc<dyn Storage> = Arc::new(state);
                    println!("{format} {child} {how:?} {room}: after {issued}");
                    let disk = ChainMut::from_parts(layers.shape.open_mut(state.clone()), layers.parents());
                    model.assert_same(&disk);
                    drop(disk);
                    layers.shape.assert_valid(state.clone(), true);
                    // It goes on from there.
                    let mut image = layers.shape.open_mut(state.clone());
                    image.arrange(how, room, &mut |_| Ok(())).unwrap();
                    image.close().unwrap();
                    layers.shape.assert_valid(state.clone(), false);
                    model.assert_same(&ChainMut::from_parts(layers.shape.open_mut(state), layers.parents()));
                    states += 1;
                }
            }
        }
    }
    println!("{states} states");
    assert!(states > 500, "{states}");
}

#[test]
fn a_host_that_fails_at_any_change_loses_nothing() {
    let mut failures = 0;
    for (format, child) in FORMS {
        for how in [Arrangement::Packed, Arrangement::InOrder] {
            let (layers, model) = scattered(format, child);
            let start: MemoryStorage = (**layers.storages.last().unwrap()).clone();
            let arrange = |storage: &Arc<FaultStorage>| {
                let mut image = layers.shape.open_mut(storage.clone());
                image.arrange(how, MIB, &mut |_| Ok(()))
            };
            let whole = Arc::new(FaultStorage::new(start.clone()));
            arrange(&whole).unwrap();
            let faults = [Fault::Error(28), Fault::Error(5), Fault::LostWrites];
            for (number, fault) in (0..whole.operations()).flat_map(|number| faults.map(|fault| (number, fault))) {
                let storage = Arc::new(FaultStorage::new(start.clone()).fail_once(number, fault));
                let ended = arrange(&storage);
                let disk = ChainMut::from_parts(layers.shape.open_mut(storage.clone()), layers.parents());
                model.assert_same(&disk);
                drop(disk);
                layers.shape.assert_valid(storage.clone(), true);
                failures += usize::from(ended.is_err());
            }
        }
    }
    println!("{failures} failures");
    assert!(failures > 200, "{failures}");
}

/// Whoever watches ends it: what was moved stays moved, and the rest stays where it is.
#[test]
fn an_interrupt_leaves_what_was_done() {
    for (format, child) in FORMS {
        let (layers, model) = scattered(format, child);
        let before = placement(&layers);
        let storage = layers.storages.last().unwrap().clone();
        let mut image = layers.shape.open_mut(storage.clone());
        let mut moved = 0;
        let ended = image.arrange(Arrangement::InOrder, 0, &mut |bytes| {
            moved += bytes;
            if moved > 3 * MIB { Err(zestful_sapling::Error::Cancelled) } else { Ok(()) }
        });
        assert!(matches!(ended, Err(zestful_sapling::Error::Cancelled)), "{ended:?}");
        image.close().unwrap();
        layers.shape.assert_valid(storage.clone(), false);
        model.assert_same(&layers.open());
        let after = placement(&layers);
        assert!(after.file_len <= before.file_len && after != before, "{before:?} {after:?}");
    }
}

/// What the parent holds as well is given back: nobody who reads notices, at no moment, and the file becomes shorter.
#[test]
fn blocks_that_the_parent_holds_as_well_are_given_back() {
    for format in [Format::Vhdx, Format::Vhd] {
        let shape = if format == Format::Vhd { Shape::vhd(8 * MIB) } else { Shape::plain(8 * MIB) };
        let (block, mut model) = (shape.block_sizes[0], Model::default());
        let mut layers = Layers::new(shape);
        for (at, len, byte) in [(0, block, 3), (block, 8192, 4), (2 * block, 4096, 5)] {
            let disk = layers.open();
            disk.write_at(&vec![byte; len as usize], at).unwrap();
            disk.close().unwrap();
            model.fill(at, len, byte);
        }
        layers.derive();
        let disk = layers.open();
        for (at, len, byte) in [(0, block, 3), (block, 4096, 4), (3 * block, block, 0), (2 * block, 4096, 6)] {
            disk.write_at(&vec![byte; len as usize], at).unwrap();
            model.fill(at, len, byte);
        }
        disk.close().unwrap();
        let before = placement(&layers);
        assert_eq!(before.blocks, 4);
        let start: MemoryStorage = (**layers.storages.last().unwrap()).clone();
        let storage = Arc::new(FaultStorage::new(start.clone()));
        let mut image = layers.shape.open_mut(storage.clone());
        let identity = image.info().data_identity.unwrap();
        image.set_data_identity(identity).unwrap();
        // The third block is another one; of the last the caller names a part only.
        for (at, len) in [(0, 2 * block), (3 * block, block), (2 * block, 4096)] {
            image.give_to_parent(at, len).unwrap();
        }
        image.flush().unwrap();
        image.arrange(Arrangement::Packed, MIB, &mut |_| Ok(())).unwrap();
        assert_eq!(image.info().data_identity, Some(identity));
        let after = image.placement(u64::MAX, true).unwrap().unwrap_or_default();
        image.close().unwrap();
        assert_eq!(after.blocks, 1, "{after:?}");
        assert!(after.file_len + 3 * block <= before.file_len, "{before:?} {after:?}");
        for state in storage.recording(start).crash_states(13, 3) {
            let state: Arc<dyn Storage> = Arc::new(state.unwrap().1);
            model.assert_same(&ChainMut::from_parts(layers.shape.open_mut(state.clone()), layers.parents()));
            layers.shape.assert_valid(state, true);
        }
    }
}
