//! What `check` finds between images, and in the small files beside them; and where the ladder puts it.

use std::path::{Path, PathBuf};

use serde_json::{Value, json};
use zestful_sapling::Error;
use zestful_sapling::family::{Health, ProblemKind, inspect, status_of};
use zestful_sapling::grove::inspect_folder;
use zestful_sapling::ops::{Derive, Make, PinImage};
use zestful_sapling::storage::{MemoryStorage, ReadAt, Storage};

use crate::damage::{HEADERS, TABLES, reseal, reseal_vhd};
use crate::findings::{SIZE, put, value};
use crate::sidecars::{companion, journal_of};
use crate::support::{check_chain, perform};

/// A base, pinned, and a child of each format, to be spoiled.
struct Scene(tempfile::TempDir);

impl Scene {
    fn new() -> Self {
        let scene = Self(tempfile::tempdir().unwrap());
        for format in ["vhdx", "vhd"] {
            let base = scene.path(&format!("base.{format}"));
            perform(Make::new(&base, 64 << 20)).unwrap();
            perform(Derive::new(&base, vec![scene.path(&format!("child.{format}"))])).unwrap();
            perform(PinImage::new(&base)).unwrap();
        }
        scene
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn write(&self, name: &str, text: &Value) {
        std::fs::write(self.path(name), text.to_string()).unwrap();
    }

    /// Changes an image behind everybody's back, and makes its checksums right again; the file's time does not tell.
    fn patch(&self, name: &str, change: impl FnOnce(&MemoryStorage)) {
        let path = self.path(name);
        let bytes = std::fs::read(&path).unwrap();
        let time = std::fs::metadata(&path).unwrap().modified().unwrap();
        let storage = MemoryStorage::new();
        storage.write_at(&bytes, 0).unwrap();
        change(&storage);
        if name.ends_with("vhd") {
            reseal_vhd(&storage)
        } else {
            reseal(&storage)
        }
        let mut bytes = vec![0; storage.len().unwrap() as usize];
        storage.read_at(&mut bytes, 0).unwrap();
        std::fs::remove_file(&path).unwrap();
        std::fs::write(&path, bytes).unwrap();
        std::fs::File::options().append(true).open(&path).unwrap().set_modified(time).unwrap();
    }
}

type Spoil = fn(&Scene);

/// A code, where it leads to, the image that is looked at, and what spoils it.
const ROWS: &[(&str, Health, &str, Spoil)] = &[
    ("raw-size", Health::Healthy, "odd.raw", |scene| std::fs::write(scene.path("odd.raw"), [0; 1025]).unwrap()),
    ("pieces-descriptor", Health::Broken, "a.raw.pieces.json", |scene| scene.write("a.raw.pieces.json", &json!([]))),
    ("pieces-version", Health::Broken, "a.raw.pieces.json", |scene| {
        let mut text = json!({ "zestful_sapling_pieces": 2, "format": "raw", "virtual_size": 512, "pieces": [] });
        text["logical_sector"] = json!(512);
        scene.write("a.raw.pieces.json", &text);
    }),
    ("parent-missing", Health::Broken, "child.vhdx", |scene| std::fs::remove_file(scene.path("base.vhdx")).unwrap()),
    ("parent-unusable", Health::Broken, "child.vhdx", |scene| {
        scene.patch("base.vhdx", |image| image.set_len(4096).unwrap());
    }),
    ("chain-smaller", Health::Healthy, "child.vhdx", |scene| {
        scene.patch("child.vhdx", |image| value(image, SIZE, 0, &(32u64 << 20).to_le_bytes()));
    }),
    ("chain-larger", Health::Healthy, "child.vhdx", |scene| {
        scene.patch("child.vhdx", |image| value(image, SIZE, 0, &(96u64 << 20).to_le_bytes()));
    }),
    ("chain-time", Health::Healthy, "child.vhd", |scene| {
        scene.patch("child.vhd", |image| put(image, 512 + 56, &[0xEE]));
    }),
    ("companion-damaged", Health::Broken, "base.vhdx", |scene| scene.write("base.vhdx.zsap.json", &json!([]))),
    ("companion-version", Health::Broken, "base.vhdx", |scene| {
        let mut text = companion(&scene.path("base.vhdx"));
        text["version"] = json!(99);
        scene.write("base.vhdx.zsap.json", &text);
    }),
    ("pin-damaged", Health::Broken, "base.vhdx", |scene| {
        let mut text = companion(&scene.path("base.vhdx"));
        text["pin"]["whole"] = json!("00".repeat(32));
        scene.write("base.vhdx.zsap.json", &text);
    }),
    ("pin-identity", Health::Broken, "base.vhd", |scene| {
        scene.patch("base.vhd", |image| {
            put(image, 68, &[7; 16]);
            put(image, image.len().unwrap() - 512 + 68, &[7; 16]);
        });
    }),
    ("pin-touched", Health::Broken, "child.vhdx", |scene| {
        scene.patch("base.vhdx", |_| ());
        let file = std::fs::File::options().append(true).open(scene.path("base.vhdx")).unwrap();
        file.set_modified(std::time::UNIX_EPOCH).unwrap();
    }),
    ("journal-damaged", Health::Broken, "child.vhdx", |scene| {
        std::fs::write(journal_of(&scene.path("child.vhdx")), b"torn\n").unwrap();
    }),
    ("journal-version", Health::Broken, "child.vhdx", |scene| {
        let text = json!({ "version": 2 }).to_string();
        let line = format!("{} {text}\n", &blake3::hash(text.as_bytes()).to_hex()[..16]);
        std::fs::write(journal_of(&scene.path("child.vhdx")), line).unwrap();
    }),
    // Of two that say the same one is lost; and two say different things.
    ("vhdx-header", Health::Attention, "child.vhdx", |scene| {
        let bytes = std::fs::read(scene.path("child.vhdx")).unwrap();
        // The one that is current stays.
        let sequence = |at: u64| u64::from_le_bytes(bytes[at as usize + 8..at as usize + 16].try_into().unwrap());
        let older = HEADERS.into_iter().min_by_key(|at| sequence(*at)).unwrap();
        scene.patch("child.vhdx", |image| put(image, older, b"H"));
    }),
    ("vhdx-region-tables-differ", Health::Broken, "child.vhdx", |scene| {
        scene.patch("child.vhdx", |image| put(image, TABLES[1] + 12, &[1]));
    }),
];

#[test]
fn everything_beside_an_image_is_looked_at() {
    for (code, health, name, spoil) in ROWS {
        let scene = Scene::new();
        let path = scene.path(name);
        let codes = || match check_chain(&path, None) {
            Ok(report) => (report.findings.iter().map(|finding| finding.code()).collect::<Vec<_>>(), report.state),
            Err(Error::Damaged(finding) | Error::Unsupported(finding)) => (vec![finding.code()], Health::Broken),
            Err(other) => panic!("{code}: {other}"),
        };
        if path.exists() {
            assert_eq!(codes(), (vec![], Health::Healthy), "{code}");
        }
        spoil(&scene);
        let (found, state) = codes();
        assert!(found.contains(code), "{code}: {found:?}");
        assert_eq!(state, *health, "{code}: {found:?}");
        agree(&path, state, code);
    }
}

/// The same ladder for a look at one image, and for a look at its folder.
fn agree(path: &Path, state: Health, code: &str) {
    let status = status_of(path.parent().unwrap()).unwrap();
    // What a pin's digests are worth only reading tells.
    if code != "pin-damaged" {
        assert_eq!(status.state, state, "{code}: {:?}", status.problems);
    }
    let told = |kind| status.problems.iter().any(|problem| problem.code == kind && problem.path == path);
    match code {
        "vhdx-header" => assert!(told(ProblemKind::StructureDamaged), "{:?}", status.problems),
        "vhdx-region-tables-differ" => assert!(told(ProblemKind::Uncertain), "{:?}", status.problems),
        _ => {}
    }
    let reports = inspect_folder(path.parent().unwrap()).unwrap().images;
    match inspect(path, None) {
        Ok(report) if code != "pin-damaged" => {
            assert_eq!(report.state, state, "{code}: {:?}", report.findings);
            let in_folder = reports.iter().find(|other| other.path == path).unwrap();
            assert_eq!((in_folder.state, &in_folder.findings), (state, &report.findings), "{code}");
        }
        Err(error) => assert_eq!(state, Health::Broken, "{code}: {error}"),
        Ok(_) => {}
    }
}
