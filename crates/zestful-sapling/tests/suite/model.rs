//! Random work on chains of up to five layers, against plain bytes.

use proptest::prelude::*;
use zestful_sapling::chain::Disk;
use zestful_sapling::image::Image;
use zestful_sapling::image::vhdx::Vhdx;
use zestful_sapling::storage::{ReadAt, Storage};

use crate::support::{Layers, Model, Shape, Step, renew, shapes, steps};

fn run(mut layers: Layers, steps: &[Step]) {
    let sector = u64::from(layers.shape.sector);
    let mut model = Model::default();
    let mut frozen: Vec<Model> = Vec::new();
    let mut disk = layers.open();
    for step in steps {
        match *step {
            Step::Write { at, count, byte } => {
                disk.write_at(&vec![byte; (count * sector) as usize], at * sector).unwrap();
                model.fill(at * sector, count * sector, byte);
            }
            Step::Zero { at, count } => {
                disk.zero_at(at * sector, count * sector).unwrap();
                model.fill(at * sector, count * sector, 0);
            }
            Step::Flush => disk.flush().unwrap(),
            Step::Close => {
                disk.close().unwrap();
                disk = layers.open();
            }
            Step::Drop => {
                // What was not flushed may go; flushed it must not.
                disk.flush().unwrap();
                drop(disk);
                disk = layers.open();
            }
            Step::Derive if layers.storages.len() < layers.shape.block_sizes.len() => {
                disk.close().unwrap();
                layers.derive();
                frozen.push(model.clone());
                disk = layers.open();
            }
            Step::Derive => {}
            Step::Renew => {
                disk.close().unwrap();
                let mut image = layers.shape.open_mut(layers.storages.last().unwrap().clone());
                renew(&mut *image).unwrap();
                image.close().unwrap();
                disk = layers.open();
            }
        }
    }
    model.assert_same(&disk);
    disk.close().unwrap();
    model.assert_same(&layers.open());
    for storage in &layers.storages {
        layers.shape.assert_valid(storage.clone(), false);
        assert!(!layers.shape.open(storage.clone()).info().log_pending);
    }
    // No layer below was touched by what was written above it.
    while let Some(model) = frozen.pop() {
        layers.storages.pop();
        model.assert_same(&layers.open());
    }
}

proptest! {
    #![proptest_config(crate::support::config(300))]

    #[test]
    fn chains_read_as_the_model(
        (shape, steps) in shapes().prop_flat_map(|shape| {
            let steps = steps(&shape, 1..40, 2);
            (Just(shape), steps)
        })
    ) {
        run(Layers::new(shape), &steps);
    }

    /// Any range of bytes, not only whole sectors.
    #[test]
    fn unaligned_ranges_read_as_written(
        shape in shapes(),
        writes in proptest::collection::vec(
            (any::<prop::sample::Index>(), 1usize..9000, any::<u8>(), any::<bool>()),
            1..20,
        ),
        probe in any::<prop::sample::Index>(),
    ) {
        let mut layers = Layers::new(shape);
        layers.derive();
        let size = layers.shape.virtual_size.min(1 << 20) as usize;
        let mut model = vec![0; size];
        let disk = layers.open();
        for (at, len, byte, zero) in writes {
            let at = at.index(size);
            let len = len.min(size - at);
            if zero {
                disk.zero_at(at as u64, len as u64).unwrap();
            } else {
                disk.write_at(&vec![byte; len], at as u64).unwrap();
            }
            model[at..at + len].fill(if zero { 0 } else { byte });
        }
        let from = probe.index(size);
        let mut found = vec![0; size - from];
        disk.read_at(&mut found, from as u64).unwrap();
        prop_assert!(found == model[from..]);
    }
}

/// More changed pages than one log entry can carry, without a flush in between.
#[test]
fn many_scattered_writes_need_no_flush() {
    for (shape, child) in [(Shape::plain(20 << 30), true), (Shape::vhd(20 << 30), true), (Shape::vhd(20 << 30), false)]
    {
        let mut layers = Layers::new(shape);
        if child {
            layers.derive();
        }
        scatter(layers);
    }
}

fn scatter(layers: Layers) {
    let disk = layers.open();
    let mut model = Model::default();
    for number in 0..1500u64 {
        let offset = number * 7919 * 512 * 64 % (20 << 30);
        disk.write_at(&[number as u8 | 1; 512], offset).unwrap();
        model.fill(offset, 512, number as u8 | 1);
    }
    model.assert_same(&disk);
    disk.close().unwrap();
    layers.shape.assert_valid(layers.storages.last().unwrap().clone(), false);
    model.assert_same(&layers.open());
}

/// Bits of a block that is not partially present mean nothing, whatever another program left in them.
#[test]
fn stale_bits_in_a_bitmap_mean_nothing() {
    let shape = Shape::plain(4 << 20);
    let mut layers = Layers::new(shape);
    let base = layers.open();
    base.write_at(&vec![1; 4 << 20], 0).unwrap();
    base.close().unwrap();
    layers.derive();
    let child = layers.open();
    child.write_at(&[2; 64 << 10], 1 << 20).unwrap();
    child.close().unwrap();
    // Block 1 is taken out of the table, its bits stay.
    let table = 3 << 20;
    layers.storages[1].write_at(&[0; 8], table + 8).unwrap();
    let child = layers.open();
    child.write_at(&[3; 512], (1 << 20) + 8192).unwrap();
    let mut model = Model::default();
    model.fill(0, 4 << 20, 1);
    model.fill((1 << 20) + 8192, 512, 3);
    model.assert_same(&child);
    child.close().unwrap();
    model.assert_same(&layers.open());
}

/// Zeroing what is zero changes nothing, not even an identity; a real change does.
#[test]
fn identities_change_with_the_first_real_change() {
    let shape = Shape::plain(4 << 20);
    let layers = Layers::new(shape);
    let identity = || Vhdx::open(layers.storages[0].clone()).unwrap().info().data_identity;
    let before = identity();
    let disk = layers.open();
    disk.zero_at(0, 4 << 20).unwrap();
    disk.write_at(&[], 0).unwrap();
    disk.flush().unwrap();
    disk.close().unwrap();
    assert_eq!(identity(), before);
    let headers = || {
        let mut both = [vec![0; 4096], vec![0; 4096]];
        layers.storages[0].read_at(&mut both[0], 64 << 10).unwrap();
        layers.storages[0].read_at(&mut both[1], 128 << 10).unwrap();
        both
    };
    let old = headers();
    let disk = layers.open();
    disk.write_at(&[1; 512], 0).unwrap();
    let during = disk.info().data_identity;
    // The header that was current until then (the second one of a new image) is still there.
    assert_eq!((headers()[0] == old[0], headers()[1] == old[1]), (false, true));
    disk.write_at(&[2; 512], 512).unwrap();
    disk.flush().unwrap();
    assert_eq!((identity(), disk.info().data_identity), (during, during));
    assert_ne!(during, before);
    disk.close().unwrap();
    assert_eq!(identity(), during);
}

/// Other programs put a VHD's table behind its blocks; new blocks must not land on it.
#[test]
fn a_table_behind_the_blocks_is_not_written_over() {
    let layers = Layers::new(Shape::vhd(8 << 20));
    let disk = layers.open();
    disk.write_at(&[5; 4096], 0).unwrap();
    disk.close().unwrap();
    let storage = &layers.storages[0];
    let bytes = |at: u64, len: usize| {
        let mut buffer = vec![0; len];
        storage.read_at(&mut buffer, at).unwrap();
        buffer
    };
    let (header_at, table_at, end) = (512, 1536, storage.len().unwrap() - 512);
    let (mut header, table, footer) = (bytes(header_at, 1024), bytes(table_at, 512), bytes(end, 512));
    header[16..24].copy_from_slice(&end.to_be_bytes());
    header[36..40].fill(0);
    let sum = !header.iter().fold(0u32, |sum, byte| sum + u32::from(*byte));
    header[36..40].copy_from_slice(&sum.to_be_bytes());
    storage.write_at(&header, header_at).unwrap();
    storage.write_at(&table, end).unwrap();
    storage.write_at(&footer, end + 512).unwrap();
    let disk = layers.open();
    let mut model = Model::default();
    model.fill(0, 4096, 5);
    for block in 1..9u64 {
        disk.write_at(&[6; 512], block << 19).unwrap();
        model.fill(block << 19, 512, 6);
    }
    disk.close().unwrap();
    layers.shape.assert_valid(storage.clone(), false);
    model.assert_same(&layers.open());
}

/// Space in the file that nothing uses is taken again, and what stood there never shows.
#[test]
fn old_bytes_in_unused_space_never_show() {
    let shape = Shape::plain(8 << 20);
    let layers = Layers::new(shape);
    let storage = &layers.storages[0];
    let len = storage.len().unwrap();
    storage.write_at(&vec![0xEE; 3 << 20], len).unwrap();
    let disk = layers.open();
    let mut model = Model::default();
    for block in 0..3u64 {
        disk.write_at(&[4; 512], block << 20).unwrap();
        model.fill(block << 20, 512, 4);
    }
    model.assert_same(&disk);
    disk.close().unwrap();
    model.assert_same(&layers.open());
    assert_eq!(storage.len().unwrap(), len + (3 << 20), "the space was not taken again");
}
