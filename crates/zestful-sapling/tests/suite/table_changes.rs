//! Partition tables that follow their disk to another size, and what is refused because it would be cut.

use zestful_sapling::chain::{ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::Override;
use zestful_sapling::guest::{PartitionTable, partitions};
use zestful_sapling::image::Space;
use zestful_sapling::ops::{CopyDisk, Make, NewImage, NewSize, Operation, PartitionToExtend, Planned, Resize};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::HostRecorder;

use crate::family_model::quick_folder;
use crate::guest_trees::tool;
use crate::resizing::{Act, FORMS, SIZE, Scene, open};
use crate::sidecars::journal_of;
use crate::support::{MIB, perform, resume};

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

/// A logical partition is told of in two places and lies inside a third: at every moment it lies there.
#[test]
fn logical_partitions_never_reach_out_of_what_contains_them() {
    let folder = quick_folder();
    let path = folder.path().canonicalize().unwrap().join("table.raw");
    let text = path.to_str().unwrap().to_owned();
    std::fs::File::create(&path).unwrap().set_len(20 * MIB).unwrap();
    let script = "label: dos\\nx1: size=4M\\nx2: size=14M, type=5\\nx5: size=2M\\nx6: size=4M\\n";
    let run = format!("printf '{script}' | sfdisk -q --no-reread {text}");
    if tool("sh", &["-c", &run]).is_none_or(|ended| !ended) {
        eprintln!("skipped: there is no sfdisk here");
        return;
    }
    let start = partitions(&open(&path).unwrap()).unwrap().usable[2].start;
    if tool("mkfs.fat", &["--offset", &(start / 512).to_string(), &text, "3072"]) != Some(true) {
        eprintln!("skipped: there is no mkfs.fat here");
        return;
    }
    let grow = Resize::new(&path).with_size(NewSize::To(40 * MIB)).with_extended_partition(PartitionToExtend::Last);
    let shrink = Resize::new(&path).with_size(NewSize::To(17 * MIB)).with_shrunk_partition(6);
    let mut states = 0;
    for (resize, is_growth) in [(grow, true), (shrink, false)] {
        let recorder = HostRecorder::start(folder.path()).unwrap();
        let outcome = perform(resize).unwrap();
        assert_eq!(outcome.partition.unwrap().number, 6);
        let end = std::fs::metadata(&path).unwrap().len();
        let found = recorder.crash_states(3, 2).unwrap();
        recorder.stop();
        for (issued, state) in found {
            recorder.restore(&state).unwrap();
            let found = partitions(&open(&path).unwrap()).unwrap();
            let numbers: Vec<u32> = found.usable.iter().map(|one| one.number).collect();
            assert_eq!((numbers, found.problems), (vec![1, 5, 6], vec![]), "growth: {is_growth}, after {issued}");
            if journal_of(&path).exists() {
                resume(&path, &[]).unwrap();
                assert_eq!(std::fs::metadata(&path).unwrap().len(), end);
            }
            assert_eq!(tool("sfdisk", &["--verify", &text]), Some(true), "growth: {is_growth}, after {issued}");
            states += 1;
        }
    }
    assert!(states > 50, "{states}");
}

/// An MBR counts sectors with 32 bits: a partition ends there, however large its disk is.
#[test]
fn an_mbr_reaches_two_tebibytes() {
    let scene = Scene::new(FORMS[1], PartitionTable::Mbr);
    let larger = Resize::new(&scene.path).with_size(NewSize::To(5 << 40));
    let plan = larger.with_extended_partition(PartitionToExtend::Last).plan().unwrap();
    let is_said = plan.summary().steps.iter().any(|step| step.contains("an MBR counts no further than 2 TiB"));
    assert!(is_said, "{:?}", plan.summary().steps);
    plan.run(&Progress::new()).unwrap();
    drop(plan);
    let disk = open(&scene.path).unwrap();
    let found = partitions(&disk).unwrap();
    let last = &found.usable[1];
    assert_eq!((last.start + last.len, found.problems), (2 << 40, vec![]));
}

/// A refusal names why, and nothing is changed; what is meant so is done.
#[test]
fn what_would_be_lost_is_refused() {
    type Row<'a> = (Option<PartitionTable>, bool, u64, &'a [Override], Result<u64, &'static str>);
    let gpt = Some(PartitionTable::Gpt);
    let forced = [Override::CutPartition, Override::DiscardData];
    let (cut, discard): (&[Override], &[Override]) = (&forced[..1], &forced[1..]);
    // The table, whether something is written at 20 MiB, the new size, what may be lost, and how it ends.
    let table: [Row<'_>; 15] = [
        // Without room for the second copy behind it.
        (gpt, false, 23 * MIB + 4096, &[], Err("volume 2")),
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
    // One that was written for other sectors than the disk has.
    let scene = Scene::new(FORMS[0], PartitionTable::Gpt);
    let path = scene.path.with_extension("vhdx");
    let image = NewImage::new().with_sectors((4096, 4096));
    perform(CopyDisk::new(&scene.path, &path).with_image(image).with_override(Override::Sectors)).unwrap();
    let (before, larger) = (std::fs::read(&path).unwrap(), Resize::new(&path).with_size(NewSize::More(MIB)));
    let refused = perform(larger.clone().with_extended_partition(PartitionToExtend::Last));
    let is_told = matches!(&refused, Err(Error::Usage(advice)) if advice.message.contains("sectors of 512 bytes"));
    assert!(is_told && std::fs::read(&path).unwrap() == before, "{refused:?}");
    perform(larger).unwrap();
}
