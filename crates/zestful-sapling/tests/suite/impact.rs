//! From ranges of a disk to what lies in them, compared with what the host's own tools say of the same blocks.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::error::Error;
use zestful_sapling::guest::{FileTree, Hit, HitKind, Impact, InnerPath, Volume, free_space, impact, volumes};
use zestful_sapling::progress::Progress;
use zestful_sapling::ranges::{DiskRange, Ranges};
use zestful_sapling::repair::impact_of_losses;

use crate::guest_trees::{
    Dice, Kinds, MIB, START, disk_of, ext_volume, fat_volume, grow, ntfs_volume, only_volume, tool, unmount,
};
use crate::support::check_chain;

/// What a tool of the host prints.
fn printed(name: &str, arguments: &[&str]) -> Option<String> {
    let paths = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let mut command = Command::new(name);
    command.args(arguments).env("PATH", paths).env("LC_ALL", "C.UTF-8").env("MTOOLS_SKIP_CHECK", "1");
    let output = command.stdin(Stdio::null()).output().ok()?;
    Some(String::from_utf8_lossy(&output.stdout).into_owned())
}

/// A disk with the volume on it, through some layers.
fn disk(folder: &Path, volume: &Path, dice: &mut Dice) -> (Arc<dyn Disk>, Volume) {
    let layers = dice.roll(3) as usize;
    let (disk, volume) = only_volume(&disk_of(folder, volume, "fen.vhdx", layers, dice));
    (disk, volume)
}

/// Writes files of all sizes into a folder and takes some away, so that what is left lies in pieces.
fn shuffle(place: &Path, dice: &mut Dice) {
    // Enough names for a folder with a tree over them.
    let many = place.join("many");
    std::fs::create_dir(&many).unwrap();
    let name = |number: u64| many.join(format!("{number:03}-of-the-seed-lots-that-came-in-the-autumn"));
    (0..700).for_each(|number| std::fs::write(name(number), "").unwrap());
    (0..700).step_by(3).for_each(|number| std::fs::remove_file(name(number)).unwrap());
    for round in 0..6 {
        let many = if round % 2 == 0 { 60 } else { 20 };
        for number in 0..many {
            let len = [700, 5_000, 60_000, 400_000][dice.roll(4) as usize];
            let bytes = dice.bytes(len);
            // A full volume is as good.
            _ = std::fs::write(place.join(format!("tray-{round}-{number}.bin")), bytes);
        }
        let open = |number: u64| std::fs::File::options().append(true).open(place.join(format!("tray-0-{number}.bin")));
        for number in 0..10 {
            _ = open(number).and_then(|mut file| std::io::Write::write_all(&mut file, &dice.bytes(9000)));
        }
        for number in 0..many {
            if dice.roll(2) == 0 && (round > 0 || number >= 10) {
                _ = std::fs::remove_file(place.join(format!("tray-{round}-{number}.bin")));
            }
        }
    }
}

/// What is found in single units of a volume, by their numbers.
fn of_units(disk: &Arc<dyn Disk>, numbers: &BTreeSet<u64>, first: u64, unit: u64) -> BTreeMap<u64, Vec<Hit>> {
    // Every second unit, so that no two are one range.
    let mut found = BTreeMap::new();
    for odd in [0, 1] {
        let ranges: Ranges = numbers
            .iter()
            .filter(|number| **number % 2 == odd)
            .map(|number| START + first + number * unit..START + first + (number + 1) * unit)
            .collect();
        let told = impact(disk.clone(), &ranges, &Progress::new()).unwrap();
        assert_eq!(told.doubts, Vec::<String>::new(), "{unit}");
        assert_sums(&told, &ranges);
        for hit in told.hits {
            let number = (hit.range.offset - START - first) / unit;
            found.entry(number).or_insert_with(Vec::new).push(hit);
        }
    }
    found
}

/// Every byte is told once.
fn assert_sums(told: &Impact, ranges: &Ranges) {
    assert_eq!(told.hit_count as usize, told.hits.len());
    assert_eq!(told.sums.iter().map(|sum| sum.bytes).sum::<u64>(), ranges.bytes());
    let mut of_range: BTreeMap<u64, u64> = BTreeMap::new();
    told.hits.iter().for_each(|hit| *of_range.entry(hit.range.offset).or_default() += hit.bytes);
    let expected: BTreeMap<u64, u64> = ranges.list().iter().map(|range| (range.offset, range.length)).collect();
    assert_eq!(of_range, expected);
}

/// The free ranges of a volume, in bytes from its beginning.
fn free(disk: &Arc<dyn Disk>, volume: &Volume) -> Result<Ranges, Error> {
    let mut found = Ranges::default();
    free_space(disk.clone(), volume, &Progress::new(), &mut |range| {
        found.add(range.start - START..range.end - START);
        Ok(())
    })?;
    Ok(found)
}

/// Numbers of units all over a volume, more of them where something is.
fn some(count: u64, dice: &mut Dice) -> BTreeSet<u64> {
    (0..1200).map(|n| dice.roll(if n % 3 == 0 { count } else { count / 4 + 2 }).min(count - 1)).collect()
}

fn numbers(text: &str) -> Vec<std::ops::RangeInclusive<u64>> {
    let part = |part: &str| {
        let (first, last) = part.trim().split_once('-').unwrap_or((part.trim(), part.trim()));
        Some(first.parse().ok()?..=last.split([',', ' ']).next()?.parse().ok()?)
    };
    text.split(',').filter_map(part).collect()
}

/// What dumpe2fs says of a volume.
struct Dumped {
    free: Ranges,
    structures: Vec<(std::ops::RangeInclusive<u64>, &'static str)>,
    unit: u64,
    blocks: u64,
}

fn dumped(volume: &Path) -> Dumped {
    let text = printed("dumpe2fs", &[volume.to_str().unwrap()]).unwrap();
    let field = |name: &str| {
        let line = text.lines().find(|line| line.starts_with(name)).unwrap();
        line.rsplit(' ').next().unwrap().parse::<u64>().unwrap()
    };
    let mut found = Dumped {
        free: Ranges::default(),
        structures: Vec::new(),
        unit: field("Block size:"),
        blocks: field("Block count:"),
    };
    const NAMES: [(&str, &str); 6] = [
        ("superblock at ", "superblock"),
        ("roup descriptors at ", "group descriptors"),
        ("roup descriptor at ", "group descriptors"),
        ("lock bitmap at ", "block bitmap"),
        ("node bitmap at ", "inode bitmap"),
        ("node table at ", "inode table"),
    ];
    for line in text.lines().filter(|line| line.starts_with("  ")) {
        if let Some(list) = line.strip_prefix("  Free blocks: ") {
            for range in numbers(list) {
                found.free.add(range.start() * found.unit..(range.end() + 1) * found.unit);
            }
        }
        for part in line.split(", ") {
            for (mark, name) in NAMES {
                let place = part.split_once(mark).map(|(_, place)| place.split(' ').next().unwrap());
                found.structures.extend(place.into_iter().flat_map(numbers).map(|range| (range, name)));
            }
        }
    }
    found
}

/// What debugfs says of blocks: their inodes, and what those are called.
fn holders(volume: &Path, blocks: &BTreeSet<u64>) -> (BTreeMap<u64, u32>, BTreeMap<u32, BTreeSet<String>>) {
    let ask = |command: &str, list: &[u64]| {
        let mut lines = Vec::new();
        for some in list.chunks(400) {
            let list: Vec<String> = some.iter().map(u64::to_string).collect();
            let request = format!("{command} {}", list.join(" "));
            lines.push(printed("debugfs", &["-R", &request, volume.to_str().unwrap()]).unwrap());
        }
        lines.concat()
    };
    let pairs = |text: &str| -> Vec<(u64, String)> {
        let pair = |line: &str| {
            let (number, rest) = line.split_once('\t')?;
            Some((number.parse().ok()?, rest.to_owned()))
        };
        text.lines().filter_map(pair).collect()
    };
    let list: Vec<u64> = blocks.iter().copied().collect();
    let of: BTreeMap<u64, u32> = pairs(&ask("icheck", &list))
        .into_iter()
        .filter_map(|(block, inode)| Some((block, inode.parse().ok()?)))
        .collect();
    let inodes: BTreeSet<u64> = of.values().map(|inode| u64::from(*inode)).collect();
    let mut names: BTreeMap<u32, BTreeSet<String>> = BTreeMap::new();
    for (inode, name) in pairs(&ask("ncheck", &inodes.into_iter().collect::<Vec<_>>())) {
        names.entry(inode as u32).or_default().insert(format!("/{}", name.trim_start_matches('/')));
    }
    (of, names)
}

#[test]
fn blocks_of_ext_are_told_as_the_hosts_tools_tell_them() {
    let variants: [&[&str]; 12] = [
        &["-t", "ext2"],
        &["-t", "ext3", "-b", "1024"],
        &["-t", "ext4"],
        &["-t", "ext4", "-b", "1024"],
        &["-t", "ext4", "-b", "2048", "-I", "512", "-O", "metadata_csum_seed"],
        &["-t", "ext4", "-O", "^extents,^64bit"],
        &["-t", "ext4", "-O", "meta_bg,^resize_inode", "-b", "1024", "-g", "1024"],
        &["-t", "ext4", "-O", "^metadata_csum,uninit_bg", "-b", "1024"],
        &["-t", "ext4", "-O", "sparse_super2", "-b", "1024"],
        &["-t", "ext4", "-O", "^metadata_csum,^flex_bg,ea_inode,mmp", "-I", "128", "-b", "1024"],
        &["-t", "ext4", "-O", "orphan_file,inline_data,project,quota", "-b", "1024"],
        &["-t", "ext2", "-b", "1024", "-O", "^filetype,^sparse_super,^resize_inode"],
    ];
    let mut sorts = BTreeMap::new();
    for (number, options) in variants.iter().enumerate() {
        let dice = &mut Dice(number as u64 + 71);
        let folder = tempfile::tempdir().unwrap();
        let source = folder.path().join("source");
        std::fs::create_dir(&source).unwrap();
        grow(&source, Kinds { links: true, odd_names: false, sparse: true }, 60, dice);
        let Some(volume) = ext_volume(folder.path(), options, 48 * MIB, &source) else { return };
        // Where it can be mounted it is used; elsewhere it stays as it was made.
        let place = folder.path().join("place");
        std::fs::create_dir(&place).unwrap();
        if tool("mount", &["-o", "loop", volume.to_str().unwrap(), place.to_str().unwrap()]) == Some(true) {
            shuffle(&place, dice);
            let large = std::fs::File::create(place.join("large")).unwrap();
            (0..400).for_each(|n| large.write_all_at(&[7; 3000], n * 9000).unwrap());
            _ = rustix::fs::fallocate(&large, rustix::fs::FallocateFlags::KEEP_SIZE, 5 << 20, 1 << 20);
            _ = rustix::fs::setxattr(place.join("large"), "user.sheet", &[7; 700], rustix::fs::XattrFlags::empty());
            std::fs::hard_link(place.join("large"), place.join("another")).unwrap();
            drop(large);
            unmount(&place);
        }
        let truth = dumped(&volume);
        let blocks = some(truth.blocks, dice);
        let (of, names) = holders(&volume, &blocks);
        let (disk, found) = disk(folder.path(), &volume, dice);
        let told = of_units(&disk, &blocks, 0, truth.unit);
        for block in blocks {
            let [hit] = &told[&block][..] else { panic!("{options:?}: block {block}: {:?}", told[&block]) };
            *sorts.entry(hit.what).or_insert(0) += 1;
            let structure = truth.structures.iter().find(|(place, _)| place.contains(&block)).map(|(_, name)| *name);
            let is_free = truth.free.within(block * truth.unit..(block + 1) * truth.unit).next().is_some();
            let at = format!("{options:?}: block {block}, {hit:?}");
            match (of.get(&block), structure) {
                _ if is_free => assert_eq!(hit.what, HitKind::Free, "{at}"),
                (_, Some(name)) => assert_eq!(hit.name.as_deref(), Some(name), "{at}"),
                (Some(2), _) => assert_eq!((hit.what, hit.to_string()), (HitKind::Folder, "/".to_owned()), "{at}"),
                (Some(inode), _) => match names.get(inode).filter(|names| names.iter().all(|name| name != "/")) {
                    Some(names) => assert!(names.contains(&hit.path.clone().unwrap().to_string()), "{names:?} {at}"),
                    None => assert_eq!(hit.what, HitKind::Structure, "{inode} {at}"),
                },
                (None, None) => {
                    let known = ["boot area", "note of the mount", "orphan list", "quota", "journal"];
                    assert!(hit.name.as_deref().is_some_and(|name| known.contains(&name)), "{at}");
                }
            }
        }
        assert_eq!(free(&disk, &found).unwrap(), truth.free, "{options:?}");
    }
    for (sort, least) in [(HitKind::File, 100), (HitKind::Folder, 30), (HitKind::Structure, 100), (HitKind::Free, 100)]
    {
        assert!(sorts[&sort] > least, "{sorts:?}");
    }
}

#[test]
fn clusters_of_fat_are_told_as_the_hosts_tools_tell_them() {
    let variants: [(&[&str], u64); 5] = [
        (&["-F", "12"], 6),
        (&["-F", "16", "-s", "1"], 14),
        (&["-F", "16", "-s", "8", "-f", "1"], 60),
        (&["-F", "32", "-s", "1"], 40),
        (&["-F", "32", "-S", "4096", "-s", "1"], 300),
    ];
    for (number, (options, size)) in variants.into_iter().enumerate() {
        let dice = &mut Dice(number as u64 + 17);
        let folder = tempfile::tempdir().unwrap();
        let source = folder.path().join("source");
        std::fs::create_dir(&source).unwrap();
        grow(&source, Kinds { links: false, odd_names: false, sparse: false }, 60, dice);
        let Some(volume) = fat_volume(folder.path(), options, size * MIB, &source) else { return };
        let text = volume.to_str().unwrap().to_owned();
        // Some go, and others take their clusters, in pieces.
        let more = folder.path().join("more.bin");
        for round in 0..12 {
            let len = 20_000 + dice.roll(90_000) as usize;
            std::fs::write(&more, dice.bytes(len)).unwrap();
            let name = |number: u64| format!("::/more-{number}.bin");
            tool("mcopy", &["-i", &text, more.to_str().unwrap(), &name(round)]).unwrap();
            if round % 3 == 2 {
                tool("mdel", &["-i", &text, &name(round - 1)]).unwrap();
            }
        }
        // What each cluster is for.
        let mut truth = BTreeMap::new();
        let (disk, found) = disk(folder.path(), &volume, dice);
        let mut tree = FileTree::open(disk.clone(), &found).unwrap();
        let mut all = Vec::new();
        tree.list(&InnerPath::root(), true, &mut |entry| {
            all.push(entry.path.to_string());
            Ok(true)
        })
        .unwrap();
        for some in all.chunks(50) {
            let arguments: Vec<String> = some.iter().map(|path| format!("::{path}")).collect();
            let arguments: Vec<&str> = ["-i", &text].into_iter().chain(arguments.iter().map(String::as_str)).collect();
            for line in printed("mshowfat", &arguments).unwrap().lines() {
                let Some((path, clusters)) = line.strip_prefix("::").and_then(|line| line.split_once(" <")) else {
                    continue;
                };
                for range in numbers(&clusters.replace("> <", ",").replace('>', "")) {
                    range.for_each(|cluster| _ = truth.insert(cluster, path.to_owned()));
                }
            }
        }
        assert!(truth.len() > 100, "{options:?}");
        let boot = std::fs::read(&volume).unwrap();
        let word = |at: usize| u64::from(u16::from_le_bytes([boot[at], boot[at + 1]]));
        let long = |at: usize| word(at) | word(at + 2) << 16;
        let (sector, per_cluster) = (word(11), u64::from(boot[13]));
        let table = if word(22) > 0 { word(22) } else { long(36) };
        let data = (word(14) + u64::from(boot[16]) * table + (word(17) * 32).div_ceil(sector)) * sector;
        let unit = sector * per_cluster;
        let count = ((if word(19) > 0 { word(19) } else { long(32) }) * sector - data) / unit;
        let clusters = some(count, dice);
        let told = of_units(&disk, &clusters, data, unit);
        for cluster in clusters {
            let [hit] = &told[&cluster][..] else { panic!("{options:?}: {:?}", told[&cluster]) };
            match truth.get(&(cluster + 2)) {
                Some(path) => assert_eq!(hit.path.as_ref().map(ToString::to_string).as_ref(), Some(path), "{hit:?}"),
                None if hit.what == HitKind::Folder => assert_eq!(hit.to_string(), "/", "{options:?}"),
                None => assert_eq!(hit.what, HitKind::Free, "{options:?} {cluster} {hit:?}"),
            }
        }
        let free = free(&disk, &found).unwrap();
        let checked = printed("fsck.fat", &["-n", "-v", &text]).unwrap();
        let used = checked.rsplit(", ").next().unwrap().split('/').next().unwrap().parse::<u64>().unwrap();
        assert_eq!(free.bytes(), (count - used) * unit, "{checked}");
        // Before the clusters.
        let front = impact(disk.clone(), &std::iter::once(START..START + data).collect(), &Progress::new()).unwrap();
        assert!(front.hits.iter().all(|hit| hit.what == HitKind::Structure || hit.to_string() == "/"), "{front:?}");
    }
}

#[test]
fn clusters_of_ntfs_are_told_as_the_hosts_tools_tell_them() {
    for (number, options) in [&["-c", "4096"][..], &["-c", "512"], &["-c", "65536"]].into_iter().enumerate() {
        let dice = &mut Dice(number as u64 + 5);
        let folder = tempfile::tempdir().unwrap();
        let seed = dice.0;
        let fill = |place: &Path| {
            let dice = &mut Dice(seed);
            grow(place, Kinds { links: false, odd_names: false, sparse: true }, 60, dice);
            shuffle(place, dice);
            // So many pieces that one record does not hold their list.
            let (one, other) = (place.join("one"), place.join("other"));
            let open = |path: &Path| std::fs::File::options().create(true).append(true).open(path).unwrap();
            for _ in 0..500 {
                for path in [&one, &other] {
                    let mut file = open(path);
                    std::io::Write::write_all(&mut file, &[9; 5000]).unwrap();
                    file.sync_all().unwrap();
                }
            }
            std::fs::remove_file(other).unwrap();
        };
        let Some(volume) = ntfs_volume(folder.path(), options, 48 * MIB, &fill) else { return };
        let text = volume.to_str().unwrap().to_owned();
        let (disk, found) = disk(folder.path(), &volume, dice);
        let unit: u64 = options[1].parse().unwrap();
        let count = 48 * MIB / unit - 1;
        // What the bitmap says is what we say.
        let bitmap = Command::new("ntfscat").args(["-f", "-i", "6", &text]).output().unwrap().stdout;
        let is_free = |cluster: u64| bitmap[(cluster / 8) as usize] & 1 << (cluster % 8) == 0;
        let truth: Ranges = (0..count)
            .filter(|cluster| is_free(*cluster))
            .map(|cluster| cluster * unit..(cluster + 1) * unit)
            .collect();
        assert_eq!(free(&disk, &found).unwrap(), truth, "{options:?}");
        let clusters = some(count, dice);
        let told = of_units(&disk, &clusters, 0, unit);
        let mut asked = 0;
        for cluster in clusters {
            let [hit] = &told[&cluster][..] else { panic!("{options:?}: {:?}", told[&cluster]) };
            assert_eq!(hit.what == HitKind::Free, is_free(cluster), "{options:?} {cluster} {hit:?}");
            // A process for each takes its time.
            if is_free(cluster) || asked == 150 {
                continue;
            }
            asked += 1;
            let said = printed("ntfscluster", &["-f", "-q", "-c", &format!("{cluster}-{cluster}"), &text]).unwrap();
            let holders: Vec<&str> = said.lines().filter(|line| line.starts_with("Inode ")).collect();
            let [holder] = holders[..] else { panic!("{said}") };
            let (inode, path) = holder.strip_prefix("Inode ").unwrap().split_once(' ').unwrap();
            let path = path.rsplit_once("/$").unwrap().0;
            match inode.parse::<u64>().unwrap() {
                5 => assert_eq!(hit.to_string(), "/"),
                ..24 => assert_eq!(hit.what, HitKind::Structure, "{holder} {hit:?}"),
                _ => assert_eq!(hit.to_string().trim_end_matches('/'), path, "{options:?} {cluster}"),
            }
        }
        assert!(asked > 100);
    }
}

/// One unit that something holds is marked as free, or a table contradicts itself otherwise.
#[test]
fn free_space_is_told_only_of_volumes_without_a_doubt() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    std::fs::create_dir(&source).unwrap();
    grow(&source, Kinds { links: false, odd_names: false, sparse: false }, 40, &mut Dice(3));
    std::fs::write(source.join("sheet.bin"), vec![0x5A; 150_000]).unwrap();
    let fill = |place: &Path| std::fs::write(place.join("sheet.bin"), vec![0x5A; 150_000]).unwrap();
    let image = folder.path().join("fen.raw");
    let asked = |bytes: &[u8]| {
        std::fs::write(&image, bytes).unwrap();
        let disk: Arc<dyn Disk> = Arc::new(Chain::open(&image, &OpenOptions::new()).unwrap());
        let volume = volumes(&*disk).unwrap().volumes.remove(0);
        let mut bytes = 0;
        let told = free_space(disk, &volume, &Progress::new(), &mut |range| {
            bytes += range.end - range.start;
            Ok(())
        });
        told.map(|()| bytes)
    };
    let refused = |bytes: &[u8], why: &str| match asked(bytes) {
        Err(Error::Inside(problem)) => assert!(problem.to_string().contains(why), "{problem}"),
        other => panic!("{why}: {other:?}"),
    };
    for options in [&["-t", "ext2", "-b", "1024"][..], &["-t", "ext4", "-b", "1024"]] {
        let Some(volume) = ext_volume(folder.path(), options, 16 * MIB, &source) else { return };
        let whole = std::fs::read(&volume).unwrap();
        assert!(asked(&whole).unwrap() > MIB);
        let bitmap = printed("dumpe2fs", &[volume.to_str().unwrap()]).unwrap();
        let bitmap = bitmap.split("lock bitmap at ").nth(1).unwrap().split([' ', ',']).next().unwrap();
        let at = bitmap.parse::<usize>().unwrap() * 1024;
        // Bit by bit: the first is the superblock's.
        for bit in [0, 70, 300, 700] {
            let mut bytes = whole.clone();
            bytes[at + bit / 8] ^= 1 << (bit % 8);
            refused(&bytes, if options[1] == "ext2" { "group 0 says" } else { "checksum" });
            // Counted the same again: another one is marked instead.
            if options[1] == "ext2" && bytes[at + bit / 8] & 1 << (bit % 8) == 0 {
                let free = (0..8000).rev().find(|bit| bytes[at + bit / 8] & 1 << (bit % 8) == 0).unwrap();
                bytes[at + free / 8] |= 1 << (free % 8);
                refused(&bytes, "is marked as free");
            }
        }
        for (at, value, why) in [(58, 0u8, "unmounted"), (58, 3, "unmounted"), (0x64 + 3, 0x80, "not known")] {
            let mut bytes = whole.clone();
            bytes[1024 + at] = value;
            refused(&bytes, why);
        }
        if options[1] == "ext4" {
            let mut bytes = whole.clone();
            bytes[1024 + 0x70] ^= 1;
            refused(&bytes, "the superblock does not match its checksum");
        }
    }
    if let Some(volume) = fat_volume(folder.path(), &["-F", "16", "-s", "1"], 14 * MIB, &source) {
        let whole = std::fs::read(&volume).unwrap();
        assert!(asked(&whole).unwrap() > MIB);
        let table = usize::from(u16::from_le_bytes([whole[14], whole[15]])) * 512;
        let len = usize::from(u16::from_le_bytes([whole[22], whole[23]])) * 512;
        let used = (3..200).find(|entry| whole[table + entry * 2] != 0xFF).unwrap();
        let mut bytes = whole.clone();
        bytes[table + used * 2..table + used * 2 + 2].fill(0);
        refused(&bytes, "differ");
        bytes[table + len + used * 2..table + len + used * 2 + 2].fill(0);
        refused(&bytes, "is marked as free");
        let mut bytes = whole;
        bytes[table + 3] &= 0x7F;
        refused(&bytes, "unmounted");
    }
    if let Some(volume) = ntfs_volume(folder.path(), &[], 16 * MIB, &fill) {
        let whole = std::fs::read(&volume).unwrap();
        assert!(asked(&whole).unwrap() > MIB);
        let text = volume.to_str().unwrap();
        let place = |file: &str| {
            let told = printed("ntfscluster", &["-f", "-F", file, text]).unwrap();
            let data = told.split("0x80 - non-resident").nth(1).unwrap();
            data.lines().nth(2).unwrap().split_whitespace().nth(1).unwrap().parse::<usize>().unwrap()
        };
        let (bitmap, sheet) = (place("$Bitmap") * 4096, place("sheet.bin"));
        let mut bytes = whole.clone();
        bytes[bitmap + sheet / 8] &= !(1 << (sheet % 8));
        refused(&bytes, "some of what /sheet.bin holds is marked as free");
        let journal = place("$LogFile") * 4096;
        let mut bytes = whole;
        bytes[journal..journal + 4].copy_from_slice(b"RSTR");
        bytes[journal + 24..journal + 26].copy_from_slice(&[48, 0]);
        bytes[journal + 48..journal + 64].fill(0);
        refused(&bytes, "journal");
    }
}

/// Block by block of an image is lost: what that hits is what lay there, and structures that lay there are not
/// believed.
#[test]
fn what_a_loss_hits_is_what_lay_there() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    std::fs::create_dir(&source).unwrap();
    grow(&source, Kinds { links: true, odd_names: false, sparse: false }, 80, &mut Dice(31));
    (0..12).for_each(|n| std::fs::write(source.join(format!("large-{n}")), Dice(n).bytes(3_000_000)).unwrap());
    // Maps of the one lie beside the files, of the other in their inodes.
    let (mut named, mut untold) = (0, 0);
    for options in [["-t", "ext2", "-b", "1024"], ["-t", "ext4", "-O", "^metadata_csum"]] {
        let Some(volume) = ext_volume(folder.path(), &options, 64 * MIB, &source) else { return };
        let place = tempfile::tempdir().unwrap();
        let image = disk_of(place.path(), &volume, "fen.vhdx", 0, &mut Dice(1));
        let whole = std::fs::read(&image).unwrap();
        const BAT: [u8; 16] = *b"\x66\x77\xC2\x2D\x23\xF6\x00\x42\x9D\x64\x11\x5E\x9B\xFD\x4A\x08";
        let region = whole.windows(16).position(|bytes| bytes == BAT).unwrap();
        let table = u64::from_le_bytes(whole[region + 16..region + 24].try_into().unwrap()) as usize;
        let (disk, _) = only_volume(&image);
        let disk: Arc<dyn Disk> = disk;
        let block = 2 * MIB;
        for number in 0..disk.virtual_size() / block {
            let at = table + number as usize * 8;
            if whole[at] & 7 != 6 {
                continue;
            }
            let range = number * block..(number + 1) * block;
            let before = impact(disk.clone(), &std::iter::once(range.clone()).collect(), &Progress::new()).unwrap();
            let damaged = place.path().join("damaged.vhdx");
            let mut bytes = whole.clone();
            bytes[at + 5] = 0x7F;
            std::fs::write(&damaged, &bytes).unwrap();
            let report = check_chain(&damaged, None).unwrap();
            assert_eq!(report.content.lost.list(), [DiskRange::from(range.clone())]);
            let after = impact_of_losses(&damaged, None, &report.content, &Progress::new()).unwrap();
            assert_eq!(after.doubtful, Impact::default());
            assert_eq!(after.lost.sums.iter().map(|sum| sum.bytes).sum::<u64>(), block, "{number}: {after:?}");
            if after.lost.doubt_count == 0 {
                assert_eq!(after.lost, before, "{number}");
                named += 1;
                continue;
            }
            untold += 1;
            // Nothing is told that was not there, and what is not told any more is told as that.
            let of = |impact: &Impact, what: HitKind| {
                impact.sums.iter().find(|sum| sum.what == what).map_or(0, |sum| sum.bytes)
            };
            // A file whose folder is lost has no name any more.
            let is_named = |hit: &&Hit| (hit.path.is_some() || hit.name.is_some()) && hit.what != HitKind::Nameless;
            for hit in after.lost.hits.iter().filter(is_named) {
                let is_same = |other: &&Hit| (&other.path, &other.name) == (&hit.path, &hit.name);
                let known = before.hits.iter().find(is_same);
                assert!(
                    known.is_some_and(|known| known.bytes >= hit.bytes) || hit.what == HitKind::Volume,
                    "{number}: {hit:?}"
                );
            }
            assert!(of(&after.lost, HitKind::Free) <= of(&before, HitKind::Free), "{number}: {after:?}");
        }
    }
    assert!(named > 5 && untold > 5, "{named} {untold}");
}
