//! Images give back what they do not need: against a model, wherever they stand in their chain, in every crash state,
//! and on hosts that fail and fill up.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use proptest::prelude::*;
use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::check::Check;
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::Override;
use zestful_sapling::finding::{Finding, Severity};
use zestful_sapling::guest::{free_space, volumes};
use zestful_sapling::image::{Format, Kind, ParentRecord, open_image_mut};
use zestful_sapling::ops::{
    Compact, Derive, Make, NewFileSystem, NewImage, NewVolume, Operation, PinImage, Planned, Prepare, VolumeSize,
};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::{Fault, HostRecorder};
use zestful_sapling::storage::{Access, FileStorage, MemoryStorage, ReadAt, Storage};

use crate::arranging::live;
use crate::family_model::quick_folder;
use crate::support::{Layers, MIB, Model, Step, check_chain, for_each_unit, perform, shapes, steps, with};

/// The layers of a chain as files, each of which names the one below it.
fn as_files(layers: &Layers, folder: &Path) -> Vec<PathBuf> {
    let ending = layers.shape.format.to_string();
    let name = |number: usize| format!("layer-{number}.{ending}");
    let put = |(number, memory): (usize, &Arc<MemoryStorage>)| {
        let path = folder.join(name(number));
        std::fs::write(&path, []).unwrap();
        let file = Arc::new(FileStorage::open(&path, Access::Write).unwrap());
        file.set_len(memory.len().unwrap()).unwrap();
        let mut at = 0;
        while let Some(data) = memory.next_data(at).unwrap() {
            let mut bytes = vec![0; (data.end - data.start) as usize];
            memory.read_at(&mut bytes, data.start).unwrap();
            file.write_at(&bytes, data.start).unwrap();
            at = data.end;
        }
        let mut image = open_image_mut(file, Some(layers.shape.format)).unwrap();
        if let Some(parent) = image.info().parent.clone() {
            let record = ParentRecord {
                identity: parent.accepted[0],
                also: None,
                time_stamp: parent.time_stamp,
                name: name(number - 1),
                relative: format!(".\\{}", name(number - 1)),
                absolute: None,
            };
            image.set_parent(&record).unwrap();
        }
        image.close().unwrap();
        path
    };
    layers.storages.iter().enumerate().map(put).collect()
}

/// What a disk holds where it is not zero.
fn content(path: &Path) -> (u64, BTreeMap<u64, Option<u8>>) {
    let disk = Chain::open(path, &OpenOptions::new()).unwrap();
    let mut content = BTreeMap::new();
    for_each_unit(&disk, |units, found| {
        if found != Some(0) {
            content.extend(units.map(|unit| (unit, found)));
        }
    });
    (disk.virtual_size(), content)
}

proptest! {
    #![proptest_config(crate::support::config(60))]

    /// Whatever was done to a chain, any of its layers can be compacted, and none of its disks notices.
    #[test]
    fn nobody_notices_that_a_layer_is_compacted(
        (shape, steps) in shapes().prop_flat_map(|shape| (Just(shape.clone()), steps(&shape, 1..24, 3))),
        which in 0..4usize,
        (in_order, holes, same, look) in any::<(bool, bool, bool, bool)>(),
    ) {
        let (mut layers, mut model) = (Layers::new(shape), Model::default());
        // Half of all writes are zeros.
        let steps: Vec<Step> = steps.into_iter().map(|step| match step {
            Step::Write { at, count, byte } => Step::Write { at, count, byte: byte.saturating_sub(128) },
            other => other,
        }).collect();
        live(&mut layers, &mut model, &steps);
        let folder = quick_folder();
        let files = as_files(&layers, &folder.path().canonicalize().unwrap());
        let before: Vec<_> = files.iter().map(|path| content(path)).collect();
        let path = &files[which % files.len()];
        let is_last = path == files.last().unwrap();
        let same = same && is_last && files.len() > 1;
        let request = Compact::new(path).in_order(in_order && !holes).with_holes_only(holes).with_same_as_parent(same);
        let mut plan = request.clone().plan().unwrap();
        let identity = |path: &Path| Chain::open(path, &OpenOptions::new()).unwrap().info().data_identity;
        if look {
            plan.look(&Progress::new()).unwrap();
        }
        let outcome = plan.run(&Progress::new()).unwrap();
        drop(plan);
        let now = identity(path);
        for (path, before) in files.iter().zip(&before) {
            prop_assert_eq!(&content(path), before);
            let report = check_chain(path, None).unwrap();
            let worst = report.findings.iter().find(|one| one.severity() > Severity::Note);
            prop_assert!(worst.is_none(), "{:?}", worst);
        }
        model.assert_same(&Chain::open(files.last().unwrap(), &OpenOptions::new()).unwrap());
        prop_assert!(outcome.after.file_len <= outcome.before.file_len, "{:?}", outcome);
        prop_assert!(outcome.after.allocated <= outcome.before.allocated + 8192, "{:?}", outcome);
        let (placed, given) = (outcome.placed.unwrap(), outcome.given_back.clone());
        if in_order && !holes {
            prop_assert_eq!(placed.backward, 0);
        }
        if !holes {
            prop_assert_eq!(placed.file_len, placed.packed_len);
            prop_assert_eq!(given.holes, 0);
        }
        // Nothing is left to do, and then the file is not touched.
        let stand = || std::fs::metadata(path).map(|found| (found.len(), found.modified().unwrap())).unwrap();
        let first = stand();
        let again = perform(request).unwrap();
        prop_assert_eq!((again.before, again.placed_before), (again.after, again.placed));
        prop_assert_eq!(again.given_back, Default::default());
        prop_assert_eq!((stand(), identity(path)), (first, now));
    }
}

/// What is compacted, and how.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Act {
    Plain,
    Reorder,
    Unused,
    UnusedHoles,
    SameAsParent,
    Holes,
    /// The parent, whose child nobody uses.
    Parent,
}

#[derive(Clone, Copy, Debug)]
struct Form {
    format: Format,
    kind: Kind,
    child: bool,
}

const fn form(format: Format, kind: Kind, child: bool) -> Form {
    Form { format, kind, child }
}

const FORMS: [Form; 7] = [
    form(Format::Vhdx, Kind::Dynamic, false),
    form(Format::Vhdx, Kind::Dynamic, true),
    form(Format::Vhd, Kind::Dynamic, false),
    form(Format::Vhd, Kind::Dynamic, true),
    form(Format::Raw, Kind::Fixed, false),
    form(Format::Vhdx, Kind::Fixed, false),
    form(Format::Vhd, Kind::Fixed, false),
];

fn acts(form: Form) -> Vec<Act> {
    match (form.kind, form.child) {
        (Kind::Fixed, _) => vec![Act::Plain, Act::Unused],
        (_, false) => vec![Act::Plain, Act::Reorder, Act::Unused, Act::UnusedHoles, Act::Holes],
        (_, true) => {
            vec![Act::Plain, Act::Reorder, Act::Unused, Act::SameAsParent, Act::Holes, Act::Parent]
        }
    }
}

const SIZE: u64 = 12 * MIB;

/// A disk with a loader before its first volume, a FAT that holds next to nothing, and a volume that nobody knows.
struct Scene {
    folder: tempfile::TempDir,
    base: PathBuf,
    path: PathBuf,
    /// What the disk, and its parent, hold.
    content: Vec<u8>,
    parent: Vec<u8>,
    /// What of it the FAT marks as free: units of 512 bytes.
    free: Vec<bool>,
}

fn read_all(path: &Path) -> zestful_sapling::Result<Vec<u8>> {
    let disk = Chain::open(path, &OpenOptions::new())?;
    let mut bytes = vec![0; disk.virtual_size() as usize];
    disk.read_at(&mut bytes, 0)?;
    Ok(bytes)
}

impl Scene {
    fn new(form: Form) -> Self {
        let folder = quick_folder();
        let base = folder.path().canonicalize().unwrap().join(format!("herbarium.{}", form.format));
        let blocks = [(Format::Vhdx, MIB), (Format::Vhd, MIB / 2)];
        let is_its = |(format, _): &&(Format, u64)| *format == form.format && form.kind == Kind::Dynamic;
        let blocks = blocks.iter().find(is_its).map(|(_, size)| *size);
        let new = with(NewImage::new().with_kind(form.kind), blocks, NewImage::with_block_size);
        perform(Make::new(&base, SIZE).with_image(new)).unwrap();
        let path = base.with_file_name(format!("child.{}", form.format));
        let fat = NewVolume::new(VolumeSize::Bytes(9 * MIB / 2), NewFileSystem::Fat);
        let unknown = NewVolume::new(VolumeSize::Rest, NewFileSystem::None);
        perform(Prepare::new(&base).with_volume(fat).with_volume(unknown)).unwrap();
        let put = |path: &Path, places: &[(u64, u64, u8)]| {
            let disk = ChainMut::open(path, &OpenOptions::new()).unwrap();
            for (at, len, byte) in places {
                disk.write_at(&vec![*byte; *len as usize], *at).unwrap();
                disk.flush().unwrap();
            }
            disk.close().unwrap();
        };
        // In an order of their own: a loader, zeros and leftovers in the FAT, and in the volume that nobody knows.
        const HALF: u64 = MIB / 2;
        let old = [
            (19 * HALF, 9000 / 512 * 512, 0x51),
            (15 * HALF, HALF, 0),
            (6 * HALF, 2 * HALF, 0x52),
            (40 * 512, 4096, 0x53),
            (12 * HALF, 4096, 0),
            (4 * HALF, 8192, 0x54),
        ];
        put(&base, &old);
        if form.child {
            let derive = Derive::new(&base, vec![path.clone()]);
            perform(with(derive, blocks, Derive::with_block_size)).unwrap();
            let new = [
                (21 * HALF, 4096, 0),
                (19 * HALF, 8704, 0),
                (8 * HALF, HALF, 0x61),
                (17 * HALF, 4096, 0x62),
                (6 * HALF, 2 * HALF, 0x52),
                (4 * HALF, 2 * HALF, 0x63),
            ];
            put(&path, &new);
        } else {
            std::fs::rename(&base, &path).unwrap();
        }
        let base = if form.child { base } else { path.clone() };
        let disk = Arc::new(Chain::open(&path, &OpenOptions::new()).unwrap());
        let found = volumes(&*disk).unwrap();
        let mut free = vec![false; (SIZE / 512) as usize];
        free_space(disk, &found.volumes[0], &Progress::new(), &mut |range| {
            free[(range.start / 512) as usize..(range.end / 512) as usize].fill(true);
            Ok(())
        })
        .unwrap();
        assert!(free.iter().filter(|free| **free).count() > 6000);
        let (content, parent) = (read_all(&path).unwrap(), read_all(&base).unwrap());
        Self { folder, base, path, content, parent, free }
    }

    fn request(&self, act: Act) -> Compact {
        let path = if act == Act::Parent { &self.base } else { &self.path };
        let request = Compact::new(path).with_override(Override::ReservedSpace);
        match act {
            Act::Plain | Act::Parent => request,
            Act::Reorder => request.in_order(true),
            Act::Unused => request.with_unused(true),
            Act::UnusedHoles => request.with_unused(true).with_holes_only(true),
            Act::SameAsParent => request.with_same_as_parent(true).in_order(true),
            Act::Holes => request.with_holes_only(true),
        }
    }

    /// Everything reads as before; but what is free may be what stands below, or zero.
    fn judge(&self, act: Act, when: &str) {
        let (now, below) = (read_all(&self.path).unwrap_or_else(|e| panic!("{when}: {e}")), &self.parent);
        let may_change = matches!(act, Act::Unused | Act::UnusedHoles);
        for (unit, now) in now.chunks(512).enumerate() {
            let range = unit * 512..unit * 512 + 512;
            if now == &self.content[range.clone()] {
                continue;
            }
            let is_other = *now == below[range.clone()] || now.iter().all(|byte| *byte == 0);
            assert!(may_change && self.free[unit] && is_other, "{when}: sector {unit}");
        }
        assert_eq!(read_all(&self.base).unwrap().len() as u64, SIZE, "{when}");
        if self.base != self.path {
            assert!(read_all(&self.base).unwrap() == self.parent, "{when}: the parent");
        }
        let report = perform(Check::new(&self.path)).unwrap();
        let lags = ["vhd-copy-differs", "vhd-copy-outdated"];
        let is_bad = |one: &&Finding| one.severity() > Severity::Warning && !lags.contains(&one.code());
        let bad = report.findings.iter().find(is_bad);
        assert!(bad.is_none(), "{when}: {bad:?}");
    }

    fn allocated(&self, act: Act) -> u64 {
        use std::os::unix::fs::MetadataExt;
        let path = if act == Act::Parent { &self.base } else { &self.path };
        std::fs::metadata(path).unwrap().blocks() * 512
    }
}

/// All of them take minutes.
fn share() -> usize {
    if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 4 }
}

#[test]
fn every_crash_state_reads_as_before_and_goes_on() {
    let (mut states, every) = (0, share());
    for form in FORMS {
        for act in acts(form) {
            let scene = Scene::new(form);
            let recorder = HostRecorder::start(scene.folder.path()).unwrap();
            let before = scene.allocated(act);
            let outcome = perform(scene.request(act)).unwrap();
            let when = format!("{form:?} {act:?}");
            scene.judge(act, &when);
            assert!(scene.allocated(act) < before || act == Act::Reorder && form.child, "{when}: {outcome:?}");
            let least = scene.allocated(act);
            let found = recorder.crash_states(9, 1).unwrap();
            recorder.stop();
            for (number, (issued, state)) in found.into_iter().enumerate().skip(act as usize % every).step_by(every) {
                recorder.restore(&state).unwrap();
                let when = format!("{when} after {issued} ({number})");
                scene.judge(act, &when);
                perform(scene.request(act)).unwrap_or_else(|error| panic!("{when}: {error}"));
                scene.judge(act, &format!("{when}, again"));
                assert!(scene.allocated(act) <= least + 65536, "{when}: {} of {least}", scene.allocated(act));
                states += 1;
            }
        }
    }
    println!("{states} states");
    assert!(states > 900 / every, "{states}");
}

#[test]
fn every_change_may_fail() {
    let mut failures = 0;
    for form in FORMS {
        for act in acts(form) {
            let scene = Scene::new(form);
            let recorder = HostRecorder::start(scene.folder.path()).unwrap();
            let mut number = act as usize % share();
            loop {
                let fault = [Fault::Error(28), Fault::Error(5), Fault::LostWrites][number % 3];
                recorder.rewind().unwrap();
                recorder.fail_once(number, fault);
                let ended = perform(scene.request(act));
                let asked = recorder.asked();
                let when = format!("{form:?} {act:?}: change {number}: {fault:?}: {ended:?}");
                scene.judge(act, &when);
                if asked <= number {
                    assert!(ended.is_ok(), "{when}");
                    break;
                }
                perform(scene.request(act)).unwrap_or_else(|error| panic!("{when}: {error}"));
                scene.judge(act, &format!("{when}, again"));
                failures += 1;
                number += share();
            }
        }
    }
    println!("{failures} failures");
    assert!(failures > 600 / share(), "{failures}");
}

/// What nobody may touch is refused, and nothing was changed.
#[test]
fn what_others_need_or_use_is_left_alone() {
    let scene = Scene::new(FORMS[1]);
    let bytes = || (std::fs::read(&scene.base).unwrap(), std::fs::read(&scene.path).unwrap());
    let before = bytes();
    let refused = |request: Compact| match perform(request) {
        Err(Error::Refused(refusal, _)) => refusal,
        other => panic!("{other:?}"),
    };
    // What changes the content needs an image without children.
    for request in [Compact::new(&scene.base).with_unused(true), Compact::new(&scene.base).with_same_as_parent(true)] {
        assert!(matches!(refused(request), Refusal::NeededByChildren { .. }));
    }
    // A child that is open reads its parent; a program without locks may.
    let child = Chain::open(&scene.path, &OpenOptions::new()).unwrap();
    assert!(matches!(refused(scene.request(Act::Parent)), Refusal::InUse { .. }));
    drop(child);
    for (path, act) in [(&scene.base, Act::Parent), (&scene.path, Act::Plain), (&scene.path, Act::Unused)] {
        let reader = std::fs::File::open(path).unwrap();
        assert!(matches!(refused(scene.request(act)), Refusal::InUse { .. }), "{act:?}");
        drop(reader);
    }
    assert!(matches!(perform(Compact::new(&scene.base).with_same_as_parent(true)), Err(Error::Refused(..))));
    perform(PinImage::new(&scene.base)).unwrap();
    assert!(matches!(refused(scene.request(Act::Parent)), Refusal::Pinned { .. }));
    assert!(bytes() == before);
    // What stands under a pinned parent, and a second name, and a mark.
    std::fs::hard_link(&scene.path, scene.path.with_extension("other")).unwrap();
    assert!(matches!(refused(scene.request(Act::Plain)), Refusal::HardLinks { .. }));
    std::fs::remove_file(scene.path.with_extension("other")).unwrap();
    zestful_sapling::storage::mark_read_only(&scene.path).unwrap();
    assert!(matches!(refused(scene.request(Act::Plain)), Refusal::ReadOnly { .. }));
    for form in &FORMS[5..] {
        let scene = Scene::new(*form);
        let request = Compact::new(&scene.path);
        assert!(matches!(perform(request), Err(Error::Refused(Refusal::ReservedSpace { .. }, _))));
        let request = scene.request(Act::Plain).in_order(true);
        assert!(matches!(perform(request), Err(Error::Usage(_))));
    }
}

/// While a child is looked at nobody moves the blocks of what it reads through.
#[test]
fn what_is_read_through_stays_where_it_is() {
    for form in [FORMS[1], FORMS[3]] {
        let scene = Scene::new(form);
        let mut plan = scene.request(Act::SameAsParent).plan().unwrap();
        let progress = Progress::new();
        progress.set_rate_limit(1);
        std::thread::scope(|scope| {
            let looking = scope.spawn(|| plan.look(&progress));
            while progress.read().done == 0 {
                std::thread::sleep(std::time::Duration::from_millis(1));
            }
            let ended = scene.request(Act::Parent).plan().map(|_| ());
            progress.set_rate_limit(0);
            assert!(matches!(ended, Err(Error::Refused(Refusal::InUse { .. }, _))), "{ended:?}");
            looking.join().unwrap().unwrap();
        });
        plan.run(&Progress::new()).unwrap();
        drop(plan);
        scene.judge(Act::SameAsParent, "looked at first");
    }
}

/// A layer that others grew from is as old afterwards as it was, and its children find it.
#[test]
fn a_parent_stays_what_it_is() {
    for form in [FORMS[1], FORMS[3]] {
        let scene = Scene::new(form);
        let age = || std::fs::metadata(&scene.base).unwrap().modified().unwrap();
        let info = || Chain::open(&scene.base, &OpenOptions::new()).unwrap().info().clone();
        let (old, known) = (age(), info());
        let outcome = perform(scene.request(Act::Parent)).unwrap();
        assert!(outcome.after.file_len < outcome.before.file_len, "{outcome:?}");
        assert_eq!((age(), info().data_identity, info().time_stamp), (old, known.data_identity, known.time_stamp));
        assert!(zestful_sapling::storage::is_marked_read_only(&scene.base).unwrap());
        assert!(check_chain(&scene.path, None).unwrap().findings.is_empty());
    }
}

/// A program that writes between the plan and the run is not overrun.
#[test]
fn what_was_written_since_the_plan_stays() {
    let scene = Scene::new(FORMS[0]);
    let plan = scene.request(Act::Plain).plan().unwrap();
    std::fs::OpenOptions::new().append(true).open(&scene.path).unwrap().set_len(64 * MIB).unwrap();
    assert!(matches!(plan.run(&Progress::new()), Err(Error::Refused(Refusal::SourceChanged { .. }, _))));
    drop(plan);
    let file = FileStorage::open(&scene.path, Access::Write).unwrap();
    assert_eq!(file.len().unwrap(), 64 * MIB);
}

/// On a host with hardly anything free, blocks move one by one.
#[test]
fn a_full_host_is_enough() {
    for form in [FORMS[0], FORMS[2]] {
        let scene = Scene::new(form);
        let recorder = HostRecorder::start(scene.folder.path()).unwrap();
        recorder.pretend_free_space(0);
        let outcome = perform(scene.request(Act::Reorder)).unwrap();
        assert!(outcome.after.allocated < outcome.before.allocated && outcome.placed.unwrap().backward == 0);
        scene.judge(Act::Reorder, "full");
    }
}
