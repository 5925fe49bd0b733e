//! A repair, and the taking back of one, meet a loss of power at every moment and a host that fails at every change:
//! the image is exactly one or the other, or says that it is under way, and then it can be carried on or given up.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use proptest::prelude::Rng;
use proptest::test_runner::{RngAlgorithm, TestRng};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::image::Format;
use zestful_sapling::repair::{Repair, UndoRepair};
use zestful_sapling::storage::testing::{Fault, HostRecorder};
use zestful_sapling::storage::{Access, FileStorage, ReadAt};

use crate::damage::{reseal, reseal_vhd};
use crate::family_model::quick_folder;
use crate::findings::{VHD, VHDX};
use crate::repairs::{bits, repair_all, store};
use crate::sidecars::journal_of;
use crate::support::{abandon, perform, resume};

type Bits = (u64, std::collections::BTreeMap<u64, Vec<u8>>);

/// A damaged image in a folder of its own.
struct Scene {
    folder: tempfile::TempDir,
    path: PathBuf,
    format: Format,
}

fn of(path: &Path) -> Bits {
    bits(&*(Arc::new(FileStorage::open(path, Access::ReadUnlocked).unwrap()) as Arc<dyn ReadAt>))
}

impl Scene {
    /// With damage of all sorts: what is rewritten in place, what is appended, what is lengthened.
    fn new(code: &str) -> Self {
        let folder = quick_folder();
        let rows = VHDX.iter().chain(VHD);
        let (_, image, spoil) = rows.into_iter().find(|row| row.0 == code).unwrap();
        let format = if code.starts_with("vhdx") { Format::Vhdx } else { Format::Vhd };
        let storage = image();
        spoil(&storage);
        match format {
            Format::Vhdx => reseal(&storage),
            _ => reseal_vhd(&storage),
        }
        let path = folder.path().canonicalize().unwrap().join(format!("fen-base.{format}"));
        store(&storage, &path);
        Self { folder, path, format }
    }

    fn repair(&self) -> zestful_sapling::Result<()> {
        repair_all(&self.path, self.format).map(|_| ())
    }

    fn take_back(&self) -> zestful_sapling::Result<()> {
        perform(UndoRepair::new(&self.path)).map(|_| ())
    }

    fn is_under_way(&self) -> bool {
        journal_of(&self.path).exists()
    }

    /// Every state is one of the two, or becomes the one that is asked for.
    fn judge(&self, forth: bool, number: usize, before: &Bits, after: &Bits, when: &str) {
        if self.is_under_way() {
            // What nobody finished is refused to everybody else.
            assert!(matches!(self.repair(), Err(Error::Refused(..))), "{when}");
            let gives_up = !number.is_multiple_of(2);
            let given_up = gives_up.then(|| abandon(&self.path, &[]));
            // When all is put back only going on is left.
            let is_too_late =
                matches!(given_up, Some(Err(Error::Refused(Refusal::UnderWay { must_go_on: true, .. }, _))));
            let carries_on = !gives_up || is_too_late && !forth;
            match (carries_on, given_up) {
                (true, _) => _ = resume(&self.path, &[]).unwrap_or_else(|error| panic!("{when}: {error}")),
                (false, given_up) => _ = given_up.unwrap().unwrap_or_else(|error| panic!("{when}: {error}")),
            }
            let expected = if carries_on { after } else { before };
            assert!(of(&self.path) == *expected, "{when}: carried on: {carries_on}");
        }
        assert!(!self.is_under_way(), "{when}");
        let found = of(&self.path);
        assert!(found == *before || found == *after, "{when}");
        // From there on everything works.
        let damaged = if forth { before } else { after };
        if found == *damaged {
            self.repair().unwrap_or_else(|error| panic!("{when}: {error}"));
        }
        self.take_back().unwrap_or_else(|error| panic!("{when}: {error}"));
        assert!(of(&self.path) == *damaged, "{when}");
        let left: Vec<_> = std::fs::read_dir(self.folder.path()).unwrap().flatten().map(|entry| entry.path()).collect();
        let left = left.iter().filter(|path| !path.to_string_lossy().contains(".partial-"));
        assert_eq!(left.collect::<Vec<_>>(), [&self.path], "{when}");
    }
}

const CODES: [&str; 6] = [
    "vhdx-header",
    "vhdx-block-outside",
    "vhdx-bitmap-missing",
    "vhdx-file-length",
    "vhd-footer-lost",
    "vhd-blocks-share",
];

#[test]
fn every_crash_state_can_be_carried_on_and_given_up() {
    let mut states = 0;
    for (code, forth) in CODES.iter().flat_map(|code| [(code, true), (code, false)]) {
        let scene = Scene::new(code);
        if !forth {
            scene.repair().unwrap();
        }
        let before = of(&scene.path);
        let recorder = HostRecorder::start(scene.folder.path()).unwrap();
        if forth {
            scene.repair().unwrap()
        } else {
            scene.take_back().unwrap()
        };
        let after = of(&scene.path);
        let found = recorder.crash_states(7, 2).unwrap();
        recorder.stop();
        for (number, (issued, state)) in found.into_iter().enumerate() {
            recorder.restore(&state).unwrap();
            scene.judge(forth, number, &before, &after, &format!("{code} forth={forth} after {issued} ({number})"));
            states += 1;
        }
    }
    println!("{states} states");
    assert!(states > 300, "{states}");
}

#[test]
fn every_change_may_fail() {
    let (mut failures, mut taken_back) = (0, 0);
    for (code, forth) in CODES.iter().flat_map(|code| [(code, true), (code, false)]) {
        let faults = [Fault::Error(28), Fault::Error(5), Fault::LostWrites];
        // Each change fails in one of these ways; `ZSAP_EVERY_STATE=1` has it fail in all of them.
        let (step, firsts) = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { (1, [0; 3]) } else { (3, [0, 1, 2]) };
        for (fault, first) in faults.into_iter().zip(firsts) {
            for number in (first..).step_by(step) {
                let scene = Scene::new(code);
                if !forth {
                    scene.repair().unwrap();
                }
                let before = of(&scene.path);
                let recorder = HostRecorder::start(scene.folder.path()).unwrap();
                recorder.fail_once(number, fault);
                let ended = if forth { scene.repair() } else { scene.take_back() };
                let asked = recorder.asked();
                drop(recorder);
                let when = format!("{code} forth={forth}: change {number}: {fault:?}: {ended:?}");
                let is_told = matches!(&ended, Ok(()) | Err(Error::Io { .. } | Error::UnderWay { .. }));
                assert!(is_told, "{when}");
                let found = of(&scene.path);
                match &ended {
                    Err(Error::UnderWay { .. }) => assert!(scene.is_under_way(), "{when}"),
                    Err(_) if !scene.is_under_way() => {
                        taken_back += 1;
                        // An error behind the end of all else leaves the end.
                        assert!(found == before || number > 3, "{when}");
                    }
                    _ => {}
                }
                if scene.is_under_way() {
                    resume(&scene.path, &[]).unwrap_or_else(|error| panic!("{when}: {error}"));
                }
                match forth {
                    true => {
                        if of(&scene.path) == before {
                            scene.repair().unwrap_or_else(|error| panic!("{when}: {error}"));
                        }
                        scene.take_back().unwrap_or_else(|error| panic!("{when}: {error}"));
                        assert!(of(&scene.path) == before, "{when}");
                    }
                    false => {
                        if of(&scene.path) == before {
                            scene.take_back().unwrap_or_else(|error| panic!("{when}: {error}"));
                        }
                        assert!(of(&scene.path) != before, "{when}");
                    }
                }
                if ended.is_ok() && asked <= number {
                    break;
                }
                failures += 1;
            }
        }
    }
    println!("{failures} failures, {taken_back} taken back at once");
    assert!(failures > 60 && taken_back > 8, "{failures} {taken_back}");
}

/// What another program wrote after a repair is not spoiled by taking the repair back.
#[test]
fn a_repair_is_not_taken_back_from_an_image_that_went_on() {
    let scene = Scene::new("vhdx-header");
    scene.repair().unwrap();
    let undo = scene.path.with_file_name("fen-base.vhdx.zsap.undo");
    let refused = |why: &str| match scene.take_back() {
        Err(Error::Refused(Refusal::SourceChanged { .. }, _)) => {}
        other => panic!("{why}: {other:?}"),
    };
    let kept = (std::fs::read(&undo).unwrap(), std::fs::metadata(&scene.path).unwrap().modified().unwrap());
    let last = std::fs::metadata(&scene.path).unwrap().len() - 1;
    let open = || std::fs::OpenOptions::new().write(true).open(&scene.path).unwrap();
    std::os::unix::fs::FileExt::write_at(&open(), &[7], last).unwrap();
    refused("a byte of the data");
    let file = open();
    // A program may put the time back; what the repair wrote is compared as well.
    file.set_modified(kept.1).unwrap();
    std::os::unix::fs::FileExt::write_at(&file, &[7], (128 << 10) + 100).unwrap();
    file.set_modified(kept.1).unwrap();
    drop(file);
    refused("a byte of the header");
    // Of a newer version, damaged, or cut.
    let text = String::from_utf8_lossy(&kept.0).into_owned();
    for (code, spoiled) in [
        ("undo-damaged", kept.0[..kept.0.len() / 2].to_vec()),
        ("undo-damaged", [&kept.0[..40], &b"X"[..], &kept.0[41..]].concat()),
        ("undo-damaged", vec![]),
        ("undo-version", newer(&text)),
    ] {
        std::fs::write(&undo, &spoiled).unwrap();
        match scene.take_back() {
            Err(Error::Damaged(found) | Error::Unsupported(found)) => assert_eq!(found.code(), code),
            other => panic!("{code}: {other:?}"),
        }
    }
    // A repair goes on beside it.
    std::fs::remove_file(&undo).unwrap();
    perform(Repair::new(&scene.path)).unwrap();
}

/// The first line as a newer version would write it.
fn newer(text: &str) -> Vec<u8> {
    let line = text.lines().next().unwrap();
    let record = line[17..].replacen("\"version\":1", "\"version\":9", 1);
    let digest = blake3::hash(record.as_bytes()).to_hex();
    format!("{} {record}\n", &digest[..16]).into_bytes()
}

/// Whatever stands in the small files that a repair leaves: no panic, and the image is what it was or what it was to
/// be.
#[test]
fn small_files_that_lie_do_no_harm() {
    let mut random = TestRng::from_seed(RngAlgorithm::ChaCha, &[23; 32]);
    let (mut refused, mut taken) = (0, 0);
    for code in ["vhdx-header", "vhdx-bitmap-missing", "vhd-footer-lost"] {
        let scene = Scene::new(code);
        let before = of(&scene.path);
        scene.repair().unwrap();
        let after = of(&scene.path);
        let undo = PathBuf::from(format!("{}.zsap.undo", scene.path.display()));
        let kept = std::fs::read(&undo).unwrap();
        let modified = std::fs::metadata(&scene.path).unwrap().modified().unwrap();
        let whole = std::fs::read(&scene.path).unwrap();
        for _ in 0..50 {
            let mut lying = kept.clone();
            for _ in 0..=random.next_u32() % 3 {
                let at = (random.next_u64() % lying.len() as u64) as usize;
                match random.next_u32() % 4 {
                    0 => lying.truncate(at.max(1)),
                    1 => lying.insert(at, random.next_u32() as u8),
                    2 => lying[at] = b"0123456789\n {}[]\",:"[(random.next_u32() % 19) as usize],
                    _ => lying[at] ^= 1 << (random.next_u32() % 8),
                }
            }
            // With a first line whose digest is right again, what it says is judged.
            let is_forged = random.next_u32().is_multiple_of(2);
            if is_forged
                && let Some(end) = lying.iter().position(|byte| *byte == b'\n')
                && end > 17
            {
                let digest = blake3::hash(&lying[17..end]).to_hex();
                lying[..16].copy_from_slice(&digest.as_bytes()[..16]);
            }
            std::fs::write(&undo, &lying).unwrap();
            match scene.take_back() {
                // Who forges a whole record can forge any.
                Ok(()) => {
                    assert!(is_forged || of(&scene.path) == before);
                    taken += 1;
                }
                Err(Error::Damaged(_) | Error::Unsupported(_) | Error::Refused(..) | Error::Usage(_)) => {
                    assert!(of(&scene.path) == after);
                    refused += 1;
                }
                Err(other) => panic!("{other:?}"),
            }
            assert!(!scene.is_under_way());
            std::fs::write(&scene.path, &whole).unwrap();
            let file = std::fs::OpenOptions::new().write(true).open(&scene.path).unwrap();
            file.set_modified(modified).unwrap();
            drop(file);
            _ = std::fs::remove_file(&undo);
        }
    }
    println!("{refused} refused, {taken} taken back all the same");
    assert!(refused > 100, "{refused} {taken}");
}
