//! Hostile and damaged files: an error or the content, never a panic, never a write, never endless work.

use std::sync::Arc;

use proptest::prelude::*;
use zestful_sapling::Error;
use zestful_sapling::chain::Disk;
use zestful_sapling::image::vhdx::{self, Vhdx, VhdxMut};
use zestful_sapling::image::{Format, Image, ImageMut, Source, open_image, open_image_mut, vhd};
use zestful_sapling::progress::Progress;
use zestful_sapling::repair::{Salvage, UndoRepair};
use zestful_sapling::storage::testing::FaultStorage;
use zestful_sapling::storage::{Access, FileStorage, MemoryStorage, ReadAt, Storage};

use crate::support::{Layers, MIB, Shape};

pub const HEADERS: [u64; 2] = [64 << 10, 128 << 10];
pub const TABLES: [u64; 2] = [192 << 10, 256 << 10];
pub const LOG: u64 = MIB;
pub const METADATA: u64 = 2 * MIB;
pub const BAT: u64 = 3 * MIB;

/// A child with blocks in every state that a writer makes, its last changes still in the log.
pub fn sample() -> MemoryStorage {
    let shape = Shape { block_sizes: vec![MIB, 2 * MIB], ..Shape::plain(40 << 20) };
    let mut layers = Layers::new(shape);
    let base = layers.open();
    base.write_at(&vec![1; 20 << 20], 0).unwrap();
    base.close().unwrap();
    layers.derive();
    let child = VhdxMut::open(layers.storages[1].clone()).unwrap();
    child.write_at(&vec![2; 2 << 20], 4 << 20).unwrap();
    child.write_at(&[3; 5120], 1024).unwrap();
    child.flush().unwrap();
    child.zero_at(8 << 20, 4 << 20).unwrap();
    child.write_at(&[4; 512], 30 << 20).unwrap();
    child.flush().unwrap();
    drop(child);
    (*layers.storages[1]).clone()
}

/// One thing done to the bytes of a file.
#[derive(Clone, Debug)]
enum Damage {
    Flip { at: u64, with: u8 },
    Put { at: u64, value: u64 },
    Zero { page: u64 },
    Swap { page: u64, other: u64 },
    Cut { len: u64 },
}

fn damages() -> impl Strategy<Value = Vec<Damage>> {
    // Places where something stands, and the fields of each structure more often than the rest.
    let structure = prop_oneof![
        Just((0, 1024)),
        Just((HEADERS[0], 88)),
        Just((HEADERS[1], 88)),
        Just((TABLES[0], 96)),
        Just((TABLES[1], 96)),
        Just((LOG, 32 << 10)),
        Just((METADATA, 256)),
        Just((METADATA + (64 << 10), 512)),
        Just((BAT, 256)),
        Just((0, 9 * MIB)),
    ];
    let place =
        (structure, any::<prop::sample::Index>()).prop_map(|((start, len), at)| start + at.index(len as usize) as u64);
    let value = prop_oneof![
        Just(0),
        Just(u64::MAX),
        Just(1 << 63),
        any::<u64>(),
        (0u64..64).prop_map(|bit| 1 << bit),
        (0u64..40).prop_map(|mib| mib << 20 | 6),
        (0u64..40, 0u64..8).prop_map(|(mib, state)| mib << 20 | state),
    ];
    let page = (0..9 * MIB / 4096).prop_map(|page| page * 4096);
    let one = prop_oneof![
        4 => (place.clone(), 1..=255u8).prop_map(|(at, with)| Damage::Flip { at, with }),
        4 => (place, value).prop_map(|(at, value)| Damage::Put { at: at & !7, value }),
        1 => page.clone().prop_map(|page| Damage::Zero { page }),
        1 => (page.clone(), page).prop_map(|(page, other)| Damage::Swap { page, other }),
        1 => (0..10 * MIB).prop_map(|len| Damage::Cut { len }),
    ];
    proptest::collection::vec(one, 1..6)
}

pub fn bytes(storage: &dyn ReadAt, at: u64, len: usize) -> Vec<u8> {
    let mut buffer = vec![0; len];
    let there = storage.len().unwrap().saturating_sub(at).min(len as u64) as usize;
    if there > 0 {
        storage.read_at(&mut buffer[..there], at).unwrap();
    }
    buffer
}

fn apply(storage: &MemoryStorage, damage: &Damage) {
    match *damage {
        Damage::Flip { at, with } => storage.write_at(&[bytes(storage, at, 1)[0] ^ with], at).unwrap(),
        Damage::Put { at, value } => storage.write_at(&value.to_le_bytes(), at).unwrap(),
        Damage::Zero { page } => storage.write_at(&[0; 4096], page).unwrap(),
        Damage::Swap { page, other } => {
            let (one, two) = (bytes(storage, page, 4096), bytes(storage, other, 4096));
            storage.write_at(&one, other).unwrap();
            storage.write_at(&two, page).unwrap();
        }
        Damage::Cut { len } => storage.set_len(len.min(storage.len().unwrap())).unwrap(),
    }
}

/// Makes the checksums right again, so that the damage gets past them.
pub fn reseal(storage: &MemoryStorage) {
    let mut places = vec![(HEADERS[0], 4096), (HEADERS[1], 4096), (TABLES[0], 64 << 10), (TABLES[1], 64 << 10)];
    for at in (LOG..LOG + MIB).step_by(4096) {
        let head = bytes(storage, at, 12);
        let len = u32::from_le_bytes(head[8..].try_into().unwrap()) as usize;
        if head[..4] == *b"loge" && len <= 1 << 20 {
            places.push((at, len.max(8)));
        }
    }
    for (at, len) in places.into_iter().filter(|(at, len)| at + *len as u64 <= storage.len().unwrap()) {
        let mut structure = bytes(storage, at, len);
        structure[4..8].fill(0);
        storage.write_at(&crc32c::crc32c(&structure).to_le_bytes(), at + 4).unwrap();
    }
}

/// Opens, reads everything that is there, and checks; tells whether all of it could be read.
fn look(storage: Arc<MemoryStorage>) -> Result<(), Error> {
    look_at(storage, Format::Vhdx)
}

fn look_at(storage: Arc<MemoryStorage>, format: Format) -> Result<(), Error> {
    let findings = match format {
        Format::Vhd => vhd::check(storage.clone(), &Progress::new())?,
        _ => vhdx::check(storage.clone(), &Progress::new())?,
    };
    let read = || {
        let image = open_image(storage, Some(format))?;
        let size = image.info().virtual_size;
        let (mut offset, mut extents) = (0, 0);
        let mut buffer = vec![0; 1 << 20];
        while offset < size && extents < 20_000 {
            let extent = image.extent_at(offset, size - offset)?;
            assert!(extent.len > 0 && offset + extent.len <= size);
            if let Source::Data(at) = extent.source {
                let part = &mut buffer[..extent.len.min(1 << 20) as usize];
                image.read_data(part, at)?;
            }
            offset += extent.len;
            extents += 1;
        }
        Ok(())
    };
    let outcome: Result<(), Error> = read();
    if let Err(error) = &outcome {
        assert!(matches!(error, Error::Damaged(_) | Error::Unsupported(_)), "{error}");
        let told = findings.iter().any(|finding| finding.prevents_opening());
        assert!(told, "cannot be read, yet check found nothing that says so: {error}; {findings:?}");
    }
    outcome
}

proptest! {
    #![proptest_config(crate::support::config(1500))]

    #[test]
    fn damaged_images_are_read_or_refused(damages in damages(), resealed in any::<bool>()) {
        thread_local!(static SAMPLE: MemoryStorage = sample());
        let storage = SAMPLE.with(Clone::clone);
        damages.iter().for_each(|damage| apply(&storage, damage));
        if resealed {
            reseal(&storage);
        }
        let readable = look(Arc::new(storage.clone()));
        // A writer that refuses has not written.
        let watched = Arc::new(FaultStorage::new(storage));
        match VhdxMut::open(watched.clone()) {
            Ok(image) => {
                let size = image.info().virtual_size;
                // A block beyond the judged part of a table may turn out damaged: an error, not a panic.
                _ = image.write_at(&vec![9; image.info().logical_sector as usize], 0);
                _ = image.zero_at(0, size.min(64 << 20) / 4096 * 4096);
                _ = Box::new(image).close();
            }
            // No newer header can be written over one with the largest number there is.
            Err(Error::Unsupported(finding)) if finding.code() == "vhdx-sequence" => {}
            Err(error) => {
                prop_assert!(readable.is_err(), "a reader can open it, a writer cannot: {}", error);
                prop_assert_eq!(watched.operations(), 0, "it was written to: {}", error);
            }
        }
    }

    /// Nothing but a signature and noise.
    #[test]
    fn noise_is_refused(noise in proptest::collection::vec(any::<u8>(), 0..9000), len in 0..3 * MIB) {
        let storage = MemoryStorage::new();
        storage.set_len(len).unwrap();
        storage.write_at(b"vhdxfile", 0).unwrap();
        for at in HEADERS.into_iter().chain(TABLES) {
            storage.write_at(&noise, at).unwrap();
        }
        for (at, signature) in HEADERS.into_iter().zip([b"head"; 2]).chain(TABLES.into_iter().zip([b"regi"; 2])) {
            storage.write_at(signature, at).unwrap();
        }
        reseal(&storage);
        prop_assert!(look(Arc::new(storage)).is_err());
    }
}

/// The samples are sound.
#[test]
fn what_is_not_damaged_is_read() {
    look(Arc::new(sample())).unwrap();
    look_at(Arc::new(vhd_sample()), Format::Vhd).unwrap();
}

/// A VHD child with blocks of its own.
pub fn vhd_sample() -> MemoryStorage {
    let mut layers = Layers::new(Shape::vhd(5 << 20));
    layers.derive();
    let child = layers.open();
    child.write_at(&vec![2; 1 << 20], 1 << 20).unwrap();
    child.write_at(&[3; 5120], 4 << 20).unwrap();
    child.close().unwrap();
    (*layers.storages[1]).clone()
}

/// Puts the checksums of footers and header right.
pub fn reseal_vhd(storage: &MemoryStorage) {
    let len = storage.len().unwrap();
    for (at, size, field) in [(0, 512, 64), (512, 1024, 36), (len.saturating_sub(512), 512, 64)] {
        // What is no footer any more may be the data before one.
        let is_there = [b"conectix", b"cxsparse"].iter().any(|cookie| bytes(storage, at, 8) == *cookie);
        if is_there && at + size as u64 <= len {
            let mut structure = bytes(storage, at, size);
            structure[field..field + 4].fill(0);
            let sum = !structure.iter().fold(0u32, |sum, byte| sum.wrapping_add(u32::from(*byte)));
            storage.write_at(&sum.to_be_bytes(), at + field as u64).unwrap();
        }
    }
}

proptest! {
    #![proptest_config(crate::support::config(1500))]

    #[test]
    fn damaged_vhd_images_are_read_or_refused(
        damages in proptest::collection::vec(
            (
                prop_oneof![3 => 0u64..2048, 1 => Just(0), 1 => 0u64..1 << 21],
                prop_oneof![Just(0), Just(u64::MAX), any::<u64>()],
                any::<bool>(),
            ),
            1..5,
        ),
        cut in proptest::option::weighted(0.2, 0u64..1 << 21),
        resealed in any::<bool>(),
    ) {
        thread_local!(static SAMPLE: MemoryStorage = vhd_sample());
        let storage = SAMPLE.with(Clone::clone);
        let len = storage.len().unwrap();
        for (at, value, from_end) in damages {
            let at = if from_end { len.saturating_sub(at % 600) } else { at }.min(len - 8);
            storage.write_at(&value.to_be_bytes(), at).unwrap();
        }
        if let Some(cut) = cut {
            storage.set_len(cut.min(len)).unwrap();
        }
        if resealed {
            reseal_vhd(&storage);
        }
        let readable = look_at(Arc::new(storage.clone()), Format::Vhd);
        let watched = Arc::new(FaultStorage::new(storage));
        match open_image_mut(watched.clone(), Some(Format::Vhd)) {
            Ok(image) => {
                _ = image.write_at(&[9; 512], 0);
                _ = image.zero_at(0, image.info().virtual_size.min(4 << 20));
                _ = image.close();
            }
            // A lost footer is read by its copy, but not written to.
            Err(Error::Refused(..)) => {}
            Err(error) => {
                prop_assert!(readable.is_err(), "a reader can open it, a writer cannot: {}", error);
                prop_assert_eq!(watched.operations(), 0);
            }
        }
    }
}

/// A table of 513 MiB is read in pages: opening and looking at one end touches little of it.
#[test]
fn the_largest_table_is_read_in_pages() {
    let storage = Arc::new(MemoryStorage::new());
    let options = vhdx::CreateOptions::new(64 << 40).with_block_size(MIB);
    options.create_in(&*storage).unwrap();
    let image = Box::new(VhdxMut::open(storage.clone()).unwrap());
    image.write_at(&[5; 4096], (64 << 40) - 4096).unwrap();
    image.close().unwrap();
    assert!(storage.allocated().unwrap() < 2 * MIB);
    let layers: Vec<Box<dyn Image>> = vec![Box::new(Vhdx::open(storage).unwrap())];
    struct Alone(Vec<Box<dyn Image>>);
    impl Disk for Alone {
        fn layer(&self, number: usize) -> Option<&dyn Image> {
            self.0.get(number).map(|layer| &**layer)
        }
        fn info(&self) -> &zestful_sapling::image::ImageInfo {
            self.0[0].info()
        }
    }
    let disk = Alone(layers);
    let extent = disk.extent_at(0, 64 << 40).unwrap();
    assert_eq!((extent.len, extent.data), ((64 << 40) - MIB, None));
}

/// Whole runs over a damaged file: checked, mended with all that can be given up, read, put back, salvaged. Each ends
/// in an answer; what is mended opens and reads; what is put back is what it was.
fn whole_run(storage: &MemoryStorage, format: Format, folder: &std::path::Path) -> Result<bool, Error> {
    let path = folder.join(format!("fen-base.{format}"));
    crate::repairs::store(storage, &path);
    let before = crate::repairs::bits(storage);
    let outcome = crate::repairs::repair_all(&path, format);
    let open = || Arc::new(FileStorage::open(&path, Access::ReadUnlocked).unwrap());
    let mut mended = false;
    if let Ok(outcome) = &outcome {
        let opens = open_image(open(), Some(format)).is_ok();
        let fatal = outcome.left.iter().any(|finding| finding.prevents_opening());
        assert_eq!(opens, !fatal, "{:?}", outcome.left);
        if opens && outcome.undo_file.is_some() {
            mended = true;
            assert!(crate::repairs::Content::of(open(), format).is_some());
        }
        if outcome.undo_file.is_some() {
            crate::support::perform(UndoRepair::new(&path)).unwrap();
        }
    }
    assert!(crate::repairs::bits(&*open()) == before, "it is not what it was");
    let target = folder.join("saved.vhdx");
    _ = std::fs::remove_file(&target);
    let salvage = Salvage::new(&path, &target).with_source_format(format);
    let salvaged = crate::support::perform(salvage.without(folder.join(format!("frozen.{format}"))));
    assert!(salvaged.is_err() || target.exists());
    assert!(crate::repairs::bits(&*open()) == before, "a salvage wrote to it");
    match outcome {
        Ok(_) => Ok(mended),
        // Anything else would be a fault of ours.
        Err(error @ (Error::Damaged(_) | Error::Unsupported(_) | Error::Refused(..) | Error::Usage(_))) => Err(error),
        Err(Error::Io { source, .. }) if source.raw_os_error() == Some(27) => Ok(false),
        Err(other) => panic!("{other:?}"),
    }
}

proptest! {
    #![proptest_config(crate::support::config(250))]

    #[test]
    fn whole_runs_over_damaged_images_end(
        damages in damages(),
        resealed in any::<bool>(),
        vhd in any::<bool>(),
        values in proptest::collection::vec((0u64..2048, any::<u64>(), any::<bool>()), 1..4),
        cut in proptest::option::weighted(0.2, any::<prop::sample::Index>()),
    ) {
        thread_local!(static SAMPLES: [MemoryStorage; 2] = [sample(), vhd_sample()]);
        let storage = SAMPLES.with(|samples| samples[usize::from(vhd)].clone());
        let len = storage.len().unwrap();
        match vhd {
            false => damages.iter().for_each(|damage| apply(&storage, damage)),
            true => {
                for (at, value, from_end) in values {
                    let at = if from_end { len - 8 - at % 600 } else { at };
                    storage.write_at(&value.to_be_bytes(), at).unwrap();
                }
                if let Some(cut) = cut {
                    storage.set_len(cut.index(len as usize) as u64).unwrap();
                }
            }
        }
        if resealed {
            if vhd { reseal_vhd(&storage) } else { reseal(&storage) }
        }
        let folder = crate::family_model::quick_folder();
        _ = whole_run(&storage, if vhd { Format::Vhd } else { Format::Vhdx }, folder.path());
    }
}
