//! What lies inside a disk: volumes and files that the host's own tools made, read through every format and through
//! layers.

use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::error::{Error, InsideProblemKind, Refusal};
use zestful_sapling::guest::{EntryKind, FileSystem, FileTree, InnerPath, volumes};
use zestful_sapling::ops::TakeOut;

use crate::guest_trees::{
    Dice, Kinds, MIB, Truth, Truths, disk_of, ext_volume, fat_volume, grow, ntfs_volume, only_volume, read_all, tool,
    truths, unmount,
};
use crate::support::perform;

const FORMATS: [&str; 3] = ["fen.raw", "fen.vhd", "fen.vhdx"];

/// The same trees with other numbers when `ZSAP_TREES` says how many rounds.
fn rounds() -> u64 {
    std::env::var("ZSAP_TREES").ok().and_then(|count| count.parse().ok()).unwrap_or(1)
}

/// What is read through a disk in some format, with some layers, is what the host put there.
fn assert_read_back(volume: &Path, expected: &Truths, file_systems: &[FileSystem], dice: &mut Dice) {
    let folder = tempfile::tempdir().unwrap();
    let name = FORMATS[dice.roll(3) as usize];
    // Of raw disks no layers grow.
    let layers = if name == "fen.raw" { 0 } else { dice.roll(4) as usize };
    let image = disk_of(folder.path(), volume, name, layers, dice);
    let (disk, volume) = only_volume(&image);
    let content = volume.content.clone().unwrap();
    assert!(file_systems.contains(&content.file_system), "{content:?}");
    assert_eq!(content.label.as_deref().map(str::to_lowercase).as_deref(), Some("fen"));
    assert!(content.clean != Some(false) && content.also.is_empty(), "{content:?}");
    assert!(content.size.unwrap() <= volume.len);
    assert_eq!(content.used.unwrap() + content.free.unwrap(), content.size.unwrap());
    let mut tree = FileTree::open(disk, &volume).unwrap();
    assert!(tree.notes().is_empty(), "{:?}", tree.notes());
    let (found, walked) = read_all(&mut tree);
    assert_eq!(walked.left_out, []);
    let names =
        |truths: &Truths| truths.keys().map(|name| String::from_utf8_lossy(name).into_owned()).collect::<Vec<_>>();
    let (found_names, expected_names) = (names(&found), names(expected));
    let first = found_names.iter().zip(&expected_names).find(|(found, expected)| found != expected);
    assert_eq!((first, found_names.len()), (None, expected_names.len()));
    for (name, truth) in expected {
        assert_eq!(&found[name], truth, "{}", String::from_utf8_lossy(name));
    }
    // The listing has the same, each folder's names in order.
    let mut listed = Vec::new();
    tree.list(&InnerPath::root(), true, &mut |entry| {
        listed.push(entry.clone());
        Ok(true)
    })
    .unwrap();
    assert_eq!(listed.len(), expected.len());
    let one = dice.roll(listed.len() as u64) as usize;
    assert_eq!(tree.entry(&listed[one].path).unwrap(), listed[one]);
}

#[test]
fn ext_volumes_of_the_host_are_read_back() {
    let variants: [&[&str]; 16] = [
        &["-t", "ext2"],
        &["-t", "ext3"],
        &["-t", "ext4"],
        &["-t", "ext4", "-b", "1024"],
        &["-t", "ext4", "-b", "2048", "-I", "512"],
        &["-t", "ext4", "-O", "inline_data"],
        &["-t", "ext4", "-O", "inline_data", "-I", "1024"],
        &["-t", "ext4", "-O", "^extents,^64bit"],
        &["-t", "ext4", "-O", "bigalloc", "-C", "16384"],
        &["-t", "ext4", "-O", "meta_bg,^resize_inode", "-b", "1024", "-g", "1024"],
        &["-t", "ext4", "-O", "^metadata_csum,uninit_bg"],
        &["-t", "ext4", "-O", "large_dir,metadata_csum_seed"],
        &["-t", "ext4", "-O", "sparse_super2", "-b", "1024"],
        &["-t", "ext4", "-I", "128", "-O", "^metadata_csum"],
        &["-t", "ext4", "-O", "casefold,encrypt,verity,ea_inode,mmp,orphan_file"],
        &["-t", "ext2", "-b", "1024", "-O", "^filetype,^sparse_super,^resize_inode"],
    ];
    for (number, options) in variants.iter().enumerate() {
        for round in 0..rounds() {
            let mut dice = Dice(number as u64 * 1000 + round);
            let folder = tempfile::tempdir().unwrap();
            let source = folder.path().join("source");
            std::fs::create_dir(&source).unwrap();
            // With inline data mke2fs 1.47 forgets the hole at the end of a file.
            let sparse = !options.iter().any(|option| option.contains("inline_data"));
            grow(&source, Kinds { links: true, odd_names: true, sparse }, 120, &mut dice);
            // Enough names for a folder with a tree over them.
            let many = source.join("many");
            std::fs::create_dir(&many).unwrap();
            (0..300)
                .for_each(|n| std::fs::write(many.join(format!("seed-lot-number-{n:06}")), format!("{n}")).unwrap());
            rustix::fs::mkfifoat(rustix::fs::CWD, source.join("pipe"), 0o600.into()).unwrap();
            let Some(volume) = ext_volume(folder.path(), options, 48 * MIB, &source) else { return };
            let mut expected = truths(&source);
            expected.insert(b"/lost+found".to_vec(), Truth::Folder);
            let kinds = [FileSystem::Ext2, FileSystem::Ext3, FileSystem::Ext4];
            assert_read_back(&volume, &expected, &kinds, &mut dice);
        }
    }
}

/// What a crash leaves: the newest changes wait in the journal, files hold blocks that were never written.
#[test]
fn a_volume_that_was_not_unmounted_reads_as_its_kernel_would_read_it() {
    for (number, (options, mount)) in [
        (&["-t", "ext4"][..], ""),
        (&["-t", "ext4", "-b", "1024"], ",data=journal"),
        (&["-t", "ext3", "-O", "^64bit"], ""),
        (&["-t", "ext4", "-O", "^metadata_csum,^64bit"], ",data=journal"),
    ]
    .into_iter()
    .enumerate()
    {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        std::fs::create_dir(path("source")).unwrap();
        let Some(volume) = ext_volume(folder.path(), options, 48 * MIB, &path("source")) else { return };
        std::fs::create_dir(path("place")).unwrap();
        let place = path("place");
        // Nothing is put in place before its time.
        let how = format!("loop,commit=600{mount}");
        let attach = |file: &Path, how: &str| {
            tool("mount", &["-o", how, file.to_str().unwrap(), place.to_str().unwrap()]) == Some(true)
        };
        if !attach(&volume, &how) {
            eprintln!("skipped: nothing can be mounted here");
            return;
        }
        let mut dice = Dice(5000 + number as u64);
        let junk = place.join("junk");
        std::fs::write(&junk, vec![0xA5; 12 << 20]).unwrap();
        rustix::fs::sync();
        std::fs::remove_file(&junk).unwrap();
        grow(&place, Kinds { links: true, odd_names: true, sparse: true }, 80, &mut dice);
        rustix::fs::sync();
        // From here on all is in the journal alone.
        let later = place.join("later");
        std::fs::create_dir(&later).unwrap();
        grow(&later, Kinds { links: true, odd_names: true, sparse: true }, 60, &mut dice);
        // Blocks of a folder that was committed and taken away hold something else by now: what waits of them is
        // revoked.
        let gone = later.join("gone");
        std::fs::create_dir(&gone).unwrap();
        (0..400).for_each(|n| std::fs::write(gone.join(format!("{n:060}")), "").unwrap());
        std::fs::File::open(&gone).unwrap().sync_all().unwrap();
        std::fs::remove_dir_all(&gone).unwrap();
        rustix::fs::sync();
        let reserved = std::fs::File::create(later.join("reserved")).unwrap();
        let mode = rustix::fs::FallocateFlags::empty();
        // Of blocks that held something else a while ago.
        let is_reserved = rustix::fs::fallocate(&reserved, mode, 0, 9 << 20).is_ok();
        std::os::unix::fs::FileExt::write_all_at(&reserved, b"written", 5 << 20).unwrap();
        drop(reserved);
        let mut filler = std::fs::File::create(later.join("filler")).unwrap();
        while std::io::Write::write_all(&mut filler, &[0x5A; 4096]).is_ok() {}
        drop(filler);
        for file in truths(&place).iter().filter(|(_, truth)| matches!(truth, Truth::File { .. })) {
            use std::os::unix::ffi::OsStrExt;
            let name = std::ffi::OsStr::from_bytes(&file.0[1..]);
            std::fs::File::open(place.join(name)).unwrap().sync_all().unwrap();
        }
        std::fs::copy(&volume, path("crashed")).unwrap();
        unmount(&place);
        std::fs::copy(path("crashed"), path("played")).unwrap();
        assert!(attach(&path("played"), "loop"));
        let expected = truths(&place);
        unmount(&place);
        assert!(expected.len() > 100 && (is_reserved || number != 0));

        let image = disk_of(folder.path(), &path("crashed"), "fen.vhdx", 2, &mut dice);
        let (disk, volume) = only_volume(&image);
        assert_eq!(volume.content.as_ref().unwrap().clean, Some(false));
        let mut tree = FileTree::open(disk, &volume).unwrap();
        let notes = tree.notes();
        assert!(notes[0].contains("wait in its journal"), "{notes:?}");
        let (found, walked) = read_all(&mut tree);
        assert_eq!((walked.left_out, found == expected), (vec![], true), "{options:?}");
    }
}

#[test]
fn fat_volumes_of_the_host_are_read_back() {
    let variants: [(&[&str], u64); 6] = [
        (&["-F", "12"], 4 * MIB),
        (&["-F", "12", "-s", "8"], 8 * MIB),
        (&["-F", "16"], 32 * MIB),
        (&["-F", "16", "-s", "1"], 16 * MIB),
        (&["-F", "32", "-s", "1"], 40 * MIB),
        (&["-F", "32", "-S", "4096", "-s", "1"], 300 * MIB),
    ];
    for (number, (options, size)) in variants.iter().enumerate() {
        for round in 0..rounds() {
            let mut dice = Dice(77_000 + number as u64 * 1000 + round);
            let folder = tempfile::tempdir().unwrap();
            let source = folder.path().join("source");
            std::fs::create_dir(&source).unwrap();
            let files = if *size < 10 * MIB { 40 } else { 120 };
            grow(&source, Kinds { links: false, odd_names: false, sparse: false }, files, &mut dice);
            let Some(volume) = fat_volume(folder.path(), options, *size, &source) else { return };
            let kinds = [FileSystem::Fat12, FileSystem::Fat16, FileSystem::Fat32];
            assert_read_back(&volume, &truths(&source), &kinds, &mut dice);
        }
    }
}

#[test]
fn ntfs_volumes_of_the_host_are_read_back() {
    for (number, options) in [&[][..], &["-c", "512"], &["-c", "65536"], &["-s", "4096"]].into_iter().enumerate() {
        for round in 0..rounds() {
            let mut dice = Dice(99_000 + number as u64 * 1000 + round);
            let folder = tempfile::tempdir().unwrap();
            let expected = std::cell::RefCell::new(Truths::new());
            let seed = dice.roll(u64::MAX);
            let volume = ntfs_volume(folder.path(), options, 64 * MIB, &|mount| {
                grow(mount, Kinds { links: false, odd_names: false, sparse: true }, 150, &mut Dice(seed));
                *expected.borrow_mut() = truths(mount);
            });
            let Some(volume) = volume else { return };
            assert_read_back(&volume, &expected.borrow(), &[FileSystem::Ntfs], &mut dice);
        }
    }
}

/// Nothing that was never written is given out, and nothing in a form that only a guest reads.
#[test]
fn what_only_a_guest_can_read_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let text = "Caltha palustris, 50 seeds sown\n".repeat(4000);
    let volume = ntfs_volume(folder.path(), &[], 32 * MIB, &|mount| {
        let packed = mount.join("packed");
        std::fs::create_dir(&packed).unwrap();
        let flag = 0x800u32.to_be_bytes();
        rustix::fs::setxattr(&packed, "system.ntfs_attrib_be", &flag, rustix::fs::XattrFlags::empty()).unwrap();
        std::fs::write(packed.join("records.txt"), &text).unwrap();
        std::fs::write(mount.join("plain.txt"), &text).unwrap();
    });
    let Some(volume) = volume else { return };
    let image = disk_of(folder.path(), &volume, "fen.vhdx", 0, &mut Dice(1));
    let (disk, volume) = only_volume(&image);
    let mut tree = FileTree::open(disk, &volume).unwrap();
    let mut refused = Vec::new();
    let mut whole = Vec::new();
    tree.walk(&InnerPath::root(), true, &mut |found| {
        if found.entry().kind == EntryKind::File {
            let path = found.entry().path.to_string();
            let mut content = Vec::new();
            match found.read(&mut |at, bytes| {
                assert_eq!(at, content.len() as u64);
                content.extend_from_slice(bytes);
                Ok(())
            }) {
                Ok(()) => whole.push((path, content == text.as_bytes())),
                Err(error) => refused.push((path, error.to_string(), content.len())),
            }
        }
        Ok(true)
    })
    .unwrap();
    assert_eq!(whole, [("/plain.txt".to_owned(), true)]);
    let [(path, message, 0)] = &refused[..] else { panic!("{refused:?}") };
    assert_eq!(path, "/packed/records.txt");
    assert!(message.contains("it is compressed"), "{message}");
}

/// What lies behind the part of a file that was ever written is nobody's.
#[test]
fn of_an_ntfs_file_no_more_is_given_out_than_was_written() {
    let folder = tempfile::tempdir().unwrap();
    let (len, written) = (300_000u64, 123_456u64);
    let volume = ntfs_volume(folder.path(), &[], 32 * MIB, &|mount| {
        std::fs::write(mount.join("records.bin"), vec![0xA5; len as usize]).unwrap();
    });
    let Some(volume) = volume else { return };
    let mut bytes = std::fs::read(&volume).unwrap();
    let word = |bytes: &[u8], at: usize| u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap());
    let mut changed = 0;
    for record in (0..bytes.len()).step_by(1024).filter(|at| bytes[*at..].starts_with(b"FILE")).collect::<Vec<_>>() {
        let mut at = record + usize::from(bytes[record + 20]);
        while at + 64 < record + 1024 && bytes[at..at + 4] != [0xFF; 4] {
            let step = u32::from_le_bytes(bytes[at + 4..at + 8].try_into().unwrap()) as usize;
            if bytes[at] == 0x80 && bytes[at + 8] == 1 && word(&bytes, at + 48) == len {
                assert_eq!(word(&bytes, at + 56), len);
                bytes[at + 56..at + 64].copy_from_slice(&written.to_le_bytes());
                changed += 1;
            }
            at += step.max(8);
        }
    }
    assert_eq!(changed, 1);
    std::fs::write(&volume, bytes).unwrap();
    let image = disk_of(folder.path(), &volume, "fen.vhdx", 1, &mut Dice(3));
    let (disk, volume) = only_volume(&image);
    let (found, _) = read_all(&mut FileTree::open(disk, &volume).unwrap());
    let mut expected = vec![0xA5; len as usize];
    expected[written as usize..].fill(0);
    let Truth::File { digest, .. } = &found[&b"/records.bin"[..]] else { panic!("{found:?}") };
    assert_eq!(*digest, blake3::hash(&expected).to_hex().to_string());
}

#[test]
fn paths_that_lead_nowhere_are_told_from_each_other() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    std::fs::create_dir_all(source.join("etc")).unwrap();
    std::fs::write(source.join("etc/hosts"), "fen\n").unwrap();
    std::os::unix::fs::symlink("etc", source.join("old")).unwrap();
    let Some(volume) = ext_volume(folder.path(), &["-t", "ext4"], 8 * MIB, &source) else { return };
    let image = disk_of(folder.path(), &volume, "fen.vhd", 1, &mut Dice(2));
    let (disk, volume) = only_volume(&image);
    let mut tree = FileTree::open(disk, &volume).unwrap();
    let mut kind = |path: &str| match tree.entry(&InnerPath::parse(path.as_bytes()).unwrap()) {
        Err(Error::Inside(problem)) => Err(problem.kind),
        other => Ok(other.unwrap().kind),
    };
    use InsideProblemKind as K;
    assert_eq!(kind("/"), Ok(EntryKind::Folder));
    assert_eq!(kind("//etc///hosts/"), Ok(EntryKind::File));
    assert_eq!(kind("/old"), Ok(EntryKind::Link));
    assert_eq!(kind("/etc/passwd"), Err(K::NotFound { inside: "/etc".to_owned() }));
    assert_eq!(kind("/etc/hosts/x"), Err(K::NotAFolder("/etc/hosts".to_owned())));
    assert_eq!(kind("/old/hosts"), Err(K::IsALink("/old".to_owned(), "etc".to_owned())));
    for wrong in ["etc", "", "/etc/../etc", "/a\0b", "/."] {
        assert!(matches!(InnerPath::parse(wrong.as_bytes()), Err(Error::Usage(_))), "{wrong}");
    }
}

/// Names and places that lead astray: each is told, and nothing is found twice or outside.
#[test]
fn names_and_folders_that_lead_astray_are_left_out() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    std::fs::create_dir_all(source.join("room/round-and-round")).unwrap();
    std::fs::write(source.join("room/whole.txt"), "Iris pseudacorus\n").unwrap();
    std::fs::write(source.join("room/leads-out-of-it"), "x").unwrap();
    std::fs::write(source.join("room/has-a-zero-byte"), "x").unwrap();
    std::fs::write(source.join("room/one-folder-up!!"), "x").unwrap();
    let Some(volume) = ext_volume(folder.path(), &["-t", "ext2"], 8 * MIB, &source) else { return };
    let mut bytes = std::fs::read(&volume).unwrap();
    let mut name = |old: &[u8], change: &dyn Fn(&mut [u8])| {
        let places: Vec<usize> = (0..bytes.len() - 32).filter(|at| bytes[*at..].starts_with(old)).collect();
        assert_eq!(places.len(), 1);
        // The entry begins eight bytes before its name.
        change(&mut bytes[places[0] - 8..places[0] + old.len()]);
    };
    name(b"leads-out-of-it", &|entry| entry[8..].copy_from_slice(b"../../../../oh!"));
    name(b"has-a-zero-byte", &|entry| entry[12] = 0);
    name(b"one-folder-up!!", &|entry| {
        entry[8..10].copy_from_slice(b"..");
        entry[6] = 2;
    });
    // The folder is the root.
    name(b"round-and-round", &|entry| entry[..4].copy_from_slice(&2u32.to_le_bytes()));
    std::fs::write(&volume, &bytes).unwrap();
    let image = disk_of(folder.path(), &volume, "fen.vhdx", 0, &mut Dice(4));
    let (disk, volume) = only_volume(&image);
    let mut tree = FileTree::open(disk.clone(), &volume).unwrap();
    let (found, walked) = read_all(&mut tree);
    let names: Vec<_> = found.keys().map(|name| String::from_utf8_lossy(name).into_owned()).collect();
    assert_eq!(names, ["/lost+found", "/room", "/room/round-and-round", "/room/whole.txt"]);
    let told: Vec<&str> = walked.left_out.iter().map(|one| one.why.as_str()).collect();
    assert!(told.iter().any(|why| why.contains("no file can have such a name")), "{told:?}");
    assert!(told.iter().any(|why| why.contains("met already at another place")), "{told:?}");
    drop((tree, disk));
    let into = folder.path().join("a/into");
    std::fs::create_dir(folder.path().join("a")).unwrap();
    let taken = perform(TakeOut::new(&image, vec![InnerPath::root()], &into)).unwrap();
    assert_eq!((taken.files, taken.folders, taken.left_out_count), (1, 3, walked.left_out_count));
    let beside: Vec<_> = std::fs::read_dir(folder.path().join("a")).unwrap().flatten().map(|e| e.file_name()).collect();
    assert_eq!(beside, ["into"]);
}

/// More folders in each other than any host can name.
#[test]
fn a_tree_that_is_too_deep_ends() {
    use rustix::fs::{CWD, Mode, OFlags, mkdirat, openat};
    let folder = tempfile::tempdir().unwrap();
    let (source, place) = (folder.path().join("source"), folder.path().join("place"));
    std::fs::create_dir(&source).unwrap();
    std::fs::create_dir(&place).unwrap();
    let Some(volume) = ext_volume(folder.path(), &["-t", "ext4", "-N", "4000"], 24 * MIB, &source) else { return };
    // mke2fs 1.47 falls over such a tree.
    let attached = tool("mount", &["-o", "loop", volume.to_str().unwrap(), place.to_str().unwrap()]);
    if attached != Some(true) {
        eprintln!("skipped: nothing can be mounted here");
        return;
    }
    let flags = OFlags::DIRECTORY | OFlags::RDONLY;
    let mut here = openat(CWD, &place, flags, Mode::empty()).unwrap();
    for _ in 0..1500 {
        mkdirat(&here, "f", 0o755.into()).unwrap();
        here = openat(&here, "f", flags, Mode::empty()).unwrap();
    }
    drop(here);
    unmount(&place);
    let image = disk_of(folder.path(), &volume, "fen.vhdx", 0, &mut Dice(5));
    let (disk, volume) = only_volume(&image);
    let mut tree = FileTree::open(disk.clone(), &volume).unwrap();
    let walked = tree.list(&InnerPath::root(), true, &mut |_| Ok(true)).unwrap();
    assert_eq!(walked.left_out_count, 1);
    assert!(walked.left_out[0].why.contains("1,000 folders deep"), "{:?}", walked.left_out);
    drop((tree, disk));
    // What a path of the host cannot reach is made all the same, handle by handle.
    let into = folder.path().join("into");
    let taken = perform(TakeOut::new(&image, vec![InnerPath::root()], &into)).unwrap();
    assert_eq!((taken.folders, taken.left_out_count), (1002, 1));
    let removed = std::process::Command::new("rm").arg("-rf").arg(&into).status().unwrap();
    assert!(removed.success());
}

/// A case: what it is, bytes at their places, what is to be told.
type Signed<'a> = (&'a str, Vec<(usize, &'a [u8])>, Vec<FileSystem>);

/// What a volume holds is told by its signature; what must not be touched comes first, and leftovers are named.
#[test]
fn volumes_are_told_by_their_signatures() {
    use FileSystem as F;
    let size = 64 * MIB as usize;
    let md = 0xA92B_4EFCu32.to_le_bytes();
    let end = |back: usize| (size - back) & !0xFFF;
    let bcache = b"\xC6\x85\x73\xF6\x4E\x1A\x45\xCA\x82\x65\xF5\x7F\x48\xBA\x6D\x81";
    let mut table: Vec<Signed<'_>> = vec![
        ("nothing", vec![(5000, b"Caltha")], vec![]),
        ("LUKS", vec![(0, b"LUKS\xBA\xBE\x00\x02")], vec![F::Luks]),
        ("Windows", vec![(3, b"-FVE-FS-")], vec![F::Fve]),
        ("LVM", vec![(512, b"LABELONE"), (536, b"LVM2 001")], vec![F::Lvm]),
        ("LVM elsewhere", vec![(1536, b"LABELONE"), (1560, b"LVM2 001")], vec![F::Lvm]),
        ("RAID 1.1", vec![(0, &md)], vec![F::MdRaid]),
        ("RAID 1.2", vec![(4096, &md)], vec![F::MdRaid]),
        ("RAID 1.0", vec![(end(8192), &md)], vec![F::MdRaid]),
        ("RAID 0.90", vec![(size - (64 << 10), &md)], vec![F::MdRaid]),
        ("ZFS", vec![(131_072 + 5 * 1024, &[0x0C, 0xB1, 0xBA, 0, 0, 0, 0, 0])], vec![F::Zfs]),
        ("ZFS of another host", vec![(131_072, &[0, 0, 0, 0, 0, 0xBA, 0xB1, 0x0C])], vec![F::Zfs]),
        ("block cache", vec![(4120, bcache)], vec![F::Bcache]),
        ("ISO 9660", vec![(32768, b"\x01CD001"), (32808, b"FEN")], vec![F::Iso9660]),
        ("swap", vec![(4086, b"SWAPSPACE2"), (1028, &[0xFF, 0x3F, 0, 0])], vec![F::Swap]),
        ("APFS", vec![(32, b"NXSB")], vec![F::Apfs]),
        ("HFS+", vec![(1024, b"H+\x00\x04")], vec![F::HfsPlus]),
        ("ReFS", vec![(3, b"ReFS\0\0\0\0")], vec![F::Refs]),
        ("F2FS", vec![(1024, &[0x10, 0x20, 0xF5, 0xF2])], vec![F::F2fs]),
        ("Squashfs", vec![(0, b"hsqs")], vec![F::Squashfs]),
    ];
    table.push(("RAID over swap", vec![(4086, b"SWAPSPACE2"), (size - (64 << 10), &md)], vec![F::MdRaid, F::Swap]));
    let folder = tempfile::tempdir().unwrap();
    let image = folder.path().join("fen.raw");
    for (what, bytes, expected) in table {
        let file = std::fs::File::create(&image).unwrap();
        file.set_len(size as u64).unwrap();
        bytes.iter().for_each(|(at, bytes)| file.write_all_at(bytes, *at as u64).unwrap());
        let disk: Arc<dyn Disk> = Arc::new(Chain::open(&image, &OpenOptions::new()).unwrap());
        let found = volumes(&*disk).unwrap();
        let told: Vec<F> = found
            .volumes
            .iter()
            .flat_map(|volume| {
                let content = volume.content.as_ref().unwrap();
                std::iter::once(content.file_system).chain(content.also.iter().copied())
            })
            .collect();
        assert_eq!(told, expected, "{what}");
        let opaque = expected.first().is_some_and(|first| first.is_opaque());
        assert_eq!(opaque, found.volumes.iter().any(|volume| volume.content.as_ref().unwrap().file_system.is_opaque()));
        for volume in &found.volumes {
            let refused = FileTree::open(disk.clone(), volume).map(|_| ());
            assert!(
                matches!(refused, Err(Error::Inside(problem)) if matches!(problem.kind, InsideProblemKind::NotRead(_)))
            );
        }
    }
    std::fs::File::create(&image).unwrap().set_len(size as u64).unwrap();
    let Some(true) = tool("mkfs.exfat", &["-L", "fen", image.to_str().unwrap()]) else { return };
    let disk = Chain::open(&image, &OpenOptions::new()).unwrap();
    let content = volumes(&disk).unwrap().volumes[0].content.clone().unwrap();
    assert_eq!((content.file_system, content.label.as_deref(), content.clean), (F::Exfat, Some("fen"), Some(true)));
}

/// Taken out, a tree is what it was: names, content, links, times of files and of folders, modes, holes.
#[test]
fn what_is_taken_out_is_what_was_there() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt};
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    std::fs::create_dir(&source).unwrap();
    grow(&source, Kinds { links: true, odd_names: true, sparse: true }, 150, &mut Dice(61));
    let hollow = std::fs::File::create(source.join("hollow")).unwrap();
    hollow.write_all_at(b"x", 9 * MIB).unwrap();
    hollow.set_len(40 * MIB).unwrap();
    rustix::fs::mkfifoat(rustix::fs::CWD, source.join("pipe"), 0o600.into()).unwrap();
    std::fs::set_permissions(source.join("hollow"), PermissionsExt::from_mode(0o4751)).unwrap();
    let old = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_500_000_000);
    for (name, _) in truths(&source).into_iter().filter(|(_, truth)| *truth == Truth::Folder) {
        use std::os::unix::ffi::OsStrExt;
        let folder = source.join(std::ffi::OsStr::from_bytes(&name[1..]));
        std::fs::File::open(folder).unwrap().set_modified(old).unwrap();
    }
    let Some(volume) = ext_volume(folder.path(), &["-t", "ext4"], 48 * MIB, &source) else { return };
    let image = disk_of(folder.path(), &volume, "fen.vhdx", 2, &mut Dice(6));
    let into = folder.path().join("into");
    let taken = perform(TakeOut::new(&image, vec![InnerPath::root()], &into)).unwrap();
    assert_eq!((taken.skipped, taken.left_out_count), (1, 0));
    let mut expected = truths(&source);
    assert_eq!(expected.remove(&b"/pipe"[..]), Some(Truth::Other));
    let mut found = truths(&into);
    assert_eq!(found.remove(&b"/lost+found"[..]), Some(Truth::Folder));
    assert!(found == expected);
    for name in found.keys() {
        use std::os::unix::ffi::OsStrExt;
        let name = std::ffi::OsStr::from_bytes(&name[1..]);
        let meta = |root: &Path| root.join(name).symlink_metadata().unwrap();
        let (now, then) = (meta(&into), meta(&source));
        assert_eq!(now.mtime(), then.mtime(), "{name:?}");
        if !now.is_symlink() {
            // The mask of this process takes away, and nothing is added.
            let (now, then) = (now.mode() & 0o7777, then.mode() & 0o777);
            assert!(now & !(then | 0o700) == 0 && now & 0o700 == then & 0o700, "{name:?} {now:o} {then:o}");
        }
    }
    assert!(std::fs::metadata(into.join("hollow")).unwrap().blocks() * 512 < MIB);
    // A second one at the same place changes nothing.
    let again = perform(TakeOut::new(&image, vec![InnerPath::root()], &into));
    assert!(matches!(again, Err(Error::Refused(Refusal::Exists { .. }, _))));
}

/// Structures with checksums that do not match are told, and nothing that rests on them is given out.
#[test]
fn what_does_not_match_its_checksum_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    std::fs::create_dir(&source).unwrap();
    std::fs::write(source.join("marked.bin"), vec![7; 77_777]).unwrap();
    let pieces = std::fs::File::create(source.join("pieces.bin")).unwrap();
    (0..40).for_each(|n| pieces.write_all_at(&[9; 4096], n * 3 * 4096).unwrap());
    let Some(volume) = ext_volume(folder.path(), &["-t", "ext4", "-b", "4096"], 16 * MIB, &source) else { return };
    let whole = std::fs::read(&volume).unwrap();
    let only = |wanted: &dyn Fn(usize) -> bool, step: usize| {
        let found: Vec<usize> = (0..whole.len() - 4096).step_by(step).filter(|at| wanted(*at)).collect();
        let [place] = found[..] else { panic!("{found:?}") };
        place
    };
    let len = 77_777u32.to_le_bytes();
    let inode = only(&|at| whole[at + 4..at + 8] == len && whole[at + 1] == 0x81, 256);
    let name = only(&|at| whole[at..].starts_with(b"marked.bin"), 1);
    let node = only(&|at| whole[at..at + 2] == [0x0A, 0xF3] && whole[at + 6..at + 8] == [0, 0], 4096);
    for (what, at, path) in [
        // When it was changed, a letter of a name, where a piece lies.
        ("inode", inode + 16, "/marked.bin"),
        ("folder", name, "/"),
        ("map", node + 12 + 8, "/pieces.bin"),
    ] {
        let mut bytes = whole.clone();
        bytes[at] ^= 1;
        std::fs::write(&volume, &bytes).unwrap();
        let place = tempfile::tempdir().unwrap();
        let image = disk_of(place.path(), &volume, "fen.vhdx", 0, &mut Dice(7));
        let taken = perform(TakeOut::new(&image, vec![InnerPath::root()], place.path().join("into"))).unwrap();
        let [left_out] = &taken.left_out[..] else { panic!("{what}: {taken:?}") };
        assert_eq!(left_out.path.to_string(), path, "{what}");
        assert!(left_out.why.contains("does not match its checksum"), "{what}: {}", left_out.why);
        assert_eq!(taken.files, if what == "folder" { 2 } else { 1 }, "{what}");
    }
}
