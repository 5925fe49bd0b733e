//! Disks, their partition tables and partitions get other sizes, while the host fails and loses power at every moment.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::guest::{PartitionProblem, PartitionTable, partitions};
use zestful_sapling::image::{Kind, Space, open_image_mut};
use zestful_sapling::ops::{
    Derive, Make, NewFileSystem, NewImage, NewSize, NewVolume, PartitionToExtend, Prepare, Resize, VolumeSize,
};
use zestful_sapling::storage::testing::{Fault, HostRecorder};
use zestful_sapling::storage::{Access, FileStorage};

use crate::family_model::quick_folder;
use crate::sidecars::journal_of;
use crate::support::{MIB, abandon, check_chain, perform, resume};

pub const SIZE: u64 = 24 * MIB;

/// How a disk is held.
#[derive(Clone, Copy, Debug)]
pub struct Form {
    format: &'static str,
    kind: Kind,
    sectors: Option<(u32, u32)>,
    child: bool,
}

const fn form(format: &'static str, kind: Kind, sectors: Option<(u32, u32)>, child: bool) -> Form {
    Form { format, kind, sectors, child }
}

pub const FORMS: [Form; 8] = [
    form("raw", Kind::Fixed, None, false),
    form("vhdx", Kind::Dynamic, Some((512, 4096)), false),
    form("vhdx", Kind::Dynamic, Some((4096, 4096)), true),
    form("vhdx", Kind::Fixed, Some((4096, 4096)), false),
    form("vhd", Kind::Dynamic, None, false),
    form("vhd", Kind::Dynamic, None, true),
    form("vhd", Kind::Fixed, None, false),
    form("vhdx", Kind::Dynamic, Some((512, 512)), true),
];

/// What is done to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Act {
    Grow(Space),
    GrowExtend(Space),
    /// By less than the second copy of a GPT takes.
    GrowLittle,
    ExtendLater,
    Shrink,
    ShrinkPartition,
}

pub struct Scene {
    pub folder: tempfile::TempDir,
    pub path: PathBuf,
    /// What the two partitions hold: where it begins, and the bytes.
    content: Vec<(u64, Vec<u8>)>,
}

pub fn open(path: &Path) -> zestful_sapling::Result<Chain> {
    Chain::open(path, &OpenOptions::new())
}

impl Scene {
    /// A disk with a FAT of 4 MiB, and a partition of 16 MiB of which a FAT of 6 MiB takes the beginning.
    pub fn new(form: Form, table: PartitionTable) -> Self {
        let folder = quick_folder();
        let mut path = folder.path().canonicalize().unwrap().join(format!("herbarium.{}", form.format));
        let new = form.sectors.into_iter().fold(NewImage::new().with_kind(form.kind), NewImage::with_sectors);
        perform(Make::new(&path, SIZE).with_image(new)).unwrap();
        if form.child {
            let child = path.with_file_name(format!("child.{}", form.format));
            perform(Derive::new(&path, vec![child.clone()])).unwrap();
            path = child;
        }
        let fat = |len| NewVolume::new(VolumeSize::Bytes(len), NewFileSystem::Fat);
        let prepare = Prepare::new(&path).with_table(table).with_volume(fat(4 * MIB)).with_volume(fat(6 * MIB));
        perform(prepare).unwrap();
        // The second one becomes larger than what it holds.
        perform(Resize::new(&path).with_extended_partition(PartitionToExtend::Last)).unwrap();
        let disk = ChainMut::open(&path, &OpenOptions::new()).unwrap();
        let second = partitions(&disk).unwrap().usable[1].clone();
        assert!(second.len > 12 * MIB, "{second:?}");
        disk.write_at(&[0xC3; 9000], second.start + 5 * MIB).unwrap();
        disk.close().unwrap();
        let disk = open(&path).unwrap();
        let read = |len: u64, start: u64| {
            let mut bytes = vec![0; len as usize];
            disk.read_at(&mut bytes, start).unwrap();
            (start, bytes)
        };
        let found = partitions(&disk).unwrap();
        assert_eq!(found.problems, []);
        let content = vec![read(4 * MIB, found.usable[0].start), read(6 * MIB, second.start)];
        Self { folder, path, content }
    }

    /// Before what is looked at.
    fn get_ready(&self, act: Act) {
        if matches!(act, Act::ExtendLater | Act::Shrink) {
            perform(Resize::new(&self.path).with_size(NewSize::More(9 * MIB))).unwrap();
        }
    }

    pub fn perform(&self, act: Act) -> zestful_sapling::Result<()> {
        let resize = Resize::new(&self.path);
        let resize = match act {
            Act::Grow(space) => resize.with_size(NewSize::More(9 * MIB)).with_space(space),
            Act::GrowExtend(space) => resize
                .with_size(NewSize::To(SIZE + 9 * MIB))
                .with_space(space)
                .with_extended_partition(PartitionToExtend::Number(2)),
            Act::GrowLittle => resize.with_size(NewSize::More(8192)).with_extended_partition(PartitionToExtend::Last),
            Act::ExtendLater => resize.with_extended_partition(PartitionToExtend::Last),
            Act::Shrink => resize.with_size(NewSize::Less(6 * MIB)),
            Act::ShrinkPartition => resize.with_size(NewSize::Less(7 * MIB)).with_shrunk_partition(2),
        };
        perform(resize).map(|_| ())
    }

    fn size(&self) -> u64 {
        open(&self.path).unwrap().virtual_size()
    }

    fn is_under_way(&self) -> bool {
        journal_of(&self.path).exists()
    }

    /// Everything that the partitions hold is there.
    fn judge_content(&self, disk: &dyn Disk, when: &str) {
        for (start, bytes) in &self.content {
            let mut found = vec![0; bytes.len()];
            disk.read_at(&mut found, *start).unwrap();
            assert!(found == *bytes, "{when}: the content at {start} is another");
        }
    }

    /// The disk, its table and its content, once nothing is under way.
    fn judge(&self, act: Act, sizes: (u64, u64), when: &str) {
        let disk = open(&self.path).unwrap_or_else(|error| panic!("{when}: {error}"));
        let (size, (before, after)) = (disk.virtual_size(), sizes);
        assert!(size == before || size == after, "{when}: {size}");
        self.judge_content(&disk, when);
        let found = partitions(&disk).unwrap();
        assert_eq!(found.usable.len(), 2, "{when}: {:?}", found.problems);
        // A larger disk whose table nobody moved says so.
        let is_left = |problem: &PartitionProblem| matches!(problem, PartitionProblem::BeforeEnd(_));
        let may_be_left = matches!(act, Act::Grow(_) | Act::Shrink) || before == after;
        assert!(found.problems.iter().all(|problem| may_be_left && is_left(problem)), "{when}: {:?}", found.problems);
        if size == after && matches!(act, Act::GrowExtend(_)) {
            assert!(found.usable[1].len > 20 * MIB, "{when}: {:?}", found.usable);
        }
        // What is new is zero, whatever stood at the end of the file before.
        if size == after && after > before + 2 * MIB {
            let mut new = vec![1; MIB as usize];
            disk.read_at(&mut new, before).unwrap();
            assert!(new.iter().all(|byte| *byte == 0), "{when}: what is new is not zero");
        }
        drop(disk);
        let report = check_chain(&self.path, None).unwrap();
        assert!(!report.has_damage(), "{when}: {report:?}");
    }
}

fn acts(form: Form) -> Vec<Act> {
    let mut acts = vec![Act::GrowExtend(Space::Reserved), Act::GrowLittle, Act::ExtendLater, Act::ShrinkPartition];
    acts.extend([Act::Grow(Space::Sparse), Act::Shrink]);
    if form.kind == Kind::Fixed {
        acts.push(Act::GrowExtend(Space::Written));
    }
    acts
}

/// Most forms with one table, and one with the other; `ZSAP_EVERY_STATE=1` has all with both.
fn scenes() -> Vec<(Form, PartitionTable)> {
    let with = |table| FORMS.into_iter().map(move |form| (form, table));
    let all: Vec<_> = with(PartitionTable::Gpt).chain(with(PartitionTable::Mbr)).collect();
    match std::env::var_os("ZSAP_EVERY_STATE") {
        Some(_) => all,
        None => [0, 2, 3, 6, 12].map(|number| all[number]).into(),
    }
}

#[test]
fn every_crash_state_has_its_content_and_goes_on() {
    // An odd step, so that states are carried on and given up by turns.
    let every = if std::env::var_os("ZSAP_EVERY_STATE").is_some() { 1 } else { 3 };
    let mut states = 0;
    for (form, table) in scenes() {
        for (first, act) in acts(form).into_iter().enumerate() {
            let scene = Scene::new(form, table);
            scene.get_ready(act);
            let before = scene.size();
            let recorder = HostRecorder::start(scene.folder.path()).unwrap();
            if let Err(error) = scene.perform(act) {
                // Where nothing is left for a partition to take.
                assert!(act == Act::GrowLittle && matches!(error, Error::Usage(_)), "{form:?} {act:?}: {error}");
                continue;
            }
            let (after, length) = (scene.size(), || std::fs::metadata(&scene.path).unwrap().len());
            scene.judge(act, (before, after), &format!("{form:?} {table} {act:?}"));
            // An image with one footer is the one in which the order of two changes can lose all.
            let has_one_footer = form.format == "vhd" && form.kind == Kind::Fixed;
            let found = recorder.crash_states(5, if has_one_footer { 8 } else { 1 }).unwrap();
            recorder.stop();
            for (number, (issued, state)) in found.into_iter().enumerate().skip(first % every).step_by(every) {
                recorder.restore(&state).unwrap();
                let when = format!("{form:?} {table} {act:?} after {issued} ({number})");
                // Whoever only reads needs no help, but for an image whose only footer is on its way.
                match open(&scene.path) {
                    Ok(disk) => {
                        scene.judge_content(&disk, &when);
                        // Some copy of the table is whole.
                        let found = partitions(&disk).unwrap();
                        assert_eq!(found.usable.len(), 2, "{when}: {:?}", found.problems);
                    }
                    Err(error) => {
                        assert!(has_one_footer && scene.is_under_way(), "{when}: {error}");
                    }
                }
                if scene.is_under_way() {
                    assert!(matches!(scene.perform(act), Err(Error::Refused(..) | Error::Damaged(_))), "{when}");
                    let given_up = (number % 2 == 1).then(|| abandon(&scene.path, &[]));
                    match given_up {
                        Some(Ok(_)) => {
                            assert_eq!(scene.size(), before, "{when}");
                            assert!(!has_one_footer || length() == before + 512, "{when}: {} bytes", length());
                        }
                        Some(Err(Error::Refused(Refusal::UnderWay { must_go_on: true, .. }, _))) | None => {
                            resume(&scene.path, &[]).unwrap_or_else(|error| panic!("{when}: {error}"));
                            assert_eq!(scene.size(), after, "{when}");
                        }
                        Some(Err(error)) => panic!("{when}: {error}"),
                    }
                    assert!(!scene.is_under_way(), "{when}");
                }
                scene.judge(act, (before, after), &when);
                states += 1;
            }
        }
    }
    println!("{states} states");
    assert!(states > 400, "{states}");
}

#[test]
fn every_change_may_fail() {
    let (mut failures, mut as_before) = (0, 0);
    for (form, table) in scenes() {
        for act in acts(form).into_iter().filter(|act| *act != Act::GrowLittle) {
            let first = Scene::new(form, table);
            first.get_ready(act);
            let whole = HostRecorder::start(first.folder.path()).unwrap();
            let before = first.size();
            let mut number = 0;
            loop {
                let fault = [Fault::Error(28), Fault::Error(5), Fault::LostWrites][number % 3];
                whole.rewind().unwrap();
                whole.fail_once(number, fault);
                let ended = first.perform(act);
                let asked = whole.asked();
                let when = format!("{form:?} {table} {act:?}: change {number}: {fault:?}: {ended:?}");
                if first.is_under_way() {
                    resume(&first.path, &[]).unwrap_or_else(|error| panic!("{when}: {error}"));
                }
                let size = first.size();
                as_before += usize::from(ended.is_err() && size == before);
                if ended.is_ok() && act != Act::ExtendLater {
                    assert_ne!(size, before, "{when}");
                }
                let after = match act {
                    Act::Grow(_) => before + 9 * MIB,
                    Act::GrowExtend(_) => SIZE + 9 * MIB,
                    Act::Shrink => before - 6 * MIB,
                    Act::ShrinkPartition => before - 7 * MIB,
                    _ => before,
                };
                first.judge(act, (before, after), &when);
                if asked <= number {
                    assert!(ended.is_ok(), "{when}");
                    break;
                }
                failures += 1;
                number += 1;
            }
        }
    }
    println!("{failures} failures, {as_before} with the old size");
    assert!(failures > 800 && as_before > 200, "{failures} {as_before}");
}

/// A guest that is started while a resize waits to be carried on has its disk to itself: what it writes stays.
#[test]
fn what_a_guest_wrote_meanwhile_stays() {
    let (mut states, mut larger) = (0, 0);
    for form in [FORMS[1], FORMS[4], FORMS[6]] {
        let scene = Scene::new(form, PartitionTable::Gpt);
        let recorder = HostRecorder::start(scene.folder.path()).unwrap();
        scene.perform(Act::GrowExtend(Space::Sparse)).unwrap();
        let found = recorder.crash_states(9, 0).unwrap();
        recorder.stop();
        for (issued, state) in found {
            recorder.restore(&state).unwrap();
            let when = format!("{form:?} after {issued}");
            if !scene.is_under_way() {
                continue;
            }
            let file = Arc::new(FileStorage::open(&scene.path, Access::Write).unwrap());
            let Ok(guest) = open_image_mut(file, None) else { continue };
            let size = guest.info().virtual_size;
            // Its own table, and something at the end of what it has.
            let (table, end) = (512, size - 8192);
            guest.write_at(&[0x77; 512], table).unwrap();
            guest.write_at(&[0x78; 4096], end).unwrap();
            guest.close().unwrap();
            let refused = resume(&scene.path, &[]);
            let is_refused = match &refused {
                Err(Error::Refused(Refusal::SourceChanged { .. }, _)) => true,
                Err(Error::UnderWay { source, .. }) => {
                    matches!(&**source, Error::Refused(Refusal::SourceChanged { .. }, _))
                }
                _ => false,
            };
            assert!(is_refused, "{when}: {refused:?}");
            let now = scene.size();
            abandon(&scene.path, &[]).unwrap_or_else(|error| panic!("{when}: {error}"));
            assert!(!scene.is_under_way() && scene.size() == now, "{when}");
            let disk = open(&scene.path).unwrap();
            for (at, bytes) in [(table, vec![0x77; 512]), (end, vec![0x78; 4096])] {
                let mut found = vec![0; bytes.len()];
                disk.read_at(&mut found, at).unwrap();
                assert!(found == bytes, "{when}: what was written at {at} is gone");
            }
            (states, larger) = (states + 1, larger + usize::from(size > SIZE));
        }
    }
    println!("{states} states, {larger} of them with the new size");
    assert!(states > 20 && larger > 10 && larger < states, "{states} {larger}");
}
