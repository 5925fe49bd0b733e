//! Images made by an independent encoder, when a folder with them is named by `ZSAP_CORPUS`.
//!
//! The folder holds the unpacked images and `manifest.json`, which says what each of them must turn out to be.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::support::check_chain;
use serde_json::Value;
use sha2::{Digest, Sha256};
use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::family::Health;
use zestful_sapling::finding::Severity;
use zestful_sapling::image::{Format, open_image, open_image_mut, vhd, vhdx};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::{MemoryStorage, ReadAt};
use zestful_sapling::{Error, Result};

pub fn corpus() -> Option<(PathBuf, Vec<Value>)> {
    let Some(folder) = std::env::var_os("ZSAP_CORPUS").map(PathBuf::from) else {
        eprintln!("skipped: ZSAP_CORPUS names no corpus");
        return None;
    };
    let manifest = std::fs::read(folder.join("manifest.json")).unwrap();
    let manifest: Value = serde_json::from_slice(&manifest).unwrap();
    Some((folder, manifest["images"].as_array().unwrap().clone()))
}

fn digest_of(disk: &dyn Disk, offset: u64, len: u64) -> Result<String> {
    let mut digest = Sha256::new();
    let mut buffer = vec![0; 1 << 20];
    let mut done = 0;
    while done < len {
        let step = (len - done).min(buffer.len() as u64) as usize;
        disk.read_at(&mut buffer[..step], offset + done)?;
        digest.update(&buffer[..step]);
        done += step as u64;
    }
    Ok(digest.finalize().iter().map(|byte| format!("{byte:02x}")).collect())
}

/// A long range that must be zeros: looked at by extents where it is none of data, by bytes elsewhere.
fn is_zero(disk: &dyn Disk, offset: u64, len: u64) -> Result<bool> {
    let mut done = 0;
    let mut buffer = vec![0; 1 << 20];
    while done < len {
        let extent = disk.extent_at(offset + done, len - done)?;
        if extent.data.is_none() {
            done += extent.len;
            continue;
        }
        let step = extent.len.min(buffer.len() as u64) as usize;
        disk.read_at(&mut buffer[..step], offset + done)?;
        if buffer[..step].iter().any(|byte| *byte != 0) {
            return Ok(false);
        }
        done += step as u64;
    }
    Ok(true)
}

/// Opens the chain and compares every run of the manifest.
pub fn read_all(path: &Path, image: &Value, options: &OpenOptions) -> std::result::Result<(), String> {
    let chain = Chain::open(path, options).map_err(|error| error.to_string())?;
    for (field, value) in [
        ("virtual_size", chain.info().virtual_size),
        ("block_size", chain.info().block_size.unwrap_or_default()),
        ("logical_sector_size", chain.info().logical_sector.into()),
        ("physical_sector_size", chain.info().physical_sector.into()),
    ] {
        if let Some(expected) = image[field].as_u64() {
            assert_eq!(value, expected, "{field} of {}", path.display());
        }
    }
    for run in image["runs"].as_array().into_iter().flatten() {
        let (offset, len) = (run[0].as_u64().unwrap(), run[1].as_u64().unwrap());
        let right = match run[2].as_str().unwrap() {
            "zero" => is_zero(&chain, offset, len),
            digest => digest_of(&chain, offset, len).map(|found| found == digest),
        };
        if !right.map_err(|error| error.to_string())? {
            panic!("{}: {len} bytes at {offset} are not what the manifest says", path.display());
        }
    }
    Ok(())
}

fn accepts(image: &Value, outcome: &str) -> bool {
    image["expect"] == outcome || image["also_acceptable"].as_array().unwrap().iter().any(|other| other == outcome)
}

#[test]
fn every_image_turns_out_as_the_manifest_says() {
    let Some((folder, images)) = corpus() else { return };
    let mut wrong = Vec::new();
    let (mut read, mut refused) = (0, 0);
    for image in &images {
        let path = folder.join(image["file"].as_str().unwrap());
        let outcome = read_all(&path, image, &OpenOptions::new());
        let readable = image["readable"].as_bool().unwrap();
        match (&outcome, readable) {
            (Ok(()), true) => read += 1,
            (Ok(()), false) if accepts(image, "ok") => read += 1,
            (Err(_), false) => refused += 1,
            (Err(_), true) if accepts(image, "refuse") => refused += 1,
            _ => wrong.push(format!("{}: {outcome:?}: {}", image["name"], image["why"])),
        }
        if let Some(parent) = image["true_parent"].as_str() {
            read_all(&path, image, &OpenOptions::new().with_parent(folder.join(parent))).unwrap();
        }
    }
    assert_eq!(wrong, Vec::<String>::new());
    assert!(read > 50 && refused > 30, "read {read}, refused {refused}");
}

/// Every good image that stands alone can be written to: what is written is there, the rest is as it was, and no rule
/// is broken, however another program laid the file out.
#[test]
fn every_good_image_can_be_written_to() {
    let Some((folder, images)) = corpus() else { return };
    let mut written = 0;
    for image in images.iter().filter(|image| image["expect"] == "ok" && !image["uncertain"].as_bool().unwrap()) {
        let path = folder.join(image["file"].as_str().unwrap());
        let Some(size) =
            image["virtual_size"].as_u64().filter(|size| *size <= 64 << 20 && image["kind"] != "differencing")
        else {
            continue;
        };
        let storage = Arc::new(MemoryStorage::from_bytes(&std::fs::read(&path).unwrap()).unwrap().named(&path));
        let disk = ChainMut::from_parts(open_image_mut(storage.clone(), None).unwrap(), vec![]);
        let mut expected = vec![0; size as usize];
        disk.read_at(&mut expected, 0).unwrap();
        for (number, at) in (0..size).step_by((size / 7) as usize + 1).enumerate() {
            let len = (100_000 * number as u64 % 700_000 + 5000).min(size - at);
            let range = at as usize..(at + len) as usize;
            if number % 3 == 2 {
                disk.zero_at(at, len).unwrap();
                expected[range].fill(0);
            } else {
                let bytes = vec![number as u8 | 1; len as usize];
                disk.write_at(&bytes, at).unwrap();
                expected[range].copy_from_slice(&bytes);
            }
        }
        disk.close().unwrap();
        let again = open_image(storage.clone() as Arc<dyn ReadAt>, None).unwrap();
        let findings = match again.info().format {
            Format::Vhd => vhd::check(storage.clone(), &Progress::new()).unwrap(),
            _ => vhdx::check(storage.clone(), &Progress::new()).unwrap(),
        };
        assert!(
            !findings.iter().any(|finding| finding.severity() == Severity::Error),
            "{}: {findings:?}",
            path.display()
        );
        let mut found = vec![0; size as usize];
        ChainMut::from_parts(open_image_mut(storage, None).unwrap(), vec![]).read_at(&mut found, 0).unwrap();
        assert!(found == expected, "{}", path.display());
        written += 1;
    }
    assert!(written > 50, "{written}");
}

#[test]
fn check_finds_something_in_every_damaged_image_and_nothing_in_good_ones() {
    let Some((folder, images)) = corpus() else { return };
    let mut wrong = Vec::new();
    for image in &images {
        let path = folder.join(image["file"].as_str().unwrap());
        let ok = match check_chain(&path, None) {
            Ok(report) => {
                // What opens is certain as far as its errors can be mended safely.
                assert_eq!(report.state > Health::Healthy, report.has_damage(), "{}: {report:?}", path.display());
                !report.has_damage()
            }
            Err(Error::Usage(_)) => false,
            Err(other) => panic!("{}: {other}", path.display()),
        };
        let uncertain = image["uncertain"].as_bool().unwrap();
        let expected = image["expect"] == "ok";
        if ok != expected && !uncertain {
            wrong.push(format!("{}: ok={ok}: {}", image["name"], image["why"]));
        }
    }
    assert_eq!(wrong, Vec::<String>::new());
}
