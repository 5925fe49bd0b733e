//! Random damage to chains of three with an ext4 volume inside: never a panic, and never wrong data of which nothing
//! tells, where a checksum, a copy or a pin could. `ZSAP_DAMAGED_CHAINS` says how often.

use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use proptest::prelude::Rng;
use proptest::test_runner::{RngAlgorithm, TestRng};
use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::finding::{Losses, Severity};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{CopyDisk, CopyOnto, PinImage};
use zestful_sapling::repair::{Salvage, UndoRepair};

use crate::family_model::quick_folder;
use crate::repairs::repair_all;
use crate::support::{check_chain, perform};

const SIZE: u64 = 48 << 20;

fn tool(name: &str, args: &[&str]) -> bool {
    Command::new(name).args(args).output().is_ok_and(|output| output.status.success())
}

/// A volume that grows a file at each layer, and the chain of it; `None` where the host has not the tools.
fn chain(folder: &Path, format: Format) -> Option<Vec<PathBuf>> {
    let raw = folder.join("volume.raw");
    let volume = raw.to_str().unwrap();
    _ = std::fs::remove_file(&raw);
    if !tool("mkfs.ext4", &["-q", "-F", "-b", "4096", volume, "48M"]) {
        return None;
    }
    let mut layers: Vec<PathBuf> = Vec::new();
    for number in 0..3usize {
        let sheet = folder.join(format!("sheet-{number}"));
        let text: Vec<u8> = (0..700_000usize).map(|at| b'a' + ((at * (number + 3) / 7) % 26) as u8).collect();
        std::fs::write(&sheet, text).unwrap();
        let write = format!("write {} sheet-{number}", sheet.display());
        if !tool("debugfs", &["-w", "-R", &write, volume]) {
            return None;
        }
        let layer = folder.join(format!("layer-{number}.{format}"));
        match layers.last() {
            None => _ = perform(CopyDisk::new(&raw, &layer)).unwrap(),
            Some(below) => _ = perform(CopyOnto::new(&raw, below, &layer)).unwrap(),
        }
        layers.push(layer);
    }
    perform(PinImage::new(&layers[0])).unwrap();
    Some(layers)
}

fn read_all(path: &Path) -> Option<Vec<u8>> {
    let disk = Chain::open(path, &OpenOptions::new()).ok()?;
    let mut content = vec![0; SIZE as usize];
    disk.read_at(&mut content, 0).ok().map(|()| content)
}

/// Whether two disks are the same where nothing is said to be missing.
fn same_but_for(found: &[u8], right: &[u8], content: &Losses) -> bool {
    let sectors = found.chunks(512).zip(right.chunks(512)).enumerate().filter(|(_, (found, right))| found != right);
    sectors.into_iter().all(|(number, _)| {
        let range = number as u64 * 512..(number as u64 + 1) * 512;
        content.lost.within(range.clone()).next().is_some() || content.doubtful.within(range).next().is_some()
    })
}

/// Where the formats have nothing that tells a wrong value, in a layer that is not pinned: tables, bitmaps and data.
fn may_be_silent(format: Format, layer: usize, at: u64) -> bool {
    let structures = if format == Format::Vhdx { 3 << 20 } else { 1536 };
    layer > 0 && at >= structures
}

#[derive(Default, Debug)]
struct Figures {
    harmless: usize,
    refused: usize,
    told: usize,
    silent: usize,
    mended: usize,
    salvaged: usize,
}

#[test]
fn damaged_chains_are_told_mended_and_saved() {
    let runs: u32 = std::env::var("ZSAP_DAMAGED_CHAINS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(60);
    let folder = quick_folder();
    for format in [Format::Vhdx, Format::Vhd] {
        let Some(layers) = chain(folder.path(), format) else {
            eprintln!("skipped: there is no mkfs.ext4 or no debugfs");
            return;
        };
        let (mut random, mut figures) = (TestRng::from_seed(RngAlgorithm::ChaCha, &[11; 32]), Figures::default());
        let right = read_all(&layers[2]).unwrap();
        for run in 0..runs {
            let number = (random.next_u32() % 3) as usize;
            let path = &layers[number];
            let mode = std::fs::metadata(path).unwrap().permissions();
            make_writable(path);
            let before = std::fs::read(path).unwrap();
            let modified = std::fs::metadata(path).unwrap().modified().unwrap();
            let len = before.len() as u64;
            // Structures more often than data.
            let at = match random.next_u32() % 4 {
                0 => random.next_u64() % len,
                1 => len - 1 - random.next_u64() % 1024,
                2 => random.next_u64() % (1 << 20).min(len),
                _ => random.next_u64() % (4 << 20).min(len),
            };
            let file = std::fs::OpenOptions::new().write(true).open(path).unwrap();
            let (what, reach) = match random.next_u32() % 8 {
                0 => ("cut", len - at),
                1 => ("page", 4096),
                2 => ("value", 8),
                _ => ("byte", 1),
            };
            let end = (at + reach).min(len);
            match what {
                "cut" => file.set_len(at).unwrap(),
                "page" => file.write_all_at(&vec![0; (end - at) as usize], at).unwrap(),
                "value" => file.write_all_at(&random.next_u64().to_le_bytes()[..(end - at) as usize], at).unwrap(),
                _ => file.write_all_at(&[before[at as usize] ^ 0xFF], at).unwrap(),
            }
            drop(file);
            std::fs::set_permissions(path, mode.clone()).unwrap();
            let when = format!("run {run}: {format}, layer {number}, {what} at {at}");
            let found = read_all(&layers[2]);
            let told = match check_chain(&layers[2], None) {
                Ok(report) => report.findings.iter().any(|finding| finding.severity() > Severity::Note),
                Err(_) => true,
            };
            let told = told || number == 0 && check_chain(&layers[0], None).map_or(true, |report| report.has_damage());
            match &found {
                None => {
                    figures.refused += 1;
                    assert!(told, "{when}: it cannot be read, and check tells nothing");
                }
                Some(found) if *found == right => figures.harmless += 1,
                Some(_) if told => figures.told += 1,
                Some(_) => {
                    assert!(may_be_silent(format, number, at), "{when}: wrong data, and nothing tells");
                    figures.silent += 1;
                }
            }
            let damaged = std::fs::read(path).unwrap();
            let is_sure = !may_be_silent(format, number, at) && number > 0 || what == "cut";
            if number > 0
                && let Ok(outcome) = repair_all(path, format)
                && outcome.undo_file.is_some()
            {
                if let Some(found) = read_all(&layers[2]).filter(|_| is_sure) {
                    assert!(same_but_for(&found, &right, &outcome.content), "{when}: {outcome:?}");
                }
                figures.mended += 1;
                perform(UndoRepair::new(path)).unwrap_or_else(|error| panic!("{when}: {error}"));
                assert!(std::fs::read(path).unwrap() == damaged, "{when}: taken back it is not what it was");
            }
            let saved = folder.path().join("saved.raw");
            if let Ok(outcome) = perform(Salvage::new(&layers[2], &saved).with_source_format(format)) {
                if is_sure {
                    let found = std::fs::read(&saved).unwrap();
                    assert!(same_but_for(&found, &right, &outcome.content), "{when}: {outcome:?}");
                }
                figures.salvaged += 1;
            }
            _ = std::fs::remove_file(&saved);
            _ = std::fs::remove_file(folder.path().join("saved.raw.zsap.salvage.json"));
            make_writable(path);
            let file = std::fs::OpenOptions::new().write(true).open(path).unwrap();
            file.set_len(len).unwrap();
            let from = at as usize;
            let upto = if what == "cut" { before.len() } else { end as usize };
            file.write_all_at(&before[from..upto], at).unwrap();
            file.set_modified(modified).unwrap();
            drop(file);
            std::fs::set_permissions(path, mode).unwrap();
        }
        assert!(read_all(&layers[2]).unwrap() == right);
        println!("{format}: {runs} damages: {figures:?}");
        assert!(figures.refused > 0 && figures.harmless > 0 && figures.salvaged > 0, "{figures:?}");
    }
}

fn make_writable(path: &Path) {
    let mut mode = std::fs::metadata(path).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut mode, 0o644);
    std::fs::set_permissions(path, mode).unwrap();
}
