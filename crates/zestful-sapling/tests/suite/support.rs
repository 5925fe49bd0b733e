//! What the tests share: a plain model of a disk, random steps, and a family of images in memory.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use proptest::prelude::*;
use proptest::test_runner::RngSeed;
use std::path::Path;
use zestful_sapling::chain::{ChainMut, Disk};
use zestful_sapling::check::{Check, CheckReport};
use zestful_sapling::family::{Override, Search};
use zestful_sapling::finding::Severity;
use zestful_sapling::image::vhd;
use zestful_sapling::image::vhdx;
use zestful_sapling::image::{
    Format, Image, ImageMut, ParentRecord, ParentReference, RecordedPath, open_image, open_image_mut,
};
use zestful_sapling::ops::{Operation, PinReport, Planned, ReadBytes, Unpin, UnpinOutcome, VerifyPin};
use zestful_sapling::progress::Progress;
use zestful_sapling::repair::{Abandon, Abandoned, Resume, Resumed};
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
    /// The size in bytes, where that is judged too.
    pub size: Option<u64>,
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

    /// Gives the disk this size in bytes: what stands behind it is gone, and what is new is zero.
    pub fn resize(&mut self, size: u64) {
        self.units.retain(|unit, _| *unit < size / UNIT);
        self.size = Some(size);
    }

    /// The disk holds exactly what the model holds.
    pub fn assert_same(&self, disk: &dyn Disk) {
        assert_eq!(self.size.unwrap_or(disk.virtual_size()), disk.virtual_size());
        for_each_unit(disk, |units, found| match found {
            Some(0) => assert_eq!(self.units.range(units).next(), None),
            found => units.for_each(|unit| assert_eq!(found, Some(self.at(unit)), "unit {unit}")),
        });
    }
}

/// Calls `act` for every unit of the disk, or for a whole range of them that is zeros by extent: the byte that fills
/// it, or `None` when it is mixed.
pub fn for_each_unit(disk: &dyn Disk, mut act: impl FnMut(Range<u64>, Option<u8>)) {
    let (mut offset, size) = (0, disk.virtual_size());
    let mut buffer = vec![0; MIB as usize];
    while offset < size {
        let extent = disk.extent_at(offset, size - offset).unwrap();
        assert!(extent.len > 0);
        let first = offset / UNIT;
        if extent.data.is_none() {
            act(first..(offset + extent.len) / UNIT, Some(0));
            offset += extent.len;
            continue;
        }
        let step = extent.len.min(MIB);
        let part = &mut buffer[..step as usize];
        disk.read_at(part, offset).unwrap();
        for (unit, bytes) in (first..).zip(part.chunks(UNIT as usize)) {
            let same = bytes.iter().all(|byte| *byte == bytes[0]);
            act(unit..unit + 1, same.then_some(bytes[0]));
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
    /// The image gets another identity and records another path of its parent, which no content depends on.
    Renew,
}

/// The shape of the disks in one test case.
#[derive(Clone, Debug)]
pub struct Shape {
    pub format: Format,
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

impl Shape {
    /// A VHDX disk with 512-byte sectors and blocks of 1 MiB.
    pub fn plain(virtual_size: u64) -> Self {
        Self { format: Format::Vhdx, virtual_size, sector: 512, block_sizes: vec![MIB; 5] }
    }

    /// The same as VHD.
    pub fn vhd(virtual_size: u64) -> Self {
        Self { format: Format::Vhd, virtual_size, sector: 512, block_sizes: vec![MIB / 2; 5] }
    }
}

/// Small disks of a few blocks, sometimes large ones with several chunks, sometimes with an odd size.
pub fn shapes() -> impl Strategy<Value = Shape> {
    let block = prop_oneof![4 => Just(MIB), 3 => Just(2 * MIB), 1 => Just(8 * MIB), 1 => Just(256 * MIB)];
    let size = prop_oneof![4 => 1..12 * MIB / 4096, 1 => 9 * 1024 * MIB / 4096..10 * 1024 * MIB / 4096];
    let blocks = proptest::collection::vec(block, 5);
    let format =
        prop_oneof![3 => Just((Format::Vhdx, 512u32)), 3 => Just((Format::Vhdx, 4096)), 4 => Just((Format::Vhd, 512))];
    (size, format, blocks, 0u64..8).prop_map(|(size, (format, sector), block_sizes, odd)| {
        let odd = if sector == 512 { odd * 512 } else { 0 };
        let vhd = |size: &u64| if *size == MIB { MIB / 2 } else { 2 * MIB };
        let block_sizes = match format {
            Format::Vhd => block_sizes.iter().map(vhd).collect(),
            _ => block_sizes,
        };
        Shape { format, virtual_size: size * 4096 + odd, sector, block_sizes }
    })
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
        1 => Just(Step::Renew),
    ];
    proptest::collection::vec(step, count)
}

/// A new image of this shape for the layer `number`, over `parent`.
pub fn create(shape: &Shape, number: usize, parent: Option<&dyn Image>, storage: &dyn Storage) {
    let (size, block_size) = (shape.virtual_size, shape.block_sizes[number]);
    if shape.format == Format::Raw {
        return storage.set_len(size).unwrap();
    }
    let id = parent.map(|parent| parent.info().data_identity.unwrap());
    if shape.format == Format::Vhd {
        let mut options = vhd::CreateOptions::new(size).with_block_size(block_size);
        if let Some(parent) = parent {
            options = options.with_parent(ParentRecord {
                identity: id.unwrap(),
                also: None,
                time_stamp: parent.info().time_stamp,
                name: "frozen.vhd".into(),
                relative: ".\\frozen.vhd".into(),
                absolute: None,
            });
        }
        return options.create_in(storage).unwrap();
    }
    let mut options = vhdx::CreateOptions::new(size).with_sectors(shape.sector, 4096).with_block_size(block_size);
    if let Some(id) = id {
        let paths = vec![RecordedPath { key: "relative_path", text: ".\\frozen.vhdx".into() }];
        options = options.with_parent(ParentReference { accepted: vec![id], paths, time_stamp: None });
    }
    options.create_in(storage).unwrap();
}

impl Shape {
    pub fn open(&self, storage: Arc<dyn ReadAt>) -> Box<dyn Image> {
        open_image(storage, Some(self.format)).unwrap()
    }

    pub fn open_mut(&self, storage: Arc<dyn Storage>) -> Box<dyn ImageMut> {
        open_image_mut(storage, Some(self.format)).unwrap()
    }

    /// No rule of the format is broken; after a crash the end of the file may be untidy.
    pub fn assert_valid(&self, storage: Arc<dyn ReadAt>, after_crash: bool) {
        let findings = match self.format {
            Format::Raw => return,
            Format::Vhd => vhd::check(storage, &Progress::new()).unwrap(),
            _ => vhdx::check(storage, &Progress::new()).unwrap(),
        };
        let worst = if after_crash { Severity::Warning } else { Severity::Note };
        // The footer at the end rules, and is written first.
        let lags = |code: &str| after_crash && ["vhd-copy-differs", "vhd-copy-outdated"].contains(&code);
        let errors = findings.iter().filter(|finding| finding.severity() > worst && !lags(finding.code()));
        let errors: Vec<_> = errors.collect();
        assert!(errors.is_empty(), "{errors:?}");
    }
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
        frozen.map(|storage| self.shape.open(storage.clone())).collect()
    }

    pub fn open(&self) -> ChainMut {
        let current = self.storages.last().unwrap().clone();
        ChainMut::from_parts(self.shape.open_mut(current), self.parents())
    }

    /// Freezes the current image (which nobody has open) and grows a child from it.
    pub fn derive(&mut self) {
        let storage = Arc::new(MemoryStorage::new());
        let parent = self.shape.open(self.storages.last().unwrap().clone());
        create(&self.shape, self.storages.len(), Some(&*parent), &*storage);
        self.storages.push(storage);
    }
}

/// Another identity and, where there is a parent, another path to it, of another length each time.
pub fn renew(image: &mut dyn ImageMut) -> zestful_sapling::Result<()> {
    image.set_identity(uuid::Uuid::new_v4())?;
    let Some(parent) = image.info().parent.clone() else { return Ok(()) };
    let length = parent.paths[0].text.len() * 7 % 1009;
    let record = ParentRecord {
        identity: parent.accepted[0],
        also: None,
        time_stamp: parent.time_stamp,
        name: "frozen".into(),
        relative: format!(".\\{}\\frozen", "m".repeat(length)),
        absolute: length.is_multiple_of(2).then(|| "\\srv\\frozen".to_owned()),
    };
    image.set_parent(&record)?;
    let now = image.info().parent.clone().unwrap();
    assert_eq!((now.accepted, &now.paths[0].text), (parent.accepted, &record.relative));
    Ok(())
}

pub fn write(image: &mut dyn ImageMut, at: u64, count: u64, byte: u8, sector: u64) -> zestful_sapling::Result<()> {
    image.write_at(&vec![byte; (count * sector) as usize], at * sector)
}

/// Plans something and runs it.
pub fn perform<O: Operation>(operation: O) -> zestful_sapling::Result<<O::Planned as Planned>::Outcome> {
    operation.plan()?.run(&Progress::new())
}

pub fn check_chain(path: &Path, format: Option<Format>) -> zestful_sapling::Result<CheckReport> {
    let check = Check::new(path).with_data(true);
    perform(match format {
        Some(format) => check.with_format(format),
        None => check,
    })
}

pub fn resume(path: &Path, overrides: &[Override]) -> zestful_sapling::Result<Resumed> {
    perform(overrides.iter().copied().fold(Resume::new(path), Operation::with_override))
}

pub fn abandon(path: &Path, overrides: &[Override]) -> zestful_sapling::Result<Abandoned> {
    perform(overrides.iter().copied().fold(Abandon::new(path), Operation::with_override))
}

pub fn verify_pin(path: &Path) -> zestful_sapling::Result<PinReport> {
    perform(VerifyPin::new(path))
}

pub fn unpin(path: &Path, search: &Search) -> zestful_sapling::Result<UnpinOutcome> {
    perform(Unpin::new(path).with_search(search.clone()))
}

/// A setter is called with a value that there may be.
pub fn with<T, V>(into: T, value: Option<V>, set: impl FnOnce(T, V) -> T) -> T {
    match value {
        Some(value) => set(into, value),
        None => into,
    }
}

pub fn read_bytes(path: &Path, at: u64, len: u64) -> zestful_sapling::Result<Vec<u8>> {
    let mut found = Vec::new();
    perform(ReadBytes::new(path, at, len, &mut found))?;
    Ok(found)
}
