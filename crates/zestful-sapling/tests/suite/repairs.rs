//! Damage is put right, with the content as it was or with what was said to be lost, and put back again bit for bit.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::Search;
use zestful_sapling::finding::{Finding, Repair as Class, rules};
use zestful_sapling::image::{Format, Source, open_image, vhd, vhdx};
use zestful_sapling::ops::Operation;
use zestful_sapling::progress::Progress;
use zestful_sapling::ranges::Ranges;
use zestful_sapling::repair::{Repair, RepairOutcome, UndoRepair};
use zestful_sapling::storage::testing::HostRecorder;
use zestful_sapling::storage::{Access, FileStorage, MemoryStorage, ReadAt, Storage};

use crate::damage::{bytes, reseal, reseal_vhd};
use crate::family_model::{derive, make, quick_folder, write};
use crate::findings::{Row, VHD, VHDX};
use crate::support::{UNIT, perform};

/// What one layer holds: the sectors that are not zeros, and what is read from the parent.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Content {
    size: u64,
    sectors: BTreeMap<u64, Vec<u8>>,
    parent: Ranges,
}

impl Content {
    /// What the image holds; `None` when it does not open, or cannot be read.
    pub fn of(storage: Arc<dyn ReadAt>, format: Format) -> Option<Self> {
        let image = open_image(storage, Some(format)).ok()?;
        let size = image.info().virtual_size;
        let (mut content, mut offset) = (Self { size, ..Self::default() }, 0);
        while offset < size {
            let extent = image.extent_at(offset, size - offset).ok()?;
            let len = extent.len.min(1 << 20);
            match extent.source {
                Source::Parent => content.parent.add(offset..offset + extent.len),
                Source::Zero => {}
                Source::Data(at) => {
                    let mut buffer = vec![0; len as usize];
                    image.read_data(&mut buffer, at).ok()?;
                    let sectors = (offset / UNIT..).zip(buffer.chunks(UNIT as usize));
                    let filled = sectors.filter(|(_, bytes)| bytes.iter().any(|byte| *byte != 0));
                    content.sectors.extend(filled.map(|(sector, bytes)| (sector, bytes.to_vec())));
                    offset += len;
                    continue;
                }
            }
            offset += extent.len;
        }
        Some(content)
    }

    pub fn size(&self) -> u64 {
        self.size
    }

    /// The sectors that are not zeros.
    pub fn sectors(&self) -> &BTreeMap<u64, Vec<u8>> {
        &self.sectors
    }

    /// The same without what lies in these ranges.
    pub fn without(mut self, ranges: &Ranges) -> Self {
        for range in ranges.list() {
            self.sectors.retain(|sector, _| !(range.offset..range.end()).contains(&(sector * UNIT)));
            self.parent.remove(range.offset..range.end());
        }
        self
    }
}

/// The bytes of a file that is not empty space: compared instead of gigabytes of zeros.
pub fn bits(storage: &dyn ReadAt) -> (u64, BTreeMap<u64, Vec<u8>>) {
    let (mut at, mut pages) = (0, BTreeMap::new());
    while let Some(data) = storage.next_data(at).unwrap() {
        for page in data.start / 4096..data.end.div_ceil(4096) {
            let content = bytes(storage, page * 4096, 4096);
            if content.iter().any(|byte| *byte != 0) {
                pages.insert(page, content);
            }
        }
        at = data.end;
    }
    (storage.len().unwrap(), pages)
}

/// Puts the bytes of an image into a file.
pub fn store(image: &dyn ReadAt, path: &Path) {
    let file = std::fs::File::create(path).unwrap();
    file.set_len(image.len().unwrap()).unwrap();
    drop(file);
    let file = FileStorage::open(path, Access::Write).unwrap();
    bits(image).1.into_iter().for_each(|(page, bytes)| {
        let there = (image.len().unwrap() - page * 4096).min(4096) as usize;
        file.write_at(&bytes[..there], page * 4096).unwrap();
    });
}

fn open(path: &Path) -> Arc<dyn ReadAt> {
    Arc::new(FileStorage::open(path, Access::ReadUnlocked).unwrap())
}

pub fn check(path: &Path, format: Format) -> Vec<Finding> {
    let check = if format == Format::Vhd { vhd::check } else { vhdx::check };
    check(open(path), &Progress::new()).unwrap()
}

/// Repairs with all that can be given up.
pub fn repair_all(path: &Path, format: Format) -> zestful_sapling::Result<RepairOutcome> {
    let offered: Vec<&str> = {
        let plan = Repair::new(path).with_format(format).plan()?;
        plan.offered().iter().map(|step| step.code).collect()
    };
    perform(offered.into_iter().fold(Repair::new(path).with_format(format), Repair::losing))
}

/// One damage: found, mended, and put back.
fn one(row: &Row, format: Format, reseal: fn(&MemoryStorage), folder: &Path) -> Option<RepairOutcome> {
    let (code, image, spoil) = row;
    let sound = image();
    let spoiled = image();
    spoil(&spoiled);
    reseal(&spoiled);
    let path = folder.join(format!("{code}.{format}"));
    store(&spoiled, &path);
    let before = bits(&*open(&path));
    let class = rules().find(|rule| rule.code == *code).unwrap().repair();
    let outcome = match class {
        Class::Safe => perform(Repair::new(&path).with_format(format)),
        _ => repair_all(&path, format),
    };
    let outcome = outcome.unwrap_or_else(|error| panic!("{code}: {error}"));
    let step = outcome.steps.iter().find(|step| step.code == *code);
    assert_eq!(step.is_some(), class != Class::None, "{code}: {outcome:?}");
    let findings = check(&path, format);
    if let Some(step) = step {
        assert_eq!(step.lossy, class == Class::Lossy, "{code}");
        assert!(!findings.iter().any(|finding| finding.code() == *code), "{code}: {findings:?}");
    }
    assert_eq!(findings, outcome.left.to_vec(), "{code}");
    let whole = Content::of(open(&path), format);
    if class == Class::Safe {
        assert!(outcome.content.is_empty() && outcome.steps.iter().all(|step| !step.lossy), "{code}: {outcome:?}");
    }
    if class != Class::None {
        let (was, is) = (Content::of(Arc::new(sound), format).unwrap(), whole.unwrap());
        assert_eq!(is.size.max(was.size), is.size, "{code}");
        let touched = |content: Content| content.without(&outcome.content.lost).without(&outcome.content.doubtful);
        // Where the size itself was damaged there is more, or less, of the disk than there was.
        if is.size == was.size {
            assert!(touched(is) == touched(was), "{code}: the content is another one");
        }
        let lost = Content::of(open(&path), format).unwrap();
        let still = lost
            .sectors
            .keys()
            .find(|sector| outcome.content.lost.within(**sector * UNIT..(**sector + 1) * UNIT).next().is_some());
        assert_eq!(still, None, "{code}: what is lost reads as zero");
    }
    let after = bits(&*open(&path));
    let Some(undo) = &outcome.undo_file else {
        assert!(after == before, "{code}");
        return None;
    };
    assert!(undo.exists() && after != before, "{code}");
    perform(UndoRepair::new(&path)).unwrap_or_else(|error| panic!("{code}: {error}"));
    assert!(bits(&*open(&path)) == before && !undo.exists(), "{code}: it is not as it was");
    Some(outcome)
}

#[test]
fn every_damage_that_can_be_mended_is_mended_and_taken_back() {
    let folder = tempfile::tempdir().unwrap();
    let mut mended = 0;
    for (rows, format, reseal) in
        [(VHDX, Format::Vhdx, reseal as fn(&MemoryStorage)), (VHD, Format::Vhd, reseal_vhd as fn(&MemoryStorage))]
    {
        // Files of that length are none that a host of ours would hold; and paths are mended where the parent is known.
        let elsewhere = ["vhdx-file-size", "vhdx-log-size", "vhdx-locator-paths", "vhd-locators", "vhd-unwritten-data"];
        for row in rows.iter().filter(|row| !elsewhere.contains(&row.0)) {
            mended += usize::from(one(row, format, reseal, folder.path()).is_some());
        }
    }
    assert!(mended > 50, "{mended}");
}

/// Base and child in folders of their own.
fn family(format: Format) -> (tempfile::TempDir, PathBuf, PathBuf) {
    let folder = quick_folder();
    for sub in ["a", "b"] {
        std::fs::create_dir(folder.path().join(sub)).unwrap();
    }
    let root = folder.path().canonicalize().unwrap();
    let (base, child) = (root.join(format!("a/fen-base.{format}")), root.join(format!("b/germination-01.{format}")));
    make(&base);
    write(&base, 0, 1);
    derive(&base, &child, false);
    write(&child, 4096 * 300, 2);
    (folder, base, child)
}

fn reads(path: &Path, units: &[(u64, u8)]) {
    let disk = Chain::open(path, &OpenOptions::new()).unwrap_or_else(|error| panic!("{error}"));
    for (unit, byte) in units {
        let mut found = [0; 512];
        disk.read_at(&mut found, unit * 4096).unwrap();
        assert_eq!(found, [*byte; 512], "{}", path.display());
    }
}

#[test]
fn a_parent_is_found_again_and_another_one_only_when_that_is_meant() {
    for format in [Format::Vhdx, Format::Vhd] {
        let (folder, base, child) = family(format);
        let before = std::fs::read(&child).unwrap();
        let search = || Search::below(vec![folder.path().to_owned()]);
        // Renamed: found by its identity, which loses nothing.
        let moved = folder.path().join(format!("a/moor.{format}"));
        std::fs::rename(&base, &moved).unwrap();
        let outcome = perform(Repair::new(&child)).unwrap();
        assert_eq!(outcome.steps, [], "it is looked for in its folder only: {outcome:?}");
        let outcome = perform(Repair::new(&child).with_search(search())).unwrap();
        assert_eq!(
            outcome.steps.iter().map(|step| (step.code, step.lossy)).collect::<Vec<_>>(),
            [("parent-missing", false)]
        );
        reads(&child, &[(0, 1), (300, 2)]);
        perform(UndoRepair::new(&child)).unwrap();
        assert!(std::fs::read(&child).unwrap() == before);
        // Changed: taken only when that is named, and all that the child does not hold is in doubt.
        std::fs::rename(&moved, &base).unwrap();
        let mut mode = std::fs::metadata(&base).unwrap().permissions();
        std::os::unix::fs::PermissionsExt::set_mode(&mut mode, 0o644);
        std::fs::set_permissions(&base, mode).unwrap();
        crate::family_model::write_unasked(&base, 4096 * 7, 9);
        let plan = Repair::new(&child).plan().unwrap();
        assert!(plan.steps().is_empty() && plan.offered()[0].code == "parent-mismatch");
        drop(plan);
        let outcome = perform(Repair::new(&child).losing("parent-mismatch")).unwrap();
        let doubtful = &outcome.content.doubtful;
        assert!(doubtful.bytes() > 7 << 20 && doubtful.within(4096 * 300..4096 * 301).next().is_none(), "{doubtful:?}");
        reads(&child, &[(0, 1), (7, 9), (300, 2)]);
        perform(UndoRepair::new(&child)).unwrap();
        assert!(std::fs::read(&child).unwrap() == before);
        assert!(matches!(Chain::open(&child, &OpenOptions::new()), Err(Error::Parent(_))));
        // An image that moves takes what undoes its repair along; one that is removed does not leave it behind.
        perform(Repair::new(&child).losing("parent-mismatch")).unwrap();
        let there = folder.path().join(format!("b/there.{format}"));
        perform(zestful_sapling::ops::MoveImage::new(&child, &there)).unwrap();
        let undo = |image: &Path| PathBuf::from(format!("{}.zsap.undo", image.display()));
        assert!(undo(&there).exists() && !undo(&child).exists());
        perform(zestful_sapling::ops::Remove::new(&there)).unwrap();
        assert!(!undo(&there).exists());
    }
}

#[test]
fn a_repair_says_why_it_is_refused() {
    let (folder, base, child) = family(Format::Vhdx);
    let damage = |path: &Path| {
        let mode = std::fs::metadata(path).unwrap().permissions();
        let mut bytes = std::fs::read(path).unwrap();
        bytes[128 << 10] ^= 0xFF;
        std::fs::remove_file(path).unwrap();
        std::fs::write(path, bytes).unwrap();
        std::fs::set_permissions(path, mode).unwrap();
    };
    damage(&base);
    let refused = |path: &Path| match perform(Repair::new(path)) {
        Err(Error::Refused(refusal, _)) => refusal,
        other => panic!("{other:?}"),
    };
    // A frozen base is mended as it is: its content and its identity stay.
    let outcome = perform(Repair::new(&base)).unwrap();
    assert!(!outcome.damaged && std::fs::metadata(&base).unwrap().permissions().readonly());
    reads(&child, &[(0, 1), (300, 2)]);
    perform(UndoRepair::new(&base)).unwrap();
    let holder = FileStorage::open(&base, Access::Read).unwrap();
    assert!(matches!(refused(&base), Refusal::InUse { .. }));
    drop(holder);
    let other = folder.path().join("a/other.vhdx");
    std::fs::hard_link(&base, &other).unwrap();
    assert!(matches!(refused(&base), Refusal::HardLinks { .. }));
    std::fs::remove_file(&other).unwrap();
    // The host is full.
    let recorder = HostRecorder::start(folder.path()).unwrap();
    recorder.pretend_free_space(1000);
    assert!(matches!(refused(&base), Refusal::NoSpace { .. }));
    drop(recorder);
    perform(zestful_sapling::ops::PinImage::new(&base)).unwrap();
    assert!(matches!(refused(&base), Refusal::Pinned { .. }));
    for (code, path) in [("vhdx-header", &base), ("nonsense", &base), ("vhdx-block-outside", &child)] {
        _ = perform(zestful_sapling::ops::Unpin::new(&base));
        match Repair::new(path).losing(code).plan() {
            Err(Error::Usage(advice)) => assert!(advice.to_string().contains(code), "{advice}"),
            other => panic!("{code}: {:?}", other.map(|plan| plan.steps().to_vec())),
        }
    }
    let raw = folder.path().join("records.raw");
    std::fs::write(&raw, [0; 4096]).unwrap();
    for path in [&raw, &folder.path().join("nothing.vhdx"), &folder.path().to_owned()] {
        assert!(matches!(perform(Repair::new(path)), Err(Error::Usage(_) | Error::Io { .. })));
        assert!(matches!(perform(UndoRepair::new(path)), Err(Error::Usage(_) | Error::Io { .. })));
    }
}

/// A table that is wrong a million times over is not mended in memory.
#[test]
fn so_much_damage_is_not_mended_in_place() {
    let storage = MemoryStorage::new();
    vhdx::CreateOptions::new(4 << 40).with_block_size(1 << 20).create_in(&storage).unwrap();
    let entries: Vec<u8> = (0..(1u64 << 20) + 1000).flat_map(|_| 8u64.to_le_bytes()).collect();
    storage.write_at(&entries, crate::damage::BAT).unwrap();
    let folder = quick_folder();
    let path = folder.path().join("fen-base.vhdx");
    store(&storage, &path);
    match perform(Repair::new(&path)) {
        Err(Error::Refused(Refusal::TooMuchToMend { .. }, _)) => {}
        other => panic!("{other:?}"),
    }
}

/// The end of the table is told in one finding, with all that the others touch.
#[test]
fn thousands_of_findings_are_told_as_few() {
    let storage = MemoryStorage::new();
    vhdx::CreateOptions::new(4 << 40).with_block_size(1 << 20).create_in(&storage).unwrap();
    let far = (1u64 << 40) | 6;
    let entries: Vec<u8> = (0..4000u64).flat_map(|_| far.to_le_bytes()).collect();
    storage.write_at(&entries, crate::damage::BAT).unwrap();
    let findings = vhdx::check(Arc::new(storage), &Progress::new()).unwrap();
    let outside: Vec<&Finding> = findings.iter().filter(|finding| finding.code() == "vhdx-block-outside").collect();
    assert!(outside.len() == 50 && outside[49].more && !outside[48].more);
    let lost: u64 = outside.iter().map(|finding| finding.content.lost.bytes()).sum();
    assert_eq!(lost, 4000 << 20);
}
