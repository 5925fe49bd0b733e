//! Damaged images made by an independent encoder, mended and saved, when a folder with them is named by `ZSAP_CORPUS`.

use std::path::{Path, PathBuf};

use serde_json::Value;
use zestful_sapling::Error;
use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::finding::Severity;
use zestful_sapling::image::Format;
use zestful_sapling::repair::{Repair, Salvage, UndoRepair};

use crate::corpus::{corpus, read_all};
use crate::repairs::repair_all;
use crate::support::{check_chain, perform};

/// A copy of an image where it may be changed, beside what its paths lead to.
fn copied(folder: &Path, image: &Value, to: &Path) -> PathBuf {
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let (from, target) = (entry.path(), to.join(entry.file_name()));
        if from.is_file() && !target.exists() {
            _ = std::os::unix::fs::symlink(&from, &target);
        }
    }
    let own = to.join(image["file"].as_str().unwrap());
    std::fs::create_dir_all(own.parent().unwrap()).unwrap();
    _ = std::fs::remove_file(&own);
    std::fs::copy(folder.join(image["file"].as_str().unwrap()), &own).unwrap();
    own
}

fn format_of(image: &Value) -> Format {
    if image["format"] == "vhd" { Format::Vhd } else { Format::Vhdx }
}

#[test]
fn every_repairable_image_is_mended_to_what_the_manifest_says() {
    let Some((folder, images)) = corpus() else { return };
    let mut mended = 0;
    for image in images.iter().filter(|image| image["expect"] == "repairable") {
        let scene = tempfile::tempdir().unwrap();
        let path = copied(&folder, image, scene.path());
        let before = std::fs::read(&path).unwrap();
        let name = image["name"].as_str().unwrap();
        // What only reading everything finds is named by whoever read everything.
        let outcome = match name.contains("clear_bits_dirty") {
            true => perform(Repair::new(&path).losing("vhd-unwritten-data")).unwrap(),
            false => perform(Repair::new(&path)).unwrap(),
        };
        assert!(!outcome.steps.is_empty() && !outcome.damaged, "{name}: {outcome:?}");
        let report = check_chain(&path, None).unwrap();
        let wrong = report.findings.iter().find(|finding| finding.severity() > Severity::Note);
        assert!(wrong.is_none(), "{name}: {wrong:?}");
        read_all(&path, image, &OpenOptions::new()).unwrap_or_else(|error| panic!("{name}: {error}"));
        perform(UndoRepair::new(&path)).unwrap();
        assert!(std::fs::read(&path).unwrap() == before, "{name}: taken back it is not what it was");
        mended += 1;
    }
    assert!(mended >= 16, "{mended}");
}

/// Whatever is refused by reading has a finding that says why, or is no image at all.
#[test]
fn every_refused_image_is_explained() {
    let Some((folder, images)) = corpus() else { return };
    let mut explained = 0;
    for image in images.iter().filter(|image| image["expect"] == "refuse" && !image["uncertain"].as_bool().unwrap()) {
        let (path, name) = (folder.join(image["file"].as_str().unwrap()), &image["name"]);
        assert!(read_all(&path, image, &OpenOptions::new()).is_err(), "{name}");
        match check_chain(&path, None) {
            Ok(report) => {
                assert!(report.findings.iter().any(|finding| finding.prevents_opening()), "{name}: {report:?}")
            }
            Err(Error::Usage(_)) => {}
            Err(other) => panic!("{name}: {other}"),
        }
        explained += 1;
    }
    assert!(explained >= 90, "{explained}");
}

/// What is salvaged is at least what the manifest promises: all of what can be read, and of what is refused, whatever
/// is not told to be missing.
#[test]
fn every_image_is_salvaged_as_far_as_it_goes() {
    let Some((folder, images)) = corpus() else { return };
    let (mut whole, mut partly, mut nothing) = (0, 0, 0);
    for image in &images {
        let (path, name) = (folder.join(image["file"].as_str().unwrap()), image["name"].as_str().unwrap());
        if image["virtual_size"].as_u64().is_some_and(|size| size > 1 << 40) {
            continue;
        }
        let scene = tempfile::tempdir().unwrap();
        let target = scene.path().join("saved.vhdx");
        let salvage = Salvage::new(&path, &target).with_source_format(format_of(image));
        match perform(salvage) {
            Ok(outcome) => {
                let readable = image["readable"].as_bool().unwrap();
                let complete = outcome.content.is_empty();
                assert!(complete || !readable || name.contains("dirty"), "{name}: {outcome:?}");
                if readable && !image["uncertain"].as_bool().unwrap() {
                    let mut expected = image.clone();
                    for field in ["block_size", "physical_sector_size", "logical_sector_size"] {
                        expected[field] = Value::Null;
                    }
                    read_all(&target, &expected, &OpenOptions::new()).unwrap_or_else(|error| panic!("{name}: {error}"));
                }
                Chain::open(&target, &OpenOptions::new()).unwrap_or_else(|error| panic!("{name}: {error}"));
                if complete { whole += 1 } else { partly += 1 }
            }
            Err(Error::Damaged(_) | Error::Unsupported(_) | Error::Parent(_) | Error::Usage(_)) => {
                assert!(!image["readable"].as_bool().unwrap(), "{name}: it can be read, and is not salvaged");
                assert!(!target.exists(), "{name}");
                nothing += 1;
            }
            Err(other) => panic!("{name}: {other}"),
        }
    }
    println!("{whole} whole, {partly} in part, {nothing} not at all");
    assert!(whole > 130 && partly > 20, "{whole} {partly} {nothing}");
}

/// What could be mended with a loss leads to an image that opens, and back.
#[test]
fn every_refused_image_that_is_mended_opens() {
    let Some((folder, images)) = corpus() else { return };
    let mut mended = 0;
    for image in images.iter().filter(|image| image["expect"] == "refuse") {
        let scene = tempfile::tempdir().unwrap();
        let path = copied(&folder, image, scene.path());
        let before = std::fs::read(&path).unwrap();
        let name = &image["name"];
        let Ok(outcome) = repair_all(&path, format_of(image)) else { continue };
        if let Some(undo) = &outcome.undo_file {
            assert!(undo.exists(), "{name}");
            perform(UndoRepair::new(&path)).unwrap_or_else(|error| panic!("{name}: {error}"));
            mended += 1;
        }
        assert!(std::fs::read(&path).unwrap() == before, "{name}");
    }
    assert!(mended > 15, "{mended}");
}
