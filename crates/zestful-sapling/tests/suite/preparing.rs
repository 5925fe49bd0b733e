//! Blank disks get tables, volumes and file systems: as the host's own checkers want them, whatever happens meanwhile.

use std::path::{Path, PathBuf};

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::Override;
use zestful_sapling::guest::{FileSystem, FileTree, PartitionTable, volumes};
use zestful_sapling::image::{Format, Kind};
use zestful_sapling::ops::{Derive, Make, NewFileSystem, NewImage, NewVolume, Operation, Planned, Prepare, VolumeSize};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::{Fault, HostRecorder};

use crate::family_model::quick_folder;
use crate::guest_trees::{Dice, Kinds, MIB, Truth, grow, read_all, tool, truths, write_out};
use crate::support::{check_chain, perform};

use NewFileSystem as F;
use VolumeSize::{Bytes, Percent, Rest};

/// What the host's tools say of a table, and of each volume.
fn assert_content(folder: &Path, image: &Path, sector: u32, file_systems: &[F]) {
    let whole = folder.join("whole");
    let disk = Chain::open(image, &OpenOptions::new()).unwrap();
    write_out(&disk, 0, disk.virtual_size(), &whole);
    let found = volumes(&disk).unwrap();
    assert_eq!(found.problems, []);
    assert_eq!(found.volumes.len(), file_systems.len());
    let verified = match sector {
        512 => tool("sfdisk", &["--verify", whole.to_str().unwrap()]),
        // Of other sectors the tool knows only with a device.
        _ => {
            let script = "dev=$(losetup --find --show -b 4096 \"$0\") && sfdisk --verify \"$dev\"; end=$?; \
                          losetup -d \"$dev\"; exit $end";
            tool("sh", &["-c", script, whole.to_str().unwrap()])
        }
    };
    assert_ne!(verified, Some(false), "the table of {}", image.display());
    for (volume, file_system) in found.volumes.iter().zip(file_systems) {
        let part = folder.join("part");
        write_out(&disk, volume.start, volume.len, &part);
        let text = part.to_str().unwrap();
        let (name, arguments): (&str, &[&str]) = match file_system {
            F::Fat => ("fsck.fat", &["-n", text]),
            F::Ext4 => ("e2fsck", &["-fn", text]),
            F::Ntfs => ("ntfsfix", &["-n", text]),
            F::Xfs => ("xfs_repair", &["-n", "-f", text]),
            F::Btrfs => ("btrfs", &["check", text]),
            _ => continue,
        };
        assert_ne!(tool(name, arguments), Some(false), "{file_system} of {}", image.display());
        let content = volume.content.as_ref().unwrap();
        let expected: &[FileSystem] = match file_system {
            F::Fat => &[FileSystem::Fat12, FileSystem::Fat16, FileSystem::Fat32],
            F::Ext4 => &[FileSystem::Ext4],
            F::Ntfs => &[FileSystem::Ntfs],
            F::Xfs => &[FileSystem::Xfs],
            _ => &[FileSystem::Btrfs],
        };
        assert!(expected.contains(&content.file_system) && content.also.is_empty(), "{content:?}");
    }
}

/// A format, a kind, sectors, and whether the disk is a child of one.
type Form = (&'static str, Kind, Option<(u32, u32)>, bool);

/// Every table, format, kind and sector size, with every file system that the host can make.
#[test]
fn the_checkers_of_the_host_are_content() {
    let has =
        |name: &str| ["/usr/sbin", "/usr/bin", "/sbin", "/bin"].iter().any(|at| Path::new(at).join(name).exists());
    let makes = |file_system: &F| match file_system {
        F::Ext4 => has("mkfs.ext4"),
        F::Ntfs => has("mkntfs"),
        F::Xfs => has("mkfs.xfs"),
        F::Btrfs => has("mkfs.btrfs"),
        _ => true,
    };
    let mut dice = Dice(16);
    let source = tempfile::tempdir().unwrap();
    grow(source.path(), Kinds { links: false, odd_names: false, sparse: false }, 60, &mut dice);
    let expected = truths(source.path());
    let forms: [Form; 11] = [
        ("vhdx", Kind::Dynamic, Some((512, 4096)), false),
        ("vhdx", Kind::Dynamic, Some((4096, 4096)), true),
        ("vhdx", Kind::Fixed, Some((512, 512)), false),
        ("vhdx", Kind::Fixed, Some((4096, 4096)), false),
        ("vhd", Kind::Dynamic, None, true),
        ("vhd", Kind::Fixed, None, false),
        ("raw", Kind::Fixed, None, false),
        ("vhdx", Kind::Dynamic, None, true),
        ("vhd", Kind::Dynamic, None, false),
        ("vhdx", Kind::Dynamic, Some((512, 512)), false),
        ("vhdx", Kind::Dynamic, Some((4096, 4096)), false),
    ];
    for (number, (format, kind, sectors, derived)) in forms.into_iter().enumerate() {
        for table in [PartitionTable::Gpt, PartitionTable::Mbr] {
            let folder = tempfile::tempdir().unwrap();
            let mut image = folder.path().join(format!("herbarium.{format}"));
            let new = sectors.into_iter().fold(NewImage::new().with_kind(kind), NewImage::with_sectors);
            perform(Make::new(&image, 1300 * MIB).with_image(new)).unwrap();
            if derived {
                let child = folder.path().join(format!("child.{format}"));
                perform(Derive::new(&image, vec![child.clone()])).unwrap();
                image = child;
            }
            // Everything at once, with logical partitions on an MBR; and a large FAT alone.
            let all = [
                // As FAT12 and as FAT16.
                (F::Fat, Bytes(if number % 2 == 1 { 4 } else { 20 } * MIB)),
                (F::Ext4, Bytes(64 * MIB)),
                (F::None, Bytes(MIB)),
                (F::Ntfs, Percent(10)),
                (F::Xfs, Bytes(320 * MIB)),
                (F::Btrfs, Rest),
            ];
            let all: Vec<(F, VolumeSize)> = match number {
                7 => vec![(F::Fat, Rest)],
                _ => all.into_iter().filter(|(file_system, _)| makes(file_system)).collect(),
            };
            let request = Prepare::new(&image).with_table(table).with_wipe(number == 4);
            let request = all.iter().fold(request, |request, (file_system, size)| {
                let volume = NewVolume::new(*size, *file_system).with_label("Seed Bank");
                let can = matches!(file_system, F::Fat | F::Ext4);
                request.with_volume(if can { volume.with_fill(source.path()) } else { volume })
            });
            let outcome = perform(request).unwrap();
            assert_eq!(outcome.volumes.table, Some(table));
            let file_systems: Vec<F> = all.iter().map(|(file_system, _)| *file_system).collect();
            let sector = sectors.map_or(512, |(logical, _)| logical);
            assert_content(folder.path(), &image, sector, &file_systems);
            assert!(!check_chain(&image, None).unwrap().has_damage());
            let disk: std::sync::Arc<dyn Disk> = std::sync::Arc::new(Chain::open(&image, &OpenOptions::new()).unwrap());
            for (volume, file_system) in outcome.volumes.volumes.iter().zip(&file_systems) {
                if matches!(file_system, F::Fat | F::Ext4) {
                    let (mut found, _) = read_all(&mut FileTree::open(disk.clone(), volume).unwrap());
                    found.remove(&b"/lost+found"[..]);
                    let same = |(name, truth): (&Vec<u8>, &Truth)| found.get(name) == Some(truth);
                    assert!(found.len() == expected.len() && expected.iter().all(same), "{file_system} in {format}");
                }
            }
            let left = std::fs::read_dir(folder.path()).unwrap().flatten();
            assert!(left.into_iter().all(|entry| !entry.file_name().to_string_lossy().contains("partial")));
        }
    }
}

/// A disk of 6 MiB, or a child of one.
fn small_disk(folder: &Path, format: &str, kind: Kind) -> PathBuf {
    let image = folder.canonicalize().unwrap().join(format!("herbarium.{format}"));
    perform(Make::new(&image, 8 * MIB).with_image(NewImage::new().with_kind(kind))).unwrap();
    image
}

fn small(image: &Path, table: PartitionTable) -> Prepare {
    let fat = |label: &str| NewVolume::new(Bytes(MIB), F::Fat).with_label(label);
    let request = Prepare::new(image).with_table(table).with_volume(fat("one")).with_volume(fat("two"));
    // Logical partitions, too.
    let more = if table == PartitionTable::Mbr { 3 } else { 1 };
    (0..more).fold(request, |request, _| request.with_volume(NewVolume::new(Bytes(MIB), F::None)))
}

/// The disk is as it is asked for, or blank to whoever looks; then it can be prepared at once.
fn judge(image: &Path, table: PartitionTable, when: &str) -> bool {
    let look = || volumes(&Chain::open(image, &OpenOptions::new()).unwrap()).unwrap();
    let found = look();
    let is_done = found.table.is_some();
    if !is_done {
        assert_eq!(found.volumes, [], "{when}");
        let mut first = [0; 512];
        Chain::open(image, &OpenOptions::new()).unwrap().read_at(&mut first, 0).unwrap();
        assert_eq!(first, [0; 512], "{when}");
        perform(small(image, table)).unwrap_or_else(|error| panic!("{when}: {error}"));
    }
    let found = look();
    let labels: Vec<_> = found.volumes.iter().map(|volume| volume.content.as_ref()?.label.clone()).collect();
    assert_eq!(found.problems, [], "{when}");
    assert_eq!(labels[..2], [Some("ONE".to_owned()), Some("TWO".to_owned())], "{when}");
    assert!(labels[2..].iter().all(Option::is_none), "{when}");
    is_done
}

const FORMS: [(&str, Kind); 5] = [
    ("vhdx", Kind::Dynamic),
    ("vhdx", Kind::Fixed),
    ("vhd", Kind::Dynamic),
    ("vhd", Kind::Fixed),
    ("raw", Kind::Fixed),
];

/// Of a disk that was not blank, too: its old table is gone before anything new is there.
#[test]
fn cut_short_at_any_moment_the_disk_is_blank() {
    let (mut states, mut done) = (0, 0);
    for (format, kind) in FORMS {
        for (table, old) in [
            (PartitionTable::Gpt, false),
            (PartitionTable::Mbr, false),
            (PartitionTable::Gpt, true),
            (PartitionTable::Mbr, true),
        ] {
            let folder = quick_folder();
            let image = small_disk(folder.path(), format, kind);
            if old {
                perform(Prepare::new(&image).with_volume(NewVolume::new(Rest, F::Fat).with_label("old"))).unwrap();
            }
            let recorder = HostRecorder::start(folder.path()).unwrap();
            perform(small(&image, table).with_override(Override::NotBlank)).unwrap();
            let found = recorder.crash_states(3, 2).unwrap();
            recorder.stop();
            for (number, (issued, state)) in found.into_iter().enumerate() {
                recorder.restore(&state).unwrap();
                let when = format!("{format} {kind:?} {table} old={old} after {issued} ({number})");
                // Until the first change of the disk the old volume is all there is.
                let first = volumes(&Chain::open(&image, &OpenOptions::new()).unwrap()).unwrap();
                let is_old = first
                    .volumes
                    .iter()
                    .any(|one| one.content.as_ref().is_some_and(|c| c.label.as_deref() == Some("OLD")));
                states += 1;
                if is_old {
                    assert!(old, "{when}");
                    continue;
                }
                assert_eq!(first.volumes.is_empty(), first.table.is_none(), "{when}");
                done += usize::from(judge(&image, table, &when));
            }
        }
    }
    println!("{states} states, {done} done");
    assert!(states > 300 && done > 20, "{states} {done}");
}

#[test]
fn a_host_that_fails_leaves_the_disk_blank() {
    let mut failures = 0;
    for (format, kind) in FORMS {
        for fault in [Fault::Error(28), Fault::Error(5), Fault::LostWrites] {
            for change in 0.. {
                let folder = quick_folder();
                let image = small_disk(folder.path(), format, kind);
                let recorder = HostRecorder::start(folder.path()).unwrap();
                recorder.fail_once(change, fault);
                let outcome = perform(small(&image, PartitionTable::Gpt));
                let asked = recorder.asked();
                recorder.stop();
                let when = format!("{format} {kind:?} {fault:?} at {change}");
                match outcome {
                    Ok(_) if asked <= change => break,
                    Ok(_) => {}
                    Err(_) => failures += 1,
                }
                judge(&image, PartitionTable::Gpt, &when);
            }
        }
    }
    println!("{failures} failures");
    assert!(failures > 100, "{failures}");
}

#[test]
fn what_is_there_is_named_and_not_overwritten() {
    let folder = tempfile::tempdir().unwrap();
    let image = small_disk(folder.path(), "vhdx", Kind::Dynamic);
    let refusal = |image: &Path| match Prepare::new(image).plan().map(|_| ()) {
        Err(Error::Refused(Refusal::NotBlank { content, .. }, _)) => content.join("; "),
        other => panic!("{other:?}"),
    };
    perform(small(&image, PartitionTable::Gpt)).unwrap();
    let told = refusal(&image);
    assert!(told.contains("a GPT with 3 volumes") && told.contains("FAT12, ONE"), "{told}");
    // A file system on the whole disk, and data of which nobody knows what it is.
    let disk = ChainMut::open(&image, &OpenOptions::new()).unwrap();
    disk.zero_at(0, 8 * MIB).unwrap();
    disk.write_at(b"LUKS\xBA\xBE", 0).unwrap();
    disk.flush().unwrap();
    disk.close().unwrap();
    assert!(refusal(&image).contains("encrypted (LUKS)"));
    let disk = ChainMut::open(&image, &OpenOptions::new()).unwrap();
    disk.zero_at(0, MIB).unwrap();
    disk.write_at(b"x", 5 * MIB + 77).unwrap();
    disk.close().unwrap();
    assert!(refusal(&image).contains(&format!("lies at byte {}", 5 * MIB + 77)));

    // Given up, nothing of it shows through; a volume that is not formatted keeps it unless it is wiped.
    for (wipe, expected) in [(false, b'x'), (true, 0)] {
        let disk = ChainMut::open(&image, &OpenOptions::new()).unwrap();
        disk.write_at(b"x", 5 * MIB + 77).unwrap();
        disk.close().unwrap();
        let request = Prepare::new(&image).with_wipe(wipe).with_override(Override::NotBlank);
        let request = request.with_volume(NewVolume::new(Rest, F::None));
        let plan = request.plan().unwrap();
        let is_told = plan.summary().warnings.iter().any(|warning| warning.contains("shows through"));
        assert_eq!(is_told, !wipe);
        plan.run(&Progress::new()).unwrap();
        drop(plan);
        let mut byte = [1];
        Chain::open(&image, &OpenOptions::new()).unwrap().read_at(&mut byte, 5 * MIB + 77).unwrap();
        assert_eq!(byte[0], expected);
    }
    assert!(!check_chain(&image, Some(Format::Vhdx)).unwrap().has_damage());
}

/// A fixed disk keeps the space that it has, though its old content goes.
#[test]
fn a_fixed_disk_keeps_its_space() {
    use std::os::unix::fs::MetadataExt;
    let folder = tempfile::tempdir().unwrap();
    for format in ["raw", "vhd", "vhdx"] {
        let image = folder.path().join(format!("fixed.{format}"));
        perform(Make::new(&image, 64 * MIB).with_image(NewImage::new().with_kind(Kind::Fixed))).unwrap();
        let disk = ChainMut::open(&image, &OpenOptions::new()).unwrap();
        disk.write_at(&vec![0xA5; 40 * MIB as usize], 0).unwrap();
        disk.close().unwrap();
        let before = std::fs::metadata(&image).unwrap().blocks();
        let volume = NewVolume::new(Rest, F::Fat).with_label("fen");
        let request = Prepare::new(&image).with_wipe(true).with_volume(volume).with_override(Override::NotBlank);
        perform(request).unwrap();
        assert!(std::fs::metadata(&image).unwrap().blocks() >= before, "{format}");
        let disk = Chain::open(&image, &OpenOptions::new()).unwrap();
        let mut bytes = vec![0; 20 * MIB as usize];
        disk.read_at(&mut bytes, 20 * MIB).unwrap();
        assert!(bytes.iter().all(|byte| *byte == 0), "{format}");
    }
}

#[test]
fn what_cannot_be_made_is_told_before_anything_is_begun() {
    let folder = tempfile::tempdir().unwrap();
    let image = small_disk(folder.path(), "vhd", Kind::Dynamic);
    let source = folder.path().join("source");
    std::fs::create_dir(&source).unwrap();
    let wrong = |request: Prepare| match request.plan().map(|_| ()) {
        Err(Error::Usage(advice)) => advice.to_string(),
        other => panic!("{other:?}"),
    };
    let one = |volume: NewVolume| Prepare::new(&image).with_volume(volume);
    let fat = || NewVolume::new(Bytes(2 * MIB), F::Fat);
    assert!(wrong(one(NewVolume::new(Bytes(9 * MIB), F::None))).contains("the disk of 8 MiB (8388608 bytes) has"));
    assert!(wrong(one(NewVolume::new(Rest, F::Xfs))).contains("at least 300 MiB"));
    assert!(wrong(one(fat().with_label("a label of FAT"))).contains("eleven"));
    // A label that is longer than the name of a partition is cut there.
    match one(NewVolume::new(Rest, F::Ntfs).with_label("a".repeat(100))).plan() {
        Err(Error::Usage(advice)) if advice.message.starts_with("there is no mkntfs") => {}
        other => drop(other.unwrap()),
    }
    assert!(wrong(one(NewVolume::new(Rest, F::Ntfs).with_fill(&source))).contains("FAT and ext4 can be filled"));
    let fill = |name: &str, make: &dyn Fn(&Path)| {
        let path = source.join(name);
        make(&path);
        let told = wrong(one(fat().with_fill(&source)));
        std::fs::remove_file(&path).or_else(|_| std::fs::remove_dir(&path)).unwrap();
        told
    };
    let write = |path: &Path| std::fs::write(path, "x").unwrap();
    assert!(fill("link", &|path| std::os::unix::fs::symlink("x", path).unwrap()).contains("no links"));
    assert!(fill("a:b", &write).contains("no such names"));
    assert!(fill("end.", &write).contains("no such names"));
    assert!(fill("large", &|path| std::fs::File::create(path).unwrap().set_len(5 << 30).unwrap()).contains("4 GiB"));
    assert!(fill("much", &|path| std::fs::write(path, vec![1; 3 << 20]).unwrap()).contains("does not fit"));
    write(&source.join("a"));
    assert!(fill("A", &write).contains("case"));
    // Nothing was changed.
    assert!(Prepare::new(&image).plan().is_ok());
}

#[test]
fn a_stopped_preparation_leaves_no_scratch_files() {
    let folder = tempfile::tempdir().unwrap();
    let image = small_disk(folder.path(), "vhdx", Kind::Dynamic);
    let progress = Progress::new();
    progress.stop();
    let plan = small(&image, PartitionTable::Gpt).plan().unwrap();
    assert!(matches!(plan.run(&progress), Err(Error::Cancelled)));
    drop(plan);
    let left: Vec<_> = std::fs::read_dir(folder.path()).unwrap().flatten().map(|entry| entry.file_name()).collect();
    assert_eq!(left, ["herbarium.vhdx"]);
    judge(&image, PartitionTable::Gpt, "stopped");
}

/// What speaks against any change of a disk speaks against this one, whoever it is that has the file.
#[test]
fn a_disk_that_others_rely_on_is_not_prepared() {
    let folder = tempfile::tempdir().unwrap();
    let image = small_disk(folder.path(), "vhdx", Kind::Dynamic);
    let again = folder.path().join("second.vhdx");
    std::fs::hard_link(&image, &again).unwrap();
    let refusal = |image: &Path| match small(image, PartitionTable::Gpt).plan().map(|_| ()) {
        Err(Error::Refused(refusal, _)) => refusal,
        other => panic!("{other:?}"),
    };
    assert!(matches!(refusal(&image), Refusal::HardLinks { .. }));
    std::fs::remove_file(&again).unwrap();
    // Two at once: one of them has it.
    let first = small(&image, PartitionTable::Gpt).plan().unwrap();
    assert!(matches!(refusal(&image), Refusal::InUse { .. }));
    drop(first);
    // A child of it in another folder, though the mark on the host is taken away.
    let other = folder.path().join("other");
    std::fs::create_dir(&other).unwrap();
    perform(Derive::new(&image, vec![other.join("child.vhdx")])).unwrap();
    let mut mode = std::fs::metadata(&image).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut mode, 0o644);
    std::fs::set_permissions(&image, mode).unwrap();
    assert!(matches!(refusal(&image), Refusal::NeededByChildren { .. }));
}

/// A program without locks writes to the disk after the plan was shown, and is gone again.
#[test]
fn what_came_since_the_plan_is_not_overwritten() {
    use std::os::unix::fs::FileExt;
    let folder = tempfile::tempdir().unwrap();
    let image = small_disk(folder.path(), "raw", Kind::Fixed);
    let plan = small(&image, PartitionTable::Gpt).plan().unwrap();
    let file = std::fs::File::options().write(true).open(&image).unwrap();
    file.write_all_at(b"Caltha palustris", 3 * MIB).unwrap();
    drop(file);
    let before = std::fs::read(&image).unwrap();
    let refused = plan.run(&Progress::new());
    assert!(matches!(refused, Err(Error::Refused(Refusal::NotBlank { .. }, _))), "{refused:?}");
    assert!(std::fs::read(&image).unwrap() == before);
}
