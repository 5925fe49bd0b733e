//! Patches over a sound image, then all that is done with a damaged one: check, read, repair, undo, salvage. Nothing of
//! it panics, goes on without an end, or changes what it must not.
#![no_main]

use std::path::Path;
use std::sync::{Arc, LazyLock};

use libfuzzer_sys::fuzz_target;
use zestful_sapling::image::{Format, ImageMut, Source, open_image, open_image_mut, vhd, vhdx};
use zestful_sapling::ops::{Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling::repair::{Repair, Salvage, UndoRepair};
use zestful_sapling::storage::{Access, FileStorage, MemoryStorage, ReadAt, Storage};

/// Where the structures of the two samples stand.
const VHDX: [u64; 7] = [0, 64 << 10, 128 << 10, 192 << 10, 1 << 20, 2 << 20, 3 << 20];

/// VHDX, VHD, and VHDX with its last changes in the log, which makes it long, and the run slow.
static SAMPLES: LazyLock<[MemoryStorage; 3]> = LazyLock::new(|| {
    let written = |storage: MemoryStorage, format, closes: bool| {
        let storage = Arc::new(storage);
        let image: Box<dyn ImageMut> = open_image_mut(storage.clone(), Some(format)).unwrap();
        for at in [0, 1 << 20, 7 << 20] {
            image.write_at(&[7; 8192], at).unwrap();
        }
        match closes {
            true => image.close().unwrap(),
            false => image.flush().unwrap(),
        }
        (*storage).clone()
    };
    let (one, two, three) = (MemoryStorage::new(), MemoryStorage::new(), MemoryStorage::new());
    vhdx::CreateOptions::new(16 << 20).with_block_size(1 << 20).create_in(&one).unwrap();
    vhdx::CreateOptions::new(16 << 20).with_block_size(1 << 20).create_in(&three).unwrap();
    vhd::CreateOptions::new(16 << 20).with_block_size(512 << 10).create_in(&two).unwrap();
    [written(one, Format::Vhdx, true), written(two, Format::Vhd, true), written(three, Format::Vhdx, false)]
});

fn reseal(storage: &MemoryStorage, format: Format) {
    let len = storage.len().unwrap();
    let read = |at: u64, len: usize| {
        let mut bytes = vec![0; len];
        storage.read_at(&mut bytes, at).unwrap();
        bytes
    };
    if format == Format::Vhdx {
        let mut places = vec![(VHDX[1], 4096), (VHDX[2], 4096), (VHDX[3], 64 << 10), (256 << 10, 64 << 10)];
        for at in (VHDX[4]..VHDX[5]).step_by(4096).filter(|at| at + 4096 <= len) {
            let head = read(at, 12);
            let size = u32::from_le_bytes(head[8..].try_into().unwrap()) as usize;
            if head[..4] == *b"loge" && (8..=1 << 20).contains(&size) {
                places.push((at, size));
            }
        }
        for (at, size) in places.into_iter().filter(|(at, size)| at + *size as u64 <= len) {
            let mut structure = read(at, size);
            structure[4..8].fill(0);
            storage.write_at(&crc32c::crc32c(&structure).to_le_bytes(), at + 4).unwrap();
        }
        return;
    }
    for (at, size, field) in [(0, 512, 64), (512, 1024, 36), (len.saturating_sub(512), 512, 64)] {
        if at + size as u64 <= len {
            let mut structure = read(at, size);
            structure[field..field + 4].fill(0);
            let sum = !structure.iter().fold(0u32, |sum, byte| sum.wrapping_add(u32::from(*byte)));
            storage.write_at(&sum.to_be_bytes(), at + field as u64).unwrap();
        }
    }
}

/// The sample, patched as the input says: a place, a length, and bytes, over and over.
fn patched(data: &[u8]) -> Option<(MemoryStorage, Format)> {
    let (flags, mut rest) = data.split_first()?;
    let format = if flags & 1 == 0 { Format::Vhdx } else { Format::Vhd };
    let number = if flags & 0x1D == 0x1C { 2 } else { usize::from(flags & 1) };
    let storage = SAMPLES[number].clone();
    while rest.len() > 5 {
        let len = storage.len().unwrap();
        let within = u64::from(u16::from_le_bytes([rest[1], rest[2]]));
        let place = match (format, rest[0]) {
            (_, 250..) => len.saturating_sub(within),
            (Format::Vhdx, which) => {
                VHDX[usize::from(which) % VHDX.len()] + within + u64::from(which / 64) * (64 << 10)
            }
            (_, which) => within + u64::from(which / 64) * 4096,
        };
        let count = usize::from(rest[3] % 32).min(rest.len() - 4);
        if rest[3] == 255 {
            storage.set_len(place.min(len)).unwrap();
        } else if place + count as u64 <= len {
            storage.write_at(&rest[4..4 + count], place).unwrap();
        }
        rest = &rest[4 + count..];
    }
    if flags & 2 != 0 {
        reseal(&storage, format);
    }
    Some((storage, format))
}

fn store(storage: &MemoryStorage, path: &Path) {
    let file = std::fs::File::create(path).unwrap();
    file.set_len(storage.len().unwrap()).unwrap();
    let mut at = 0;
    while let Some(data) = storage.next_data(at).unwrap() {
        let mut bytes = vec![0; (data.end - data.start) as usize];
        storage.read_at(&mut bytes, data.start).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&file, &bytes, data.start).unwrap();
        at = data.end;
    }
}

fuzz_target!(|data: &[u8]| whole_run(data));

fn whole_run(data: &[u8]) {
    let Some((storage, format)) = patched(data) else { return };
    let memory = if Path::new("/dev/shm").is_dir() { "/dev/shm" } else { "/tmp" };
    let folder = tempfile::tempdir_in(memory).unwrap();
    let (path, target) = (folder.path().join(format!("fen-base.{format}")), folder.path().join("saved.vhdx"));
    store(&storage, &path);
    let before = std::fs::read(&path).unwrap();
    let progress = Progress::new();
    let asked = || Repair::new(&path).with_format(format);
    let codes: Vec<&str> =
        asked().plan().map_or_else(|_| Vec::new(), |plan| plan.offered().iter().map(|step| step.code).collect());
    if let Ok(outcome) = codes.into_iter().fold(asked(), Repair::losing).plan().and_then(|plan| plan.run(&progress)) {
        let image = open_image(Arc::new(FileStorage::open(&path, Access::ReadUnlocked).unwrap()), Some(format));
        assert_eq!(image.is_ok(), !outcome.left.iter().any(|finding| finding.prevents_opening()));
        if let Ok(image) = image {
            let (mut offset, size) = (0, image.info().virtual_size.min(64 << 20));
            let mut buffer = vec![0; 64 << 10];
            while offset < size {
                let extent = image.extent_at(offset, size - offset).unwrap();
                if let Source::Data(at) = extent.source {
                    image.read_data(&mut buffer[..extent.len.min(64 << 10) as usize], at).unwrap();
                }
                offset += extent.len;
            }
        }
        if outcome.undo_file.is_some() {
            UndoRepair::new(&path).plan().unwrap().run(&progress).unwrap();
        }
    }
    _ = Salvage::new(&path, &target).with_source_format(format).plan().and_then(|plan| plan.run(&progress));
    assert!(std::fs::read(&path).unwrap() == before);
}
