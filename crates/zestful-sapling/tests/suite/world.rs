//! What the tests share: a plain model of a disk, random steps, and a family of images in memory.

use std::collections::BTreeMap;
use std::sync::Arc;

use proptest::prelude::*;
use proptest::test_runner::RngSeed;
use zestful_sapling::chain::{ChainMut, Disk};
use zestful_sapling::finding::Severity;
use zestful_sapling::image::vhdx::{self, CreateOptions, Vhdx, VhdxMut};
use zestful_sapling::image::{Image, ImageMut, ParentReference, RecordedPath};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::{MemoryStorage, ReadAt, Storage};

/// The unit of the model: what a disk writes whole or not at all.
pub const UNIT: u64 = 512;
pub const MIB: u64 = 1 << 20;

/// The same cases in every run; `PROPTEST_RNG_SEED` and `PROPTEST_CASES` choose others.
pub fn config(cases: u32) -> ProptestConfig {
    let chosen = |name: &str| std::env::var_os(name).is_some();
    let default = ProptestConfig { failure_persistence: None, ..ProptestConfig::default() };
    ProptestConfig {
        cases: if chosen("PROPTEST_CASES") { default.cases } else { cases },
        rng_seed: if chosen("PROPTEST_RNG_SEED") { default.rng_seed } else { RngSeed::Fixed(20_261_123) },
        ..default
    }
}

/// A disk as plain bytes; units that were never written are zero.
#[derive(Clone, Debug, Default)]
pub struct Model {
    pub units: BTreeMap<u64, u8>,
}

impl Model {
    /// Every unit of the range holds this byte, and nothing else.
    pub fn fill(&mut self, offset: u64, len: u64, byte: u8) {
        for unit in offset / UNIT..(offset + len) / UNIT {
            match byte {
                0 => _ = self.units.remove(&unit),
                byte => _ = self.units.insert(unit, byte),
            }
        }
    }

    pub fn at(&self, unit: u64) -> u8 {
        self.units.get(&unit).copied().unwrap_or(0)
    }

    /// The disk holds exactly what the model holds.
    pub fn assert_same(&self, disk: &dyn Disk) {
        for_each_unit(disk, |unit, found| {
            assert_eq!(found, Some(self.at(unit)), "unit {unit}");
        });
    }
}

/// Calls `act` for every unit that is not known to be zero, and for every unit of the model's touch: the byte that
/// fills it, or `None` when it is mixed. Zero extents are passed over with one call for their first unit.
pub fn for_each_unit(disk: &dyn Disk, mut act: impl FnMut(u64, Option<u8>)) {
    let (mut offset, size) = (0, disk.virtual_size());
    let mut buffer = vec![0; MIB as usize];
    while offset < size {
        let extent = disk.extent_at(offset, size - offset).unwrap();
        assert!(extent.len > 0);
        let step = match extent.data {
            // A hole in a large disk: a few units at both ends stand for it, the caller knows the rest.
            None if extent.len > 64 * MIB => {
                for unit in (offset / UNIT..offset / UNIT + 8)
                    .chain((offset + extent.len) / UNIT - 8..(offset + extent.len) / UNIT)
                {
                    act(unit, Some(0));
                }
                offset += extent.len;
                continue;
            }
            _ => extent.len.min(MIB),
        };
        let part = &mut buffer[..step as usize];
        disk.read_at(part, offset).unwrap();
        for (number, unit) in part.chunks(UNIT as usize).enumerate() {
            let same = unit.iter().all(|byte| *byte == unit[0]);
            act(offset / UNIT + number as u64, same.then_some(unit[0]));
        }
        offset += step;
    }
}

/// One thing that happens to a disk; places are in sectors.
#[derive(Clone, Debug)]
pub enum Step {
    Write {
        at: u64,
        count: u64,
        byte: u8,
    },
    Zero {
        at: u64,
        count: u64,
    },
    Flush,
    Close,
    /// The program ends without closing.
    Drop,
    Derive,
}

/// The shape of the disks in one test case.
#[derive(Clone, Debug)]
pub struct Shape {
    pub virtual_size: u64,
    pub sector: u32,
    /// One for each layer that may come to be.
    pub block_sizes: Vec<u64>,
}

impl Shape {
    pub fn sectors(&self) -> u64 {
        self.virtual_size / u64::from(self.sector)
    }
}

/// Small disks of a few blocks, sometimes large ones with several chunks, sometimes with an odd size.
pub fn shapes() -> impl Strategy<Value = Shape> {
    let block = prop_oneof![4 => Just(MIB), 3 => Just(2 * MIB), 1 => Just(8 * MIB), 1 => Just(256 * MIB)];
    let size = prop_oneof![4 => 1..12 * MIB / 4096, 1 => 9 * 1024 * MIB / 4096..10 * 1024 * MIB / 4096];
    (size, prop_oneof![Just(512u32), Just(4096)], proptest::collection::vec(block, 5), 0u64..8).prop_map(
        |(size, sector, block_sizes, odd)| {
            let odd = if sector == 512 { odd * 512 } else { 0 };
            Shape { virtual_size: size * 4096 + odd, sector, block_sizes }
        },
    )
}

/// Steps on a disk of this shape; ranges begin near a few places, so that they meet.
pub fn steps(shape: &Shape, count: std::ops::Range<usize>, derive: u32) -> impl Strategy<Value = Vec<Step>> + use<> {
    let (sectors, sector) = (shape.sectors(), u64::from(shape.sector));
    let most = (3 * MIB / sector).min(sectors);
    let length = prop_oneof![3 => 1..17u64, 2 => 1..most + 1, 1 => Just(MIB / sector), 1 => Just(2 * MIB / sector)];
    let place = prop_oneof![
        3 => 0..sectors,
        1 => Just(0),
        2 => (0..12u64).prop_map(move |mib| mib * MIB / sector % sectors),
        1 => Just(sectors - 1),
    ];
    let range = (place, length).prop_map(move |(at, count)| (at, count.min(sectors - at)));
    let step = prop_oneof![
        8 => (range.clone(), 1..=255u8).prop_map(|((at, count), byte)| Step::Write { at, count, byte }),
        4 => range.prop_map(|(at, count)| Step::Zero { at, count }),
        3 => Just(Step::Flush),
        1 => Just(Step::Close),
        1 => Just(Step::Drop),
        derive => Just(Step::Derive),
    ];
    proptest::collection::vec(step, count)
}

/// A new image of this shape for the layer `number`, over `parent`.
pub fn create(shape: &Shape, number: usize, parent: Option<&dyn Image>, storage: &dyn Storage) {
    let mut options = CreateOptions::new(shape.virtual_size)
        .with_sectors(shape.sector, 4096)
        .with_block_size(shape.block_sizes[number]);
    if let Some(parent) = parent {
        let accepted = vec![parent.info().data_identity.unwrap()];
        let paths = vec![RecordedPath { key: "relative_path", text: ".\\frozen.vhdx".into() }];
        options = options.with_parent(ParentReference { accepted, paths });
    }
    options.create_in(storage).unwrap();
}

/// A chain in memory: every layer but the last is frozen.
pub struct Layers {
    pub shape: Shape,
    pub storages: Vec<Arc<MemoryStorage>>,
}

impl Layers {
    pub fn new(shape: Shape) -> Self {
        let storage = Arc::new(MemoryStorage::new());
        create(&shape, 0, None, &*storage);
        Self { shape, storages: vec![storage] }
    }

    pub fn parents(&self) -> Vec<Box<dyn Image>> {
        let frozen = self.storages.iter().rev().skip(1);
        frozen.map(|storage| Box::new(Vhdx::open(storage.clone()).unwrap()) as Box<dyn Image>).collect()
    }

    pub fn open(&self) -> ChainMut {
        let current = self.storages.last().unwrap().clone();
        ChainMut::from_parts(Box::new(VhdxMut::open(current).unwrap()), self.parents())
    }

    /// Freezes the current image (which nobody has open) and grows a child from it.
    pub fn derive(&mut self) {
        let storage = Arc::new(MemoryStorage::new());
        let parent = Vhdx::open(self.storages.last().unwrap().clone()).unwrap();
        create(&self.shape, self.storages.len(), Some(&parent), &*storage);
        self.storages.push(storage);
    }
}

pub fn write(image: &mut dyn ImageMut, at: u64, count: u64, byte: u8, sector: u64) -> zestful_sapling::Result<()> {
    image.write_at(&vec![byte; (count * sector) as usize], at * sector)
}

/// No rule of the format is broken; after a crash the end of the file may be untidy.
pub fn assert_valid(storage: Arc<dyn ReadAt>, after_crash: bool) {
    let findings = vhdx::check(storage, &Progress::new()).unwrap();
    let worst = if after_crash { Severity::Warning } else { Severity::Note };
    let errors: Vec<_> = findings.iter().filter(|finding| finding.severity > worst).collect();
    assert!(errors.is_empty(), "{errors:?}");
}
