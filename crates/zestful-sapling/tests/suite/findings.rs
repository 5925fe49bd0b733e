//! Every rule of the formats is broken on purpose, and found: a row spoils a sound image and names what must come of
//! it.

use std::collections::BTreeSet;
use std::sync::Arc;

use uuid::Uuid;
use zestful_sapling::Error;
use zestful_sapling::finding::{Finding, Repair, Rule, Severity, VhdFinding, VhdxFinding};
use zestful_sapling::image::vhdx::VhdxMut;
use zestful_sapling::image::{Format, ImageMut, ParentRecord, open_image, open_image_mut, vhd, vhdx};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::{MemoryStorage, ReadAt, Storage};

use crate::damage::{BAT, HEADERS, LOG, METADATA, TABLES, bytes, reseal, reseal_vhd, sample, vhd_sample};
use crate::support::{Layers, MIB, Shape, create};

/// What spoils an image.
pub type Spoil = fn(&MemoryStorage);
/// A code, the image, and what spoils it.
pub type Row = (&'static str, fn() -> MemoryStorage, Spoil);

const ITEMS: u64 = METADATA + (64 << 10);
const PARAMETERS: u64 = 0;
pub const SIZE: u64 = 1;
const DISK_ID: u64 = 2;
const SECTOR: u64 = 3;
const PHYSICAL: u64 = 4;
const LOCATOR: u64 = 5;
/// The entry of the sample's one sector bitmap: it has blocks of 2 MiB.
const BITMAP: u64 = 2048;

fn u32_at(storage: &dyn ReadAt, at: u64) -> u32 {
    u32::from_le_bytes(bytes(storage, at, 4).try_into().unwrap())
}

fn u64_at(storage: &dyn ReadAt, at: u64) -> u64 {
    u64::from_le_bytes(bytes(storage, at, 8).try_into().unwrap())
}

pub fn put(storage: &MemoryStorage, at: u64, bytes: &[u8]) {
    storage.write_at(bytes, at).unwrap();
}

/// The same bytes in both headers.
fn headers(storage: &MemoryStorage, field: u64, bytes: &[u8]) {
    HEADERS.iter().for_each(|header| put(storage, header + field, bytes));
}

/// The same bytes in an entry of both region tables.
fn regions(storage: &MemoryStorage, entry: u64, field: u64, bytes: &[u8]) {
    TABLES.iter().for_each(|table| put(storage, table + 16 + 32 * entry + field, bytes));
}

/// Bytes in an entry of the metadata table.
fn item(storage: &MemoryStorage, entry: u64, field: u64, bytes: &[u8]) {
    put(storage, METADATA + 32 + 32 * entry + field, bytes);
}

/// Bytes of an item itself.
pub fn value(storage: &MemoryStorage, entry: u64, field: u64, bytes: &[u8]) {
    let at = METADATA + u64::from(u32_at(storage, METADATA + 32 + 32 * entry + 16));
    assert!(at >= ITEMS);
    put(storage, at + field, bytes);
}

/// The item is one that nobody knows, or needs.
fn forget(storage: &MemoryStorage, entry: u64) {
    item(storage, entry, 0, &[0xEE]);
    item(storage, entry, 24, &0u32.to_le_bytes());
}

fn entry(storage: &MemoryStorage, index: u64, value: u64) {
    put(storage, BAT + 8 * index, &value.to_le_bytes());
}

/// The newest entry of the log.
fn newest(storage: &MemoryStorage) -> u64 {
    let entries = (LOG..LOG + MIB).step_by(4096).filter(|at| bytes(storage, *at, 4) == b"loge");
    entries.max_by_key(|at| u64_at(storage, at + 16)).unwrap()
}

/// The sample with its log put in place.
pub fn settled() -> MemoryStorage {
    let storage = Arc::new(sample());
    Box::new(VhdxMut::open(storage.clone()).unwrap()).close().unwrap();
    (*storage).clone()
}

/// An image without a parent, with two chunks of blocks.
fn base() -> MemoryStorage {
    let layers = Layers::new(Shape::plain(5 << 30));
    let disk = layers.open();
    disk.write_at(&[1; 4096], 0).unwrap();
    disk.close().unwrap();
    (*layers.storages[0]).clone()
}

/// The place of the sector bitmap of an image that has a block which is partially present.
fn bitmap(storage: &MemoryStorage) -> u64 {
    let bitmap = u64_at(storage, BAT + 8 * BITMAP) & !(MIB - 1);
    assert!(bitmap > 0 && (0..20).any(|index| u64_at(storage, BAT + 8 * index) & 7 == 7));
    bitmap
}

pub const VHDX: &[Row] = &[
    ("vhdx-signature", settled, |image| put(image, 0, b"V")),
    ("vhdx-too-short", settled, |image| image.set_len(MIB - 1).unwrap()),
    ("vhdx-headers", settled, |image| headers(image, 0, b"H")),
    ("vhdx-header", settled, |image| put(image, HEADERS[1], b"H")),
    ("vhdx-headers-same", settled, |image| put(image, HEADERS[1], &bytes(image, HEADERS[0], 4096))),
    ("vhdx-headers-equal", settled, |image| headers(image, 8, &9u64.to_le_bytes())),
    ("vhdx-version", settled, |image| headers(image, 66, &[3])),
    ("vhdx-log-place", settled, |image| headers(image, 72, &4096u64.to_le_bytes())),
    ("vhdx-log-outside", settled, |image| headers(image, 72, &(1u64 << 40).to_le_bytes())),
    ("vhdx-log-version", sample, |image| headers(image, 64, &[1])),
    ("vhdx-log-version-unused", settled, |image| headers(image, 64, &[1])),
    ("vhdx-log-size", sample, |image| {
        image.set_len(200 * MIB).unwrap();
        headers(image, 68, &(128u32 << 20).to_le_bytes());
    }),
    ("vhdx-log-entry", sample, |image| put(image, newest(image) + 64, b"X")),
    ("vhdx-log-sequence", sample, |image| put(image, LOG, &vec![0; 1 << 20])),
    ("vhdx-log-empty", settled, |image| {
        let newer = usize::from(u64_at(image, HEADERS[1] + 8) > u64_at(image, HEADERS[0] + 8));
        let (from, to) = (HEADERS[newer], HEADERS[1 - newer]);
        put(image, to, &bytes(image, from, 4096));
        put(image, to + 8, &(u64_at(image, from + 8) + 1).to_le_bytes());
        put(image, to + 48, &[7; 16]);
        put(image, LOG, &vec![0; 1 << 20]);
    }),
    ("vhdx-log-cut", sample, |image| image.set_len(5 * MIB).unwrap()),
    ("vhdx-log-length", sample, |image| put(image, newest(image) + 56, &(1u64 << 62).to_le_bytes())),
    ("vhdx-log-target", sample, |image| put(image, newest(image) + 64 + 16, &0u64.to_le_bytes())),
    ("vhdx-log-pending", sample, |_| ()),
    ("vhdx-file-size", settled, |image| image.set_len((128 << 40) + MIB).unwrap()),
    ("vhdx-file-length", settled, |image| image.set_len(image.len().unwrap() + 4096).unwrap()),
    ("vhdx-reserved", settled, |image| put(image, 512 << 10, &[1])),
    ("vhdx-region-tables", settled, |image| TABLES.iter().for_each(|table| put(image, *table, b"R"))),
    ("vhdx-region-table", settled, |image| put(image, TABLES[0], b"R")),
    ("vhdx-region-tables-differ", settled, |image| put(image, TABLES[1] + 12, &[1])),
    ("vhdx-region-twice", settled, |image| regions(image, 1, 0, &bytes(image, TABLES[0] + 16, 16))),
    ("vhdx-region-unknown", settled, |image| regions(image, 0, 0, &[0xEE])),
    ("vhdx-region-place", settled, |image| regions(image, 0, 16, &12345u64.to_le_bytes())),
    ("vhdx-region-outside", settled, |image| regions(image, 0, 16, &(1u64 << 40).to_le_bytes())),
    ("vhdx-region-flag", settled, |image| regions(image, 0, 28, &[0])),
    ("vhdx-region-missing", settled, |image| {
        regions(image, 0, 0, &[0xEE]);
        regions(image, 0, 28, &[0]);
    }),
    ("vhdx-region-overlap", settled, |image| regions(image, 1, 16, &bytes(image, TABLES[0] + 16 + 16, 8))),
    ("vhdx-metadata-table", settled, |image| put(image, METADATA, b"M")),
    ("vhdx-metadata-twice", settled, |image| item(image, SIZE, 0, &bytes(image, METADATA + 32, 16))),
    ("vhdx-metadata-unknown", settled, |image| item(image, SIZE, 0, &[0xEE])),
    ("vhdx-metadata-length", settled, |image| item(image, SIZE, 20, &[4])),
    ("vhdx-metadata-flags", settled, |image| item(image, SIZE, 24, &[2])),
    ("vhdx-metadata-outside", settled, |image| item(image, SIZE, 16, &[0; 4])),
    ("vhdx-metadata-stray", settled, |image| {
        forget(image, PHYSICAL);
        item(image, PHYSICAL, 16, &[0; 4]);
    }),
    ("vhdx-metadata-users", settled, |image| {
        let count = u16::from_le_bytes(bytes(image, METADATA + 10, 2).try_into().unwrap());
        put(image, METADATA + 10, &(count + 1025).to_le_bytes());
        for number in 0..1025 {
            let id = Uuid::from_u128(u128::from(number) + 1);
            item(image, u64::from(count) + number, 0, &[id.as_bytes().as_slice(), &[0; 8], &[1, 0, 0, 0]].concat());
        }
    }),
    ("vhdx-metadata-overlap", settled, |image| item(image, SIZE, 16, &bytes(image, METADATA + 32 + 16, 4))),
    ("vhdx-metadata-missing", settled, |image| forget(image, SIZE)),
    ("vhdx-metadata-assumed", settled, |image| forget(image, PHYSICAL)),
    ("vhdx-block-size", settled, |image| value(image, PARAMETERS, 0, &[1])),
    ("vhdx-parameter-flags", settled, |image| value(image, PARAMETERS, 4, &[2 | 8])),
    ("vhdx-sector-size", settled, |image| value(image, SECTOR, 0, &[1])),
    ("vhdx-virtual-size", settled, |image| value(image, SIZE, 0, &[0; 8])),
    ("vhdx-locator-unused", settled, |image| value(image, PARAMETERS, 4, &[0])),
    ("vhdx-locator-missing", settled, |image| forget(image, LOCATOR)),
    ("vhdx-locator", settled, |image| value(image, LOCATOR, 0, &[1])),
    ("vhdx-locator-paths", settled, |image| {
        let at = METADATA + u64::from(u32_at(image, METADATA + 32 + 32 * LOCATOR + 16));
        let text = bytes(image, at, 1024);
        let key: Vec<u8> = "relative_path".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let found = text.windows(key.len()).position(|part| part == key).unwrap();
        put(image, at + found as u64, b"X");
    }),
    ("vhdx-table-short", settled, |image| value(image, SIZE, 0, &(32u64 << 40).to_le_bytes())),
    ("vhdx-entry-unneeded", settled, |image| entry(image, 100_000, 6)),
    ("vhdx-entry-reserved", settled, |image| entry(image, 0, u64_at(image, BAT) | 8)),
    ("vhdx-entry-place", settled, |image| entry(image, 19, 7 * MIB)),
    ("vhdx-block-state", settled, |image| entry(image, 0, 4)),
    ("vhdx-block-partial", base, |image| entry(image, 0, u64_at(image, BAT) | 7)),
    ("vhdx-block-outside", settled, |image| entry(image, 0, (1 << 40) | 6)),
    ("vhdx-block-overlap", settled, |image| entry(image, 0, LOG | 6)),
    ("vhdx-bitmap-missing", settled, |image| {
        bitmap(image);
        entry(image, BITMAP, 0);
    }),
    ("vhdx-bitmap-unneeded", base, |image| entry(image, 4096, (4 * MIB) | 6)),
    ("vhdx-block-empty", settled, |image| put(image, bitmap(image), &vec![0; 1 << 20])),
    ("vhdx-space-unused", base, |image| entry(image, 0, 0)),
];

/// A VHD base whose first block holds data.
pub fn vhd_base() -> MemoryStorage {
    let layers = Layers::new(Shape::vhd(5 << 20));
    let disk = layers.open();
    disk.write_at(&vec![1; 1 << 20], 0).unwrap();
    disk.close().unwrap();
    (*layers.storages[0]).clone()
}

pub fn vhd_fixed() -> MemoryStorage {
    let storage = MemoryStorage::new();
    vhd::CreateOptions::new(4 << 20).with_fixed(true).create_in(&storage).unwrap();
    storage
}

/// Bytes in the footer at the end, and in its copy if there is one.
fn footers(storage: &MemoryStorage, field: u64, bytes: &[u8]) {
    last_footer(storage, field, bytes);
    if self::bytes(storage, 0, 8) == b"conectix" {
        put(storage, field, bytes);
    }
}

fn last_footer(storage: &MemoryStorage, field: u64, bytes: &[u8]) {
    put(storage, storage.len().unwrap() - 512 + field, bytes);
}

fn table(storage: &dyn ReadAt) -> u64 {
    u64::from_be_bytes(bytes(storage, 512 + 16, 8).try_into().unwrap())
}

/// The entry of the first block that has one: its place in the file, and its value.
fn first_block(storage: &dyn ReadAt) -> (u64, u32) {
    let entries = (0..10).map(|block| table(storage) + 4 * block);
    let mut entries = entries.map(|at| (at, u32::from_be_bytes(bytes(storage, at, 4).try_into().unwrap())));
    entries.find(|(_, entry)| *entry != u32::MAX).unwrap()
}

pub const VHD: &[Row] = &[
    ("vhd-too-short", vhd_sample, |image| image.set_len(100).unwrap()),
    ("vhd-footer", vhd_sample, |image| footers(image, 0, b"C")),
    ("vhd-footer-short", vhd_sample, |image| image.set_len(image.len().unwrap() - 1).unwrap()),
    ("vhd-footer-lost", vhd_sample, |image| last_footer(image, 0, b"C")),
    ("vhd-copy", vhd_sample, |image| put(image, 0, b"C")),
    ("vhd-copy-differs", vhd_sample, |image| put(image, 24, &[0xEE])),
    ("vhd-copy-outdated", vhd_sample, |image| put(image, 60, &3u32.to_be_bytes())),
    ("vhd-copy-contradicts", vhd_sample, |image| put(image, 48, &(4u64 << 20).to_be_bytes())),
    ("vhd-version", vhd_sample, |image| footers(image, 12, &2u16.to_be_bytes())),
    ("vhd-type", vhd_sample, |image| footers(image, 60, &9u32.to_be_bytes())),
    ("vhd-size", vhd_sample, |image| footers(image, 48, &513u64.to_be_bytes())),
    ("vhd-saved-state", vhd_sample, |image| footers(image, 84, &[1])),
    ("vhd-saved-state-value", vhd_sample, |image| footers(image, 84, &[2])),
    ("vhd-geometry", vhd_sample, |image| footers(image, 56, &[0xEE])),
    ("vhd-reserved", vhd_sample, |image| footers(image, 300, &[1])),
    ("vhd-id", vhd_sample, |image| footers(image, 68, &[0; 16])),
    ("vhd-features", vhd_sample, |image| footers(image, 8, &0u32.to_be_bytes())),
    ("vhd-cut", vhd_fixed, |image| footers(image, 48, &(8u64 << 20).to_be_bytes())),
    ("vhd-slack", vhd_fixed, |image| footers(image, 48, &(3u64 << 20).to_be_bytes())),
    ("vhd-header-place", vhd_sample, |image| footers(image, 16, &(1u64 << 40).to_be_bytes())),
    ("vhd-header", vhd_sample, |image| put(image, 512, b"C")),
    ("vhd-header-version", vhd_sample, |image| put(image, 512 + 24, &2u16.to_be_bytes())),
    ("vhd-block-size", vhd_sample, |image| put(image, 512 + 32, &513u32.to_be_bytes())),
    ("vhd-table-short", vhd_sample, |image| put(image, 512 + 28, &1u32.to_be_bytes())),
    ("vhd-table-size", vhd_sample, |image| {
        footers(image, 48, &(40u64 << 40).to_be_bytes());
        put(image, 512 + 28, &u32::MAX.to_be_bytes());
    }),
    ("vhd-table-outside", vhd_sample, |image| put(image, 512 + 16, &(1u64 << 40).to_be_bytes())),
    ("vhd-table-place", vhd_sample, |image| put(image, 512 + 16, &(table(image) + 1).to_be_bytes())),
    ("vhd-table-long", vhd_sample, |image| put(image, 512 + 28, &100u32.to_be_bytes())),
    ("vhd-parent-id", vhd_sample, |image| put(image, 512 + 40, &[0; 16])),
    ("vhd-locator", vhd_sample, |image| put(image, 512 + 576 + 16, &(1u64 << 40).to_be_bytes())),
    ("vhd-locators", vhd_sample, |image| put(image, 512 + 576, &[0; 192])),
    ("vhd-block-outside", vhd_sample, |image| put(image, first_block(image).0, &0x00FF_FFFFu32.to_be_bytes())),
    ("vhd-block-overlap", vhd_sample, |image| put(image, first_block(image).0, &1u32.to_be_bytes())),
    ("vhd-blocks-share", vhd_sample, |image| {
        let (at, entry) = first_block(image);
        put(image, at + 4, &entry.to_be_bytes());
    }),
    ("vhd-space-unused", vhd_sample, |image| put(image, first_block(image).0, &u32::MAX.to_be_bytes())),
    ("vhd-unwritten-data", vhd_base, |image| put(image, u64::from(first_block(image).1) * 512, &[0; 64])),
];

fn find(storage: MemoryStorage, format: Format) -> Vec<Finding> {
    let storage = Arc::new(storage);
    let check = if format == Format::Vhd { vhd::check } else { vhdx::check };
    let mut findings = check(storage.clone(), &Progress::new()).unwrap();
    if format == Format::Vhd {
        findings.extend(vhd::check_data(storage.clone(), &Progress::new()).unwrap());
    }
    // Opening and checking never disagree.
    let opens = open_image(storage.clone(), Some(format)).is_ok();
    assert_eq!(opens, !findings.iter().any(Finding::prevents_opening), "{findings:?}");
    if let Err(Error::Damaged(told) | Error::Unsupported(told)) = open_image(storage, Some(format)) {
        assert!(findings.contains(&told) && told.prevents_opening(), "{told:?} {findings:?}");
    }
    findings
}

fn all(rows: &[Row], format: Format, reseal: fn(&MemoryStorage)) -> BTreeSet<&'static str> {
    let mut seen = BTreeSet::new();
    for (code, image, spoil) in rows {
        let before = find(image(), format);
        let storage = image();
        spoil(&storage);
        // A checksum that is wrong would hide what stands behind it; where it is the damage, the signature is gone.
        reseal(&storage);
        let findings = find(storage, format);
        let found = findings.iter().find(|finding| finding.code() == *code);
        let found = found.unwrap_or_else(|| panic!("{code}: {findings:?}"));
        let text = found.to_string();
        assert!(text.contains(&found.place().unwrap()) && text.contains(&found.kind.to_string()), "{text}");
        if *code != "vhdx-log-pending" {
            assert!(!before.iter().any(|finding| finding.code() == *code), "{code}");
        }
        seen.insert(*code);
    }
    seen
}

/// Rules that only a writer meets.
fn met_by_writers() -> BTreeSet<&'static str> {
    let mut seen = BTreeSet::new();
    let mut meet = |result: zestful_sapling::Result<()>| match result {
        Err(Error::Unsupported(finding)) => _ = seen.insert(finding.code()),
        other => panic!("{other:?}"),
    };
    let storage = settled();
    headers(&storage, 8, &u64::MAX.to_le_bytes());
    put(&storage, HEADERS[1] + 8, &(u64::MAX - 1).to_le_bytes());
    reseal(&storage);
    let mut image = VhdxMut::open(Arc::new(storage)).map(|image| Box::new(image) as Box<dyn ImageMut>);
    meet(image.as_mut().map_or_else(|_| Ok(()), |image| image.write_at(&[1; 512], 0)).and(image.map(|_| ())));
    let storage = settled();
    forget(&storage, DISK_ID);
    let mut image = open_image_mut(Arc::new(storage), Some(Format::Vhdx)).unwrap();
    meet(image.set_identity(Uuid::from_u128(1)));
    let storage = MemoryStorage::new();
    let parent = Layers::new(Shape::plain(4 << 20));
    create(&parent.shape, 1, Some(&*parent.shape.open(parent.storages[0].clone())), &storage);
    let mut image = open_image_mut(Arc::new(storage), Some(Format::Vhdx)).unwrap();
    let record = ParentRecord {
        identity: Uuid::from_u128(1),
        also: None,
        time_stamp: None,
        name: "moor.vhdx".into(),
        relative: ["m".repeat(30_000).as_str(); 5].join("\\"),
        absolute: Some("m".repeat(32_000)),
    };
    meet(image.set_parent(&record));
    seen
}

#[test]
fn every_rule_of_the_formats_is_found_when_it_is_broken() {
    let missed = |rules: &[Rule], seen: &BTreeSet<&str>| {
        rules.iter().map(|rule| rule.code).filter(|code| !seen.contains(code)).collect::<Vec<_>>()
    };
    let mut seen = all(VHDX, Format::Vhdx, reseal);
    seen.append(&mut met_by_writers());
    assert_eq!(missed(VhdxFinding::RULES, &seen), Vec::<&str>::new());
    assert_eq!(missed(VhdFinding::RULES, &all(VHD, Format::Vhd, reseal_vhd)), Vec::<&str>::new());
}

/// The page of all rules: what the documentation shows is what the code has.
fn page() -> String {
    const INTRODUCTION: &str = "# What may be found\n\nAll rules that `check` knows, in the order in which a file is \
        read. The codes are stable. An *error* is a rule that is broken, a *warning* is unusual and harmless, a *note* \
        is worth knowing. What is *refused* is damaged beyond what the file says twice, or demands something unknown; \
        such an image is `broken`, as is one whose error cannot be mended without giving something up. An image whose \
        errors can all be mended safely is certain, and worth a look (`attention`).\n";
    let mut page = INTRODUCTION.to_owned();
    for (title, prefixes) in [
        ("VHDX images", &["vhdx-"][..]),
        ("VHD images", &["vhd-"]),
        ("Raw disks, and disks in pieces", &["raw-", "piece"]),
        ("Content", &["data-"]),
        ("Chains", &["parent-", "chain-"]),
        ("Companions, journals and undo files", &["companion-", "pin-", "journal-", "undo-"]),
        ("Catalogues of machines", &["catalogue-"]),
    ] {
        page.push_str(&format!("\n## {title}\n\n| code | | meaning | can be mended |\n|---|---|---|---|\n"));
        let rules = zestful_sapling::finding::rules();
        for rule in rules.filter(|rule| prefixes.iter().any(|prefix| rule.code.starts_with(prefix))) {
            let severity = match (rule.severity(), rule.prevents_opening()) {
                (_, true) => "refused",
                (Severity::Error, _) => "error",
                (Severity::Warning, _) => "warning",
                _ => "note",
            };
            let repair = match rule.repair() {
                Repair::Safe => "safely",
                Repair::Lossy => "with a loss",
                _ => "-",
            };
            page.push_str(&format!("| `{}` | {severity} | {} | {repair} |\n", rule.code, rule.meaning));
        }
    }
    page.push_str(PROBLEMS);
    let kinds = schemars::schema_for!(zestful_sapling::family::ProblemKind).to_value();
    for kind in kinds["oneOf"].as_array().unwrap() {
        let (code, meaning) = (kind["const"].as_str().unwrap(), kind["description"].as_str().unwrap());
        page.push_str(&format!("| {code} | {} |\n", meaning.replace('\n', " ")));
    }
    page.push_str(SILENT_FIELDS);
    for silent in crate::matrix::SILENT {
        page.push_str(&format!("| {} | {} | {} |\n", silent.format, silent.field, silent.misleads));
    }
    page
}

const PROBLEMS: &str = "\n## What is told of files in a folder\n\n`status`, `tree`, and `check` of a folder tell \
    these of images and of what stands beside them, by stable codes as well.\n\n| code | meaning |\n|---|---|\n";

const SILENT_FIELDS: &str = "\n## What nothing finds\n\nEvery byte of every structure was changed in a test: \
    `check` finds it, by a checksum, a copy, or because what it says cannot be, or the byte belongs to one of these \
    fields, for which the formats have neither.\n\n| format | field | what a wrong value misleads |\n|---|---|---|\n";

#[test]
fn the_page_of_rules_is_current() {
    let page = page();
    assert_eq!(page.matches("\n| `").count(), zestful_sapling::finding::rules().count());
    let own = std::path::Path::new(env!("CARGO_MANIFEST_DIR"));
    let writes = std::env::var_os("ZSAP_WRITE_DOCS").is_some();
    // The pages that stand beside all others are part of the library's own documentation as well.
    for name in ["findings.md", "formats.md", "safety.md"] {
        let (beside, within) = (own.join("../../docs").join(name), own.join("docs").join(name));
        let right = if name == "findings.md" { page.clone() } else { std::fs::read_to_string(&beside).unwrap() };
        for place in [beside, within] {
            if writes {
                std::fs::write(&place, &right).unwrap();
            }
            let written = std::fs::read_to_string(&place).unwrap_or_default();
            assert!(
                written == right,
                "{} is old: run the tests with ZSAP_WRITE_DOCS=1 to write it anew",
                place.display()
            );
        }
    }
}

/// Each code is one rule, each has its meaning, and what forbids opening is an error.
#[test]
fn the_table_of_rules_is_sound() {
    let mut codes = BTreeSet::new();
    for rule in zestful_sapling::finding::rules() {
        assert!(codes.insert(rule.code), "{}", rule.code);
        assert!(rule.meaning.ends_with('.') && rule.meaning.len() > 10, "{rule:?}");
        assert!(!rule.prevents_opening() || rule.severity() == Severity::Error, "{rule:?}");
    }
    assert!(codes.len() > 100);
}
