//! Volumes that are damaged anywhere: what is found in them is bounded, told, and never leads out of the folder that
//! files are taken into.

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::error::Error;
use zestful_sapling::guest::{EntryKind, FileTree, InnerPath, Volume, free_space, impact, volumes};
use zestful_sapling::ops::{Operation, Planned, TakeOut};
use zestful_sapling::progress::Progress;
use zestful_sapling::ranges::Ranges;

use crate::guest_trees::{Dice, Kinds, MIB, ext_volume, fat_volume, grow, ntfs_volume};

/// Of longer files no more is read: a size is a number that damage may raise to anything.
const MOST_READ: u64 = 32 * MIB;

/// Small volumes, with folders, links and files of all sorts.
fn samples() -> Vec<(String, Vec<u8>)> {
    let mut found = Vec::new();
    let mut add = |name: &str, make: &dyn Fn(&Path, &Path) -> Option<PathBuf>, links: bool| {
        let folder = tempfile::tempdir().unwrap();
        let source = folder.path().join("source");
        std::fs::create_dir(&source).unwrap();
        grow(&source, Kinds { links, odd_names: links, sparse: false }, 60, &mut Dice(8));
        found.extend(make(folder.path(), &source).map(|file| (name.to_owned(), std::fs::read(file).unwrap())));
    };
    let ext: [&[&str]; 5] = [
        &["-t", "ext4"],
        &["-t", "ext4", "-O", "^metadata_csum,^64bit"],
        &["-t", "ext2", "-b", "1024"],
        &["-t", "ext4", "-O", "inline_data,^metadata_csum"],
        &["-t", "ext3", "-O", "^metadata_csum"],
    ];
    for options in ext {
        add(&options.join(" "), &|folder, source| ext_volume(folder, options, 10 * MIB, source), true);
    }
    let fat: [(&[&str], u64); 3] = [(&["-F", "12"], 4), (&["-F", "16", "-s", "1"], 10), (&["-F", "32", "-s", "1"], 36)];
    for (options, size) in fat {
        add(&options.join(" "), &|folder, source| fat_volume(folder, options, size * MIB, source), false);
    }
    let fill = |place: &Path| grow(place, Kinds { links: false, odd_names: false, sparse: false }, 60, &mut Dice(9));
    add("ntfs", &|folder, _| ntfs_volume(folder, &[], 8 * MIB, &fill), false);
    found
}

/// Changes some bytes where something stands; now and then a whole sector is gone, or another one stands in its place.
fn spoil(bytes: &mut [u8], dice: &mut Dice) {
    let used: Vec<usize> = (0..bytes.len() / 512).filter(|n| bytes[n * 512..][..512].iter().any(|b| *b != 0)).collect();
    // Structures stand in front, mostly.
    let pick = |dice: &mut Dice| {
        let most = if dice.roll(3) > 0 { used.len().min(120) } else { used.len() };
        used[dice.roll(most as u64) as usize] * 512
    };
    for _ in 0..=dice.roll(4) {
        let at = pick(dice);
        match dice.roll(8) {
            0 => bytes[at..at + 512].fill(0),
            1 => {
                let other = pick(dice);
                let copy = bytes[other..other + 512].to_vec();
                bytes[at..at + 512].copy_from_slice(&copy);
            }
            2 => {
                let value = [0, u32::MAX, 1, 2, 0x7FFF_FFFF][dice.roll(5) as usize].to_le_bytes();
                let at = at + dice.roll(127) as usize * 4;
                bytes[at..at + 4].copy_from_slice(&value);
            }
            _ => bytes[at + dice.roll(512) as usize] = dice.roll(256) as u8,
        }
    }
}

/// Everything below a folder but one: how it is named, and when it was last changed.
fn watch(root: &Path, but: &Path) -> BTreeMap<PathBuf, (u64, i64, i64)> {
    let (mut found, mut folders) = (BTreeMap::new(), vec![root.to_owned()]);
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path == but {
                continue;
            }
            let meta = path.symlink_metadata().unwrap();
            found.insert(path.clone(), (meta.len(), meta.mtime(), meta.mtime_nsec()));
            if meta.is_dir() {
                folders.push(path);
            }
        }
    }
    found
}

/// Asks what lies in some ranges, and what is free: every byte is told, and nothing is free that anything holds.
fn look_up(disk: &Arc<dyn Disk>, volume: &Volume, dice: &mut Dice) -> Result<(), Error> {
    let size = disk.virtual_size();
    let ranges: Ranges = (0..1 + dice.roll(20))
        .map(|_| {
            let start = dice.roll(size);
            start..(start + 1 + dice.roll(200_000)).min(size)
        })
        .collect();
    let told = impact(disk.clone(), &ranges, &Progress::new())?;
    let sum = told.sums.iter().map(|sum| sum.bytes).sum::<u64>();
    assert!(sum >= ranges.bytes() && (sum == ranges.bytes() || told.doubt_count > 0), "{told:?}");
    assert!(told.hits.iter().all(|hit| hit.bytes <= hit.range.length || hit.doubtful), "{told:?}");
    let mut free = Ranges::default();
    let is_told = free_space(disk.clone(), volume, &Progress::new(), &mut |range| {
        free.add(range);
        Ok(())
    });
    match is_told {
        Err(Error::Inside(_)) => return Ok(()),
        other => other?,
    }
    let of_free = impact(disk.clone(), &free, &Progress::new())?;
    assert!(of_free.is_nothing_but_free(), "{of_free}: {:?}", of_free.doubts);
    Ok(())
}

/// `ZSAP_DAMAGED_VOLUMES` says how many of each sort.
#[test]
fn damage_is_bounded_and_told() {
    let count = std::env::var("ZSAP_DAMAGED_VOLUMES").ok().and_then(|count| count.parse().ok()).unwrap_or(90);
    let first = std::env::var("ZSAP_DAMAGED_FIRST").ok().and_then(|count| count.parse().ok()).unwrap_or(0);
    let (mut whole, mut in_part, mut not_at_all, mut taken) = (0, 0, 0, 0);
    for (name, sample) in samples() {
        for number in first..first + count {
            let mut dice = Dice(number * 7919 + sample.len() as u64);
            let mut bytes = sample.clone();
            spoil(&mut bytes, &mut dice);
            let folder = tempfile::tempdir().unwrap();
            let image = folder.path().join("fen.raw");
            std::fs::write(&image, &bytes).unwrap();
            let disk: Arc<dyn Disk> = Arc::new(Chain::open(&image, &OpenOptions::new()).unwrap());
            let found = volumes(&*disk).unwrap();
            let Some(volume) = found.volumes.iter().find(|one| one.content.is_some()) else {
                not_at_all += 1;
                continue;
            };
            let mut tree = match FileTree::open(disk.clone(), volume) {
                Ok(tree) => tree,
                Err(Error::Inside(_)) => {
                    not_at_all += 1;
                    continue;
                }
                Err(other) => panic!("{name} {number}: {other}"),
            };
            let (mut is_hurt, mut total) = (false, 0u64);
            let walked = tree.walk(&InnerPath::root(), true, &mut |item| {
                if item.entry().kind != EntryKind::File {
                    return Ok(true);
                }
                let mut read = 0;
                let outcome = item.read(&mut |_, bytes| {
                    read += bytes.len() as u64;
                    if read > MOST_READ { Err(Error::Cancelled) } else { Ok(()) }
                });
                is_hurt |= outcome.is_err();
                total += read;
                Ok(true)
            });
            let walked = walked.unwrap_or_else(|error| panic!("{name} {number}: {error}"));
            is_hurt |= walked.left_out_count > 0;
            whole += usize::from(!is_hurt);
            in_part += usize::from(is_hurt);
            if number.is_multiple_of(3) {
                for file in
                    tree.deleted(&Progress::new()).unwrap_or_default().into_iter().filter(|file| file.size < MOST_READ)
                {
                    // What it tells may be nonsense; it comes to an end.
                    _ = tree.read_deleted(&file, &mut |_, _| Ok(()));
                }
                look_up(&disk, volume, &mut dice).unwrap_or_else(|error| panic!("{name} {number}: {error}"));
            }
            // Taken out, nothing but the folder has changed.
            if dice.roll(4) == 0 && total < MOST_READ {
                let into = folder.path().join("into");
                std::fs::create_dir(&into).unwrap();
                drop((tree, disk));
                let before = watch(folder.path(), &into);
                let request = TakeOut::new(&image, vec![InnerPath::root()], &into).with_volume(volume.number);
                match request.plan().and_then(|plan| plan.run(&Progress::new())) {
                    Ok(_) => taken += 1,
                    // A size that was raised beyond all measure does not fit the host.
                    Err(Error::Refused(..) | Error::Io { .. } | Error::Inside(_)) => {}
                    Err(other) => panic!("{name} {number}: {other}"),
                }
                assert_eq!(watch(folder.path(), &into), before, "{name} {number}");
            }
        }
    }
    println!("{whole} whole, {in_part} in part, {not_at_all} not at all; {taken} taken out");
    assert!(whole > 20 && in_part > 20 && not_at_all > 5 && taken > 20, "{whole} {in_part} {not_at_all} {taken}");
}
