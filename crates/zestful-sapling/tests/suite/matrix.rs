//! Every byte of every structure is changed: `check` finds it, or the format has nothing by which it could be found,
//! and then the field is listed, with what a wrong value there would mislead.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use proptest::prelude::Rng;
use proptest::test_runner::{RngAlgorithm, TestRng};
use zestful_sapling::finding::Finding;
use zestful_sapling::image::{Format, vhd, vhdx};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::{MemoryStorage, ReadAt, Storage};

use crate::damage::{BAT, HEADERS, LOG, METADATA, TABLES, bytes, sample, vhd_sample};
use crate::findings::{settled, vhd_base, vhd_fixed};

/// A field in which a wrong byte is not found, and what it misleads.
pub struct Silent {
    pub format: Format,
    pub field: &'static str,
    pub misleads: &'static str,
}

const fn silent(format: Format, field: &'static str, misleads: &'static str) -> Silent {
    Silent { format, field, misleads }
}

pub const SILENT: &[Silent] = &[
    silent(Format::Vhdx, "creator", "Nobody: it is for people, and may be anything."),
    silent(
        Format::Vhdx,
        "metadata item: file parameters",
        "The kind: a dynamic disk counts as fixed, or the other way round.",
    ),
    silent(
        Format::Vhdx,
        "metadata item: virtual disk size",
        "The size, where another one fits sectors and table as well: the disk's end is cut off, or zeros follow it.",
    ),
    silent(Format::Vhdx, "metadata item: virtual disk id", "Who knows the disk by it: a guest may see a new disk."),
    silent(
        Format::Vhdx,
        "metadata entry: place of an item whose value may be anything",
        "Who knows the disk by its identity: it is read from elsewhere.",
    ),
    silent(
        Format::Vhdx,
        "metadata item: parent locator",
        "The way to the parent: found when the parent is looked for, by its identity.",
    ),
    silent(Format::Vhdx, "metadata entry: length of the parent locator", "Nobody: zeros follow it."),
    silent(
        Format::Vhdx,
        "metadata: number of entries",
        "Nobody, when entries of zeros are counted as well; one too few is found.",
    ),
    silent(Format::Vhdx, "metadata: unused bytes", "Nobody: nothing points at them."),
    silent(
        Format::Vhdx,
        "table entry: state of a block without a place",
        "What such a block shows: zeros, or what the parent holds.",
    ),
    silent(
        Format::Vhdx,
        "table entry: state of a block with a place",
        "Where the block comes from: wholly from this file, or only in part. One that loses its place is found by the \
         space that nothing uses.",
    ),
    silent(Format::Vhdx, "sector bitmap", "Which sectors are this layer's, and which the parent's."),
    silent(Format::Vhdx, "log that is not in use", "Nobody: no reader looks at it."),
    silent(Format::Vhdx, "data", "The guest: only a pin, or the guest's own file system, can tell."),
    silent(
        Format::Vhd,
        "parent locator data",
        "The way to the parent: found when the parent is looked for, by its identity.",
    ),
    silent(Format::Vhd, "table: padding behind the last entry", "Nobody: no reader looks at it."),
    silent(
        Format::Vhd,
        "table entry: place moved within free space",
        "The block: it is read from a few sectors further on.",
    ),
    silent(
        Format::Vhd,
        "sector bitmap",
        "Which sectors are this layer's; of a dynamic disk a check of the data finds it.",
    ),
    silent(Format::Vhd, "data", "The guest: only a pin, or the guest's own file system, can tell."),
];

/// A run of bytes of one structure, and the silent field that a byte of it belongs to, if it may.
struct Structure {
    name: &'static str,
    at: u64,
    len: u64,
    may_be: fn(u64, &dyn ReadAt) -> Option<&'static str>,
}

fn never(_: u64, _: &dyn ReadAt) -> Option<&'static str> {
    None
}

fn u32_le(storage: &dyn ReadAt, at: u64) -> u64 {
    u64::from(u32::from_le_bytes(bytes(storage, at, 4).try_into().unwrap()))
}

fn items(storage: &dyn ReadAt) -> Vec<(u64, u64)> {
    let count = u64::from(u16::from_le_bytes(bytes(storage, METADATA + 10, 2).try_into().unwrap()));
    (0..count)
        .map(|number| {
            let entry = METADATA + 32 + 32 * number;
            (METADATA + u32_le(storage, entry + 16), u32_le(storage, entry + 20))
        })
        .collect()
}

fn metadata_item(at: u64, storage: &dyn ReadAt) -> Option<&'static str> {
    let number = items(storage).iter().position(|(start, len)| (*start..start + len).contains(&at));
    match number {
        Some(0) => Some("metadata item: file parameters"),
        Some(1) => Some("metadata item: virtual disk size"),
        Some(2) => Some("metadata item: virtual disk id"),
        Some(5) => Some("metadata item: parent locator"),
        Some(_) => None,
        None => Some("metadata: unused bytes"),
    }
}

fn metadata_entry(at: u64, storage: &dyn ReadAt) -> Option<&'static str> {
    let (number, within) = ((at - METADATA - 32) / 32, (at - METADATA - 32) % 32);
    match (number < items(storage).len() as u64, number, within) {
        (false, ..) => Some("metadata: unused bytes"),
        // What is behind it are zeros.
        (true, 5, 20..24) => Some("metadata entry: length of the parent locator"),
        // The disk's identity may be any bytes.
        (true, 2, 16..20) => Some("metadata entry: place of an item whose value may be anything"),
        _ => None,
    }
}

fn table_entry(at: u64, storage: &dyn ReadAt) -> Option<&'static str> {
    let entry = bytes(storage, BAT + (at - BAT) / 8 * 8, 8);
    match (entry[0] & 7, (at - BAT) % 8) {
        (6 | 7, 0) => Some("table entry: state of a block with a place"),
        (6 | 7, _) => None,
        // Its place may stand there, or not.
        _ => Some("table entry: state of a block without a place"),
    }
}

fn vhdx_structures(storage: &dyn ReadAt, log_in_use: bool) -> Vec<Structure> {
    let field = |name, at, len, may_be| Structure { name, at, len, may_be };
    let log: fn(u64, &dyn ReadAt) -> _ = if log_in_use { never } else { |_, _| Some("log that is not in use") };
    let bitmap = u64::from_le_bytes(bytes(storage, BAT + 8 * 2048, 8).try_into().unwrap()) & !0xF_FFFF;
    let block = u64::from_le_bytes(bytes(storage, BAT + 8 * 2, 8).try_into().unwrap()) & !0xF_FFFF;
    let mut structures = vec![
        field("signature", 0, 8, never),
        field("creator", 8, 512, |_, _| Some("creator")),
        field("identifier, reserved", 520, (64 << 10) - 520, never),
        field("header 1", HEADERS[0], 4096, never),
        field("header 2", HEADERS[1], 4096, never),
        field("region table 1", TABLES[0], 128, never),
        field("region table 1, rest", TABLES[0], 64 << 10, never),
        field("region table 2", TABLES[1], 128, never),
        field("region table 2, rest", TABLES[1], 64 << 10, never),
        field("reserved", 320 << 10, 704 << 10, never),
        field("metadata table, head", METADATA, 32, |at, _| {
            (at == METADATA + 10).then_some("metadata: number of entries")
        }),
        field("metadata table", METADATA + 32, 256, metadata_entry),
        field("metadata items", METADATA + (64 << 10), 600, metadata_item),
        field("log", LOG, 1 << 20, log),
    ];
    // With a log in use its pages are what is read.
    if !log_in_use {
        structures.push(field("table", BAT, 160, table_entry));
    }
    if bitmap > 0 && !log_in_use {
        structures.push(field("bitmap", bitmap, 4096, |_, _| Some("sector bitmap")));
    }
    if block > 0 && !log_in_use {
        structures.push(field("data", block, 1 << 20, |_, _| Some("data")));
    }
    structures
}

fn be_u64(storage: &dyn ReadAt, at: u64) -> u64 {
    u64::from_be_bytes(bytes(storage, at, 8).try_into().unwrap())
}

fn vhd_structures(storage: &dyn ReadAt) -> Vec<Structure> {
    let field = |name, at, len, may_be| Structure { name, at, len, may_be };
    let end = storage.len().unwrap() - 512;
    let mut structures = vec![field("footer", end, 512, never)];
    if bytes(storage, 0, 8) != b"conectix" {
        structures.push(field("data", 0, end, |_, _| Some("data")));
        return structures;
    }
    let table = be_u64(storage, 512 + 16);
    structures.extend([field("footer copy", 0, 512, never), field("dynamic header", 512, 1024, never)]);
    structures.push(field("table", table, 512, |at, storage| {
        let table = be_u64(storage, 512 + 16);
        let entries = u64::from(u32::from_be_bytes(bytes(storage, 512 + 28, 4).try_into().unwrap()));
        let entry = bytes(storage, table + (at - table) / 4 * 4, 4);
        match (at - table) / 4 < entries {
            false => Some("table: padding behind the last entry"),
            true if entry == [0xFF; 4] => None,
            true if (at - table) % 4 == 3 => Some("table entry: place moved within free space"),
            true => None,
        }
    }));
    for number in 0..8 {
        let entry = 512 + 576 + 24 * number;
        let (len, at) =
            (u32::from_be_bytes(bytes(storage, entry + 8, 4).try_into().unwrap()), be_u64(storage, entry + 16));
        if len > 0 {
            structures.push(field("locator", at, len.into(), |_, _| Some("parent locator data")));
        }
    }
    let used = (0..16u64).map(|block| bytes(storage, table + 4 * block, 4)).find(|entry| entry[..] != [0xFF; 4]);
    if let Some(used) = used {
        let at = u64::from(u32::from_be_bytes(used.try_into().unwrap())) * 512;
        structures.push(field("bitmap", at, 512, |_, _| Some("sector bitmap")));
        structures.push(field("data", at + 512, 1 << 19, |_, _| Some("data")));
    }
    structures
}

fn found(storage: MemoryStorage, format: Format) -> Vec<Finding> {
    let check = if format == Format::Vhd { vhd::check } else { vhdx::check };
    check(Arc::new(storage), &Progress::new()).unwrap()
}

/// Small structures are changed byte by byte, of large ones a thousand.
const ALL: u64 = 5000;
const SOME: usize = 1000;

#[test]
fn every_byte_is_found_or_listed() {
    let mut random = TestRng::from_seed(RngAlgorithm::ChaCha, &[7; 32]);
    let (mut missed, mut met): (BTreeMap<String, Vec<u64>>, BTreeSet<String>) = Default::default();
    let (mut flips, mut told) = (0, 0);
    type Images = [(&'static str, Format, fn() -> MemoryStorage, bool); 5];
    let images: Images = [
        ("closed child", Format::Vhdx, settled, false),
        ("child with a log", Format::Vhdx, sample, true),
        ("vhd child", Format::Vhd, vhd_sample, false),
        ("vhd base", Format::Vhd, vhd_base, false),
        ("fixed vhd", Format::Vhd, vhd_fixed, false),
    ];
    for (name, format, image, log_in_use) in images {
        let sound = image();
        let before = found(sound.clone(), format);
        let structures = match format {
            Format::Vhd => vhd_structures(&sound),
            _ => vhdx_structures(&sound, log_in_use),
        };
        for structure in structures {
            let places: Vec<u64> = match structure.len {
                len if len <= ALL => (0..len).collect(),
                len => (0..SOME).map(|_| random.next_u64() % len).collect(),
            };
            for place in places {
                let at = structure.at + place;
                let old = bytes(&sound, at, 1)[0];
                for with in [0xFF, 1, 1 << (random.next_u32() % 8)]
                    .into_iter()
                    .skip(usize::from(structure.name != "metadata items"))
                {
                    let spoiled = sound.clone();
                    spoiled.write_at(&[old ^ with], at).unwrap();
                    flips += 1;
                    if found(spoiled, format) != before {
                        told += 1;
                        continue;
                    }
                    match (structure.may_be)(at, &sound) {
                        Some(field) => _ = met.insert(format!("{format} {field}")),
                        // What an old log holds is looked at only as far as it is in use.
                        None if log_in_use && structure.name == "log" => {}
                        None => missed.entry(format!("{name}: {}", structure.name)).or_default().push(place),
                    }
                }
            }
        }
    }
    println!("{flips} changes, {told} found");
    assert!(missed.is_empty(), "{missed:?}");
    let listed: BTreeSet<String> = SILENT.iter().map(|silent| format!("{} {}", silent.format, silent.field)).collect();
    assert_eq!(met.difference(&listed).collect::<Vec<_>>(), Vec::<&String>::new(), "not listed");
    assert_eq!(listed.difference(&met).collect::<Vec<_>>(), Vec::<&String>::new(), "listed, and found");
}
