//! Files that were deleted, against what they held when they were.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, InsideProblemKind};
use zestful_sapling::guest::{Certainty, DeletedFile, FileTree, InnerPath, volumes};
use zestful_sapling::ops::{Deleted, DeletedFiles, Derive, TakeOut};
use zestful_sapling::progress::Progress;

use crate::guest_trees::{Dice, MIB, START, disk_of, ext_volume, fat_volume, ntfs_volume, tool, unmount};
use crate::support::perform;

/// Every content that a file of this path had when it was deleted, the last one last.
type Gone = BTreeMap<String, Vec<Vec<u8>>>;

/// More histories when `ZSAP_HISTORIES` says how many, from the one on that `ZSAP_HISTORIES_FIRST` says.
fn histories(usual: u64) -> std::ops::Range<u64> {
    let said = |name: &str| std::env::var(name).ok().and_then(|count| count.parse().ok());
    let first = said("ZSAP_HISTORIES_FIRST").unwrap_or(0);
    first..first + said("ZSAP_HISTORIES").unwrap_or(usual)
}

/// What is left of deleted files in a volume, with what lies where they lay.
fn left(volume: &Path) -> Vec<(DeletedFile, Option<Vec<u8>>)> {
    let raw = volume.with_extension("raw");
    std::fs::copy(volume, &raw).unwrap();
    let disk: Arc<dyn Disk> = Arc::new(Chain::open(&raw, &OpenOptions::new()).unwrap());
    let volume = volumes(&*disk).unwrap().volumes.remove(0);
    let mut tree = FileTree::open(disk, &volume).unwrap();
    let files = tree.deleted(&Progress::new()).unwrap();
    assert!(files.windows(2).all(|pair| pair[0].modified >= pair[1].modified));
    let read = |file: DeletedFile| {
        let mut bytes = vec![0; file.size as usize];
        let read = tree.read_deleted(&file, &mut |at, part| {
            bytes[at as usize..][..part.len()].copy_from_slice(part);
            Ok(())
        });
        match read {
            Ok(()) => (file, Some(bytes)),
            Err(Error::Inside(_)) => (file, None),
            Err(other) => panic!("{other}"),
        }
    };
    files.into_iter().map(read).collect()
}

/// One step in the life of a volume; what is deleted is noted.
fn step(place: &Path, files: &mut BTreeMap<String, Vec<u8>>, gone: &mut Gone, number: u64, dice: &mut Dice) {
    let some = |files: &BTreeMap<String, Vec<u8>>, dice: &mut Dice| {
        files.keys().nth(dice.roll(files.len().max(1) as u64) as usize).cloned()
    };
    let len = [30, 300, 5_000, 70_000, 400_000][dice.roll(5) as usize];
    let path = |name: &str| place.join(&name[1..]);
    match (dice.roll(8), some(files, dice)) {
        (0..=2, _) => {
            let folder = ["", "/tray", "/tray/deep"][dice.roll(3) as usize];
            let name = format!("{folder}/sheet-{number}.bin");
            files.insert(name.clone(), dice.bytes(len));
            std::fs::create_dir_all(path(&format!("{folder}/"))).unwrap();
            // A volume that is full is as good.
            if std::fs::write(path(&name), &files[&name]).is_err() {
                files.remove(&name);
                _ = std::fs::remove_file(path(&name));
            }
        }
        (3, Some(name)) => {
            let content = files.get_mut(&name).unwrap();
            let more = dice.bytes(len);
            let mut file = std::fs::File::options().append(true).open(path(&name)).unwrap();
            if std::io::Write::write_all(&mut file, &more).is_ok() {
                content.extend(more);
            } else {
                file.set_len(content.len() as u64).unwrap();
            }
        }
        (4, Some(name)) if number.is_multiple_of(2) => {
            // Times that somebody sets say nothing.
            let far = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_000_000_000 + dice.roll(4_000_000_000));
            std::fs::File::options().append(true).open(path(&name)).unwrap().set_modified(far).unwrap();
        }
        (4, Some(name)) => {
            let content = files.get_mut(&name).unwrap();
            content.truncate(dice.roll(content.len() as u64 + 1) as usize);
            std::fs::File::options().write(true).open(path(&name)).unwrap().set_len(content.len() as u64).unwrap();
        }
        (5, Some(name)) => {
            let content = files.remove(&name).unwrap();
            let new = format!("{}-{number}", name.trim_end_matches(".bin"));
            std::fs::rename(path(&name), path(&new)).unwrap();
            files.insert(new, content);
        }
        (_, Some(name)) => {
            std::fs::remove_file(path(&name)).unwrap();
            gone.entry(name.clone()).or_default().push(files.remove(&name).unwrap());
        }
        _ => {}
    }
}

#[test]
fn what_ntfs_leaves_of_deleted_files_is_told_truly() {
    let (mut sure, mut unsure, mut lost, mut back) = (0, 0, 0, 0);
    let folder = tempfile::tempdir().unwrap();
    let Some(blank) = ntfs_volume(folder.path(), &[], 8 * MIB, &|_| {}) else { return };
    let blank_bytes = std::fs::read(&blank).unwrap();
    let place = folder.path().join("mounted");
    for number in histories(16) {
        let dice = &mut Dice(number * 31 + 5);
        std::fs::write(&blank, &blank_bytes).unwrap();
        let mount = || {
            let done = tool("ntfs-3g", &[blank.to_str().unwrap(), place.to_str().unwrap()]);
            assert_eq!(done, Some(true));
        };
        let (mut files, mut gone) = (BTreeMap::new(), Gone::new());
        for life in 0..2 {
            mount();
            for n in 0..8 + dice.roll(20) {
                step(&place, &mut files, &mut gone, life * 100 + n, dice);
            }
            unmount(&place);
        }
        // Nothing is written after these have gone.
        let mut last = BTreeMap::new();
        if number % 2 == 0 {
            mount();
            let names: Vec<String> = files.keys().filter(|_| dice.roll(2) == 0).cloned().collect();
            for name in names {
                std::fs::remove_file(place.join(&name[1..])).unwrap();
                let content = files.remove(&name).unwrap();
                gone.entry(name.clone()).or_default().push(content.clone());
                last.insert(name, content);
            }
            unmount(&place);
        }
        for (file, content) in left(&blank) {
            let path = file.path.to_string();
            let path = match path.starts_with("/(unknown folder)/(record ") {
                // A name that stood in another record goes with that.
                true => gone.iter().find(|(_, was)| content.as_ref().is_some_and(|content| was.contains(content))),
                false => gone.get_key_value(path.split(" (").next().unwrap()),
            };
            let path = path.map(|(path, _)| path.clone()).unwrap_or_default();
            match file.certainty {
                Certainty::Sure => {
                    sure += 1;
                    let was = gone.get(&path).unwrap_or_else(|| panic!("{number}: {file:?}"));
                    assert!(was.contains(content.as_ref().unwrap()), "{number}: {file:?} is not sure");
                }
                Certainty::Lost => {
                    assert_eq!(content, None);
                    lost += 1;
                }
                _ => unsure += 1,
            }
            if last.get(&path).is_some_and(|last| Some(last) == content.as_ref()) {
                last.remove(&path);
                back += 1;
            }
        }
        assert!(last.is_empty(), "{number}: {:?} did not come back", last.keys());
    }
    println!("{sure} sure, {unsure} unsure, {lost} lost, {back} came back");
    assert!(sure > 5 && unsure > 5 && lost > 0 && back > 5, "{sure} {unsure} {lost} {back}");
}

/// A file that somebody dated into the future is not younger than what was written after it was gone.
#[test]
fn a_date_in_the_future_makes_nobody_sure() {
    let folder = tempfile::tempdir().unwrap();
    let Some(blank) = ntfs_volume(folder.path(), &[], 8 * MIB, &|_| {}) else { return };
    let place = folder.path().join("mounted");
    let mount = || assert_eq!(tool("ntfs-3g", &[blank.to_str().unwrap(), place.to_str().unwrap()]), Some(true));
    let write = |name: &str| std::fs::write(place.join(name), [7; 9000]).unwrap();
    mount();
    write("dated.bin");
    write("other.bin");
    let far = std::time::SystemTime::now() + std::time::Duration::from_secs(100 << 20);
    std::fs::File::options().append(true).open(place.join("dated.bin")).unwrap().set_modified(far).unwrap();
    std::thread::sleep(std::time::Duration::from_millis(20));
    std::fs::write(place.join("other.bin"), [8; 9000]).unwrap();
    std::thread::sleep(std::time::Duration::from_millis(20));
    std::fs::remove_file(place.join("dated.bin")).unwrap();
    unmount(&place);
    mount();
    std::fs::write(place.join("other.bin"), [9; 9000]).unwrap();
    unmount(&place);
    let found = left(&blank);
    let (dated, _) = found.iter().find(|(file, _)| file.path.to_string() == "/dated.bin").unwrap();
    assert_ne!(dated.certainty, Certainty::Sure, "{dated:?}");
}

#[test]
fn what_fat_leaves_of_deleted_files_is_never_sure() {
    let (mut back, mut lost) = (0, 0);
    for number in histories(6) {
        let dice = &mut Dice(number + 44);
        let folder = tempfile::tempdir().unwrap();
        let source = folder.path().join("source");
        let name = |number: u64| match number % 3 {
            0 => format!("HF{number:04}.TXT"),
            1 => format!("a longer name of sheet {number}, Käfer 苔.bin"),
            _ => format!("tray/in a folder {number}.bin"),
        };
        std::fs::create_dir_all(source.join("tray")).unwrap();
        let mut files = BTreeMap::new();
        for number in 0..20 {
            let len = dice.roll(60_000) as usize + 1;
            files.insert(name(number), dice.bytes(len));
            std::fs::write(source.join(name(number)), &files[&name(number)]).unwrap();
        }
        let options = [&["-F", "16", "-s", "1"][..], &["-F", "32", "-s", "1"], &["-F", "12"]][number as usize % 3];
        let size = [14, 40, 6][number as usize % 3] * MIB;
        let Some(volume) = fat_volume(folder.path(), options, size, &source) else { return };
        let text = volume.to_str().unwrap();
        let mut gone = BTreeMap::new();
        for number in 0..20 {
            if dice.roll(2) == 0 {
                assert_eq!(tool("mdel", &["-i", text, &format!("::/{}", name(number))]), Some(true));
                gone.insert(name(number), files[&name(number)].clone());
            }
        }
        let found: BTreeMap<String, _> =
            left(&volume).into_iter().map(|(file, content)| (file.path.to_string(), (file, content))).collect();
        for (name, content) in &gone {
            // The first letter of a short name alone is gone.
            let short = format!("/_{}", &name[1..]);
            let (file, left) = found.get(&format!("/{name}")).or_else(|| found.get(&short)).unwrap();
            assert_eq!((file.certainty, left.as_ref()), (Certainty::Unsure, Some(content)), "{name}");
            back += 1;
        }
        // Something comes into their places.
        let more = folder.path().join("more.bin");
        std::fs::write(&more, dice.bytes(90_000)).unwrap();
        assert_eq!(tool("mcopy", &["-i", text, more.to_str().unwrap(), "::/more.bin"]), Some(true));
        for (file, content) in left(&volume) {
            assert_ne!(file.certainty, Certainty::Sure);
            lost += usize::from(file.certainty == Certainty::Lost && content.is_none());
        }
    }
    assert!(back > 30 && lost > 3, "{back} {lost}");
}

/// An older layer has the file for certain, in any file system.
#[test]
fn what_an_older_layer_holds_is_told_first() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    std::fs::create_dir_all(source.join("etc")).unwrap();
    let content = Dice(3).bytes(70_000);
    for name in ["etc/sown.conf", "etc/kept.conf", "early.bin", "late.bin"] {
        std::fs::write(source.join(name), &content).unwrap();
    }
    let Some(volume) = ext_volume(folder.path(), &["-t", "ext4", "-b", "1024"], 16 * MIB, &source) else { return };
    let mut image = disk_of(folder.path(), &volume, "fen.vhdx", 0, &mut Dice(1));
    let base = image.clone();
    let mut layers = vec![image.clone()];
    for (number, gone) in [&["/early.bin"][..], &["/late.bin", "/etc/sown.conf"]].iter().enumerate() {
        let before = std::fs::read(&volume).unwrap();
        for name in *gone {
            assert_eq!(tool("debugfs", &["-w", "-R", &format!("rm {name}"), volume.to_str().unwrap()]), Some(true));
        }
        let child = folder.path().join(format!("layer-{number}.vhdx"));
        perform(Derive::new(&image, vec![child.clone()])).unwrap();
        let disk = ChainMut::open(&child, &OpenOptions::new()).unwrap();
        let after = std::fs::read(&volume).unwrap();
        for (number, (old, new)) in before.chunks(4096).zip(after.chunks(4096)).enumerate() {
            if old != new {
                disk.write_at(new, START + number as u64 * 4096).unwrap();
            }
        }
        disk.close().unwrap();
        image = child.clone();
        layers.push(child);
    }
    let found = DeletedFiles::new(&image).find(&Progress::new()).unwrap();
    let told: BTreeMap<String, _> = found
        .files
        .iter()
        .map(|file| match file {
            Deleted::Held(layer, entry) => (entry.path.to_string(), layer.clone()),
            Deleted::Left(file) => panic!("{file:?}"),
        })
        .collect();
    let expected = [("/early.bin", &base), ("/etc/sown.conf", &layers[1]), ("/late.bin", &layers[1])];
    assert_eq!(told, expected.iter().map(|(path, layer)| ((*path).to_owned(), (*layer).clone())).collect());
    let path = |text: &str| InnerPath::parse(text.as_bytes()).unwrap();
    let into = folder.path().join("into");
    let taken =
        perform(TakeOut::new(&image, vec![path("/early.bin"), path("/etc/sown.conf")], &into).with_deleted(true));
    assert_eq!(taken.unwrap().files, 2);
    for name in ["early.bin", "sown.conf"] {
        assert!(std::fs::read(into.join(name)).unwrap() == content, "{name}");
    }
    let other = TakeOut::new(&image, vec![path("/etc/kept.conf")], &into).with_deleted(true);
    match perform(other) {
        Err(Error::Inside(problem)) => assert!(matches!(problem.kind, InsideProblemKind::NotFound { .. })),
        other => panic!("{other:?}"),
    }
}

/// What is left in the volume itself is taken out when it may be it, and refused when it is lost.
#[test]
fn what_is_left_is_taken_out() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    std::fs::create_dir(&source).unwrap();
    let content = Dice(9).bytes(30_000);
    std::fs::write(source.join("a sheet.bin"), &content).unwrap();
    std::fs::write(source.join("b sheet.bin"), &content).unwrap();
    let Some(volume) = fat_volume(folder.path(), &["-F", "16", "-s", "1"], 14 * MIB, &source) else { return };
    let text = volume.to_str().unwrap();
    assert_eq!(tool("mdel", &["-i", text, "::/a sheet.bin"]), Some(true));
    let take = |path: &str| {
        let place = tempfile::tempdir().unwrap();
        let image = disk_of(place.path(), &volume, "fen.vhdx", 0, &mut Dice(1));
        let path = InnerPath::parse(path.as_bytes()).unwrap();
        let into = place.path().join("into");
        let outcome = perform(TakeOut::new(&image, vec![path], &into).with_deleted(true));
        outcome.map(|outcome| (outcome.files, std::fs::read(into.join("a sheet.bin")).unwrap()))
    };
    assert_eq!(take("/a sheet.bin").unwrap(), (1, content));
    std::fs::write(folder.path().join("more"), [7; 9000]).unwrap();
    let more = folder.path().join("more");
    // It takes the first clusters that are free, and the entry of the long name.
    assert_eq!(tool("mcopy", &["-o", "-i", text, more.to_str().unwrap(), "::/c.bin"]), Some(true));
    let (file, _) = left(&volume).remove(0);
    assert_eq!((file.path.to_string(), file.certainty), ("/_SHEET~1.BIN".to_owned(), Certainty::Lost));
    match take("/_SHEET~1.BIN") {
        Err(Error::Inside(problem)) => assert!(matches!(problem.kind, InsideProblemKind::Lost(_)), "{problem}"),
        other => panic!("{other:?}"),
    }
}
