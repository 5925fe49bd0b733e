//! Disks, their partition tables and partitions get other sizes, while the host fails and loses power at every moment.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::Override;
use zestful_sapling::guest::{PartitionProblem, PartitionTable, partitions};
use zestful_sapling::image::{Kind, Space, open_image_mut};
use zestful_sapling::ops::{
    Derive, Make, NewFileSystem, NewImage, NewSize, NewVolume, Operation, PartitionToExtend, Planned, Prepare, Resize,
    VolumeSize,
};
use zestful_sapling::storage::testing::{Fault, HostRecorder};
use zestful_sapling::storage::{Access, FileStorage};

use crate::family_model::quick_folder;
use crate::guest_trees::tool;
use crate::sidecars::journal_of;
use crate::support::{MIB, abandon, check_chain, perform, resume};

const SIZE: u64 = 24 * MIB;

/// How a disk is held.
#[derive(Clone, Copy, Debug)]
struct Form {
    format: &'static str,
    kind: Kind,
    sectors: Option<(u32, u32)>,
    child: bool,
}

const fn form(format: &'static str, kind: Kind, sectors: Option<(u32, u32)>, child: bool) -> Form {
    Form { format, kind, sectors, child }
}

const FORMS: [Form; 8] = [
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
enum Act {
    Grow(Space),
    GrowExtend(Space),
    /// By less than the second copy of a GPT takes.
    GrowLittle,
    ExtendLater,
    Shrink,
    ShrinkPartition,
}

struct Scene {
    folder: tempfile::TempDir,
    path: PathBuf,
    /// What the two partitions hold: where it begins, and the bytes.
    content: Vec<(u64, Vec<u8>)>,
}

fn open(path: &Path) -> zestful_sapling::Result<Chain> {
    Chain::open(path, &OpenOptions::new())
}

impl Scene {
    /// A disk with a FAT of 4 MiB, and a partition of 16 MiB of which a FAT of 6 MiB takes the beginning.
    fn new(form: Form, table: PartitionTable) -> Self {
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

    fn perform(&self, act: Act) -> zestful_sapling::Result<()> {
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
        let last = size - 4096;
        let mut end = [1; 4096];
        disk.read_at(&mut end, last).unwrap();
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
        None => [0, 1, 2, 3, 6, 12].map(|number| all[number]).into(),
    }
}

#[test]
fn every_crash_state_has_its_content_and_goes_on() {
    let mut states = 0;
    for (form, table) in scenes() {
        for act in acts(form) {
            let scene = Scene::new(form, table);
            scene.get_ready(act);
            let before = scene.size();
            let recorder = HostRecorder::start(scene.folder.path()).unwrap();
            if let Err(error) = scene.perform(act) {
                // Where nothing is left for a partition to take.
                assert!(act == Act::GrowLittle && matches!(error, Error::Usage(_)), "{form:?} {act:?}: {error}");
                continue;
            }
            let after = scene.size();
            scene.judge(act, (before, after), &format!("{form:?} {table} {act:?}"));
            let found = recorder.crash_states(5, 1).unwrap();
            recorder.stop();
            for (number, (issued, state)) in found.into_iter().enumerate() {
                recorder.restore(&state).unwrap();
                let when = format!("{form:?} {table} {act:?} after {issued} ({number})");
                // Whoever only reads needs no help, but for an image whose only footer is on its way.
                match open(&scene.path) {
                    Ok(disk) => scene.judge_content(&disk, &when),
                    Err(error) => {
                        let is_on_its_way = form.format == "vhd" && form.kind == Kind::Fixed && scene.is_under_way();
                        assert!(is_on_its_way, "{when}: {error}");
                    }
                }
                if scene.is_under_way() {
                    assert!(matches!(scene.perform(act), Err(Error::Refused(..) | Error::Damaged(_))), "{when}");
                    let given_up = (number % 2 == 1).then(|| abandon(&scene.path, &[]));
                    match given_up {
                        Some(Ok(_)) => assert_eq!(scene.size(), before, "{when}"),
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
    assert!(states > 1500, "{states}");
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

/// Tables that another program wrote: which partition gets what, and what that program says of it afterwards.
#[test]
fn tables_of_other_programs_follow() {
    /// What is to come: the partition, and how many MiB it has at least; or a part of the refusal.
    type Follows = Result<(u32, u64), &'static str>;
    let table: [(&str, Option<u32>, Follows); 12] = [
        ("label: gpt\nsize=4M\nsize=5M\n", None, Ok((2, 30))),
        ("label: gpt\nstart=2048, size=4M\nstart=20480, size=5M\n", Some(1), Ok((1, 9))),
        ("label: gpt\nsize=4M\nsize=5M\n", Some(1), Err("no free space behind it")),
        ("label: gpt\nsize=4M\nsize=5M\n", Some(3), Err("there is no partition 3")),
        ("label: gpt\n", None, Err("no partition that could be extended")),
        ("label: dos\nsize=4M\nsize=5M\n", None, Ok((2, 30))),
        ("label: dos\nx1: size=4M\nx2: size=12M, type=5\nx5: size=2M\nx6: size=2M\n", None, Ok((6, 30))),
        ("label: dos\nx1: size=4M\nx2: size=12M, type=f\nx5: size=2M\nx6: size=2M\n", Some(1), Err("no free space")),
        ("label: dos\nx1: size=4M\nx2: size=12M, type=f\nx5: size=2M\nx6: size=2M\n", Some(5), Err("no free space")),
        // The extended partition ends before the last primary one.
        ("label: dos\nx2: size=12M, type=5\nx5: size=2M\nx3: size=4M\n", Some(5), Ok((5, 10))),
        ("label: dos\nx2: size=12M, type=5\nx5: size=2M\nx3: size=4M\n", None, Ok((3, 20))),
        ("label: dos\nx2: size=12M, type=5\nx5: size=2M\n", Some(5), Ok((5, 30))),
    ];
    for (script, number, expected) in table {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("table.raw");
        std::fs::File::create(&path).unwrap().set_len(20 * MIB).unwrap();
        let text = path.to_str().unwrap();
        let run = format!("printf '{}' | sfdisk -q --no-reread {text}", script.replace('\n', "\\n"));
        if tool("sh", &["-c", &run]).is_none_or(|ended| !ended) {
            eprintln!("skipped: there is no sfdisk here");
            return;
        }
        let which = number.map_or(PartitionToExtend::Last, PartitionToExtend::Number);
        let resize = Resize::new(&path).with_size(NewSize::To(40 * MIB)).with_extended_partition(which);
        let ended = perform(resize);
        match (expected, ended) {
            (Ok((number, least)), Ok(outcome)) => {
                let one = outcome.partition.unwrap();
                assert!(
                    one.number == number && one.after >= least * MIB && one.after < (least + 12) * MIB,
                    "{script}: {one:?}"
                );
            }
            (Err(part), Err(Error::Usage(advice))) => {
                assert!(advice.message.contains(part), "{script}: {advice}");
                assert_eq!(std::fs::metadata(&path).unwrap().len(), 20 * MIB, "{script}");
            }
            (expected, ended) => panic!("{script}: {expected:?}: {ended:?}"),
        }
        assert_eq!(tool("sfdisk", &["--verify", text]), Some(true), "{script}");
        if script.contains("gpt") && expected.is_ok() {
            let bytes = std::fs::read(&path).unwrap();
            let old = (20 * MIB - 512) as usize;
            assert!(bytes[old..][..512].iter().all(|byte| *byte == 0), "{script}: the old copy is left");
            let told = u32::from_le_bytes(bytes[446 + 12..][..4].try_into().unwrap());
            assert_eq!(u64::from(told), 40 * MIB / 512 - 1, "{script}: the protective entry");
        }
        // What contains logical partitions is not cut, though the last of them ends before.
        if script.contains("x3: size=4M") || script.contains("x6: size=2M") {
            let disk = open(&path).unwrap();
            let last = partitions(&disk).unwrap().usable.iter().map(|one| one.start + one.len).max().unwrap();
            drop(disk);
            let cut = perform(Resize::new(&path).with_size(NewSize::To(last.next_multiple_of(4096))));
            let is_left = last.next_multiple_of(4096) >= std::fs::metadata(&path).unwrap().len();
            match &cut {
                Err(Error::Refused(Refusal::WouldCut { least, .. }, advice)) => {
                    assert!(*least > last && advice.message.contains("extended partition"), "{script}: {advice}");
                }
                Ok(_) => assert!(script.contains("x3"), "{script}"),
                Err(_) => assert!(is_left, "{script}: {cut:?}"),
            }
        }
        let disk = open(&path).unwrap();
        assert_eq!(partitions(&disk).unwrap().problems, [], "{script}");
    }
}

/// A refusal names why, and nothing is changed; what is meant so is done.
#[test]
fn what_would_be_lost_is_refused() {
    type Row<'a> = (Option<PartitionTable>, bool, u64, &'a [Override], Result<u64, &'static str>);
    let gpt = Some(PartitionTable::Gpt);
    let forced = [Override::CutPartition, Override::DiscardData];
    let (cut, discard): (&[Override], &[Override]) = (&forced[..1], &forced[1..]);
    // The table, whether something is written at 20 MiB, the new size, what may be lost, and how it ends.
    let table: [Row<'_>; 14] = [
        (gpt, false, 18 * MIB, &[], Err("volume 2")),
        (gpt, false, 18 * MIB, discard, Err("volume 2")),
        // Its last sectors hold nothing, and are cut.
        (gpt, false, 18 * MIB, cut, Ok(18 * MIB)),
        (gpt, true, 18 * MIB, cut, Err("holds data behind 18 MiB")),
        (gpt, true, 18 * MIB, &forced, Ok(18 * MIB)),
        (gpt, false, 100, &forced, Err("no whole number")),
        (gpt, false, 0, &forced, Err("no whole number")),
        (gpt, false, SIZE, &forced, Err("already")),
        (Some(PartitionTable::Mbr), false, SIZE - 4096, &[], Err("volume 2")),
        // Of what fills a disk nothing is known.
        (None, false, 18 * MIB, &[], Ok(18 * MIB)),
        (None, true, 18 * MIB, &[], Err("holds data behind 18 MiB, the first at byte 20971520")),
        (None, true, 18 * MIB, cut, Err("holds data")),
        (None, true, 18 * MIB, discard, Ok(18 * MIB)),
        (None, true, (64 << 40) + 4096, discard, Err("at most")),
    ];
    for (table, has_data, to, allowed, expected) in table {
        let when = format!("{table:?} {has_data} {to} {allowed:?}");
        let (folder, path) = match table {
            Some(table) => {
                let scene = Scene::new(FORMS[1], table);
                (scene.folder, scene.path)
            }
            None => {
                let folder = quick_folder();
                let path = folder.path().join("blank.vhdx");
                perform(Make::new(&path, SIZE)).unwrap();
                (folder, path)
            }
        };
        if has_data {
            let disk = ChainMut::open(&path, &OpenOptions::new()).unwrap();
            disk.write_at(&[7; 512], 20 * MIB).unwrap();
            disk.close().unwrap();
        }
        let before = std::fs::read(&path).unwrap();
        let resize = Resize::new(&path).with_size(NewSize::To(to));
        let ended = perform(allowed.iter().copied().fold(resize, Operation::with_override));
        match (expected, ended) {
            (Ok(size), Ok(outcome)) => {
                assert_eq!((outcome.before, outcome.after), (SIZE, size), "{when}");
                assert_eq!(open(&path).unwrap().virtual_size(), size, "{when}");
            }
            (Err(part), Err(error)) => {
                match &error {
                    Error::Usage(_) => {}
                    Error::Refused(Refusal::WouldCut { least, .. }, _) => assert!(*least <= SIZE, "{when}: {least}"),
                    Error::Refused(Refusal::WouldDiscard { at, .. }, _) => assert_eq!(*at, 20 * MIB, "{when}"),
                    other => panic!("{when}: {other:?}"),
                }
                assert!(error.to_string().contains(part), "{when}: {error}");
                assert!(std::fs::read(&path).unwrap() == before, "{when}");
            }
            (expected, ended) => panic!("{when}: {expected:?}: {ended:?}"),
        }
        drop(folder);
    }
}

/// Tables that nobody should change from outside are left alone, byte for byte.
#[test]
fn tables_that_are_not_sound_are_left_alone() {
    type Spoil = (&'static str, &'static [(u64, u8)], &'static str);
    let table: [Spoil; 4] = [
        ("hybrid", &[(446 + 16 + 4, 0x83), (446 + 16 + 8, 1), (446 + 16 + 12, 1)], "hybrid"),
        ("first copy", &[(512 + 20, 1)], "first copy"),
        ("no protective entry", &[(446 + 4, 0)], "protective"),
        ("second copy", &[(SIZE - 512 + 20, 1)], "second copy"),
    ];
    for (name, spoiled, part) in table {
        let scene = Scene::new(FORMS[0], PartitionTable::Gpt);
        let file = std::fs::File::options().write(true).open(&scene.path).unwrap();
        for (at, byte) in spoiled {
            std::os::unix::fs::FileExt::write_at(&file, &[*byte], *at).unwrap();
        }
        drop(file);
        let before = std::fs::read(&scene.path).unwrap();
        let refused = scene.perform(Act::GrowExtend(Space::Sparse));
        assert!(matches!(&refused, Err(Error::Usage(advice)) if advice.message.contains(part)), "{name}: {refused:?}");
        assert!(std::fs::read(&scene.path).unwrap() == before, "{name}");
        // A damaged table is no reason to keep a disk small: it stays as it is, which is said.
        let larger = Resize::new(&scene.path).with_size(NewSize::More(MIB)).with_space(Space::Sparse);
        let plan = larger.clone().plan().unwrap();
        let is_said = plan.summary().warnings.iter().any(|warning| warning.contains(part));
        assert!(is_said || name == "hybrid", "{name}: {:?}", plan.summary().warnings);
        drop(plan);
        perform(larger).unwrap();
        assert!(std::fs::read(&scene.path).unwrap()[..before.len()] == before, "{name}");
    }
}
