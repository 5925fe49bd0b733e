//! Two states of a volume compared file by file, against what reading both from end to end tells.

use std::collections::BTreeMap;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::Path;

use zestful_sapling::chain::{ChainMut, OpenOptions};
use zestful_sapling::guest::{ChangedBy, Entry, EntryKind, FileChange, FileTree, InnerPath};
use zestful_sapling::ops::{CompareFiles, Derive};
use zestful_sapling::progress::Progress;

use crate::guest_trees::{
    Dice, Kinds, MIB, START, Truth, disk_of, ext_volume, fat_volume, grow, ntfs_volume, only_volume, read_all, tool,
    truths, unmount,
};
use crate::support::perform;

/// Changes a tree here and there, as somebody who works in it would.
fn work(place: &Path, kinds: Kinds, dice: &mut Dice) {
    use std::os::unix::ffi::OsStrExt;
    for step in 0..30 {
        let all: Vec<Vec<u8>> = truths(place).into_keys().collect();
        let one = place.join(std::ffi::OsStr::from_bytes(&all[dice.roll(all.len() as u64) as usize][1..]));
        if one.ends_with("lost+found") || one.is_symlink() && dice.roll(2) == 0 {
            continue;
        }
        let is_folder = one.is_dir() && !one.is_symlink();
        let open = || std::fs::File::options().write(true).open(&one).unwrap();
        match dice.roll(9) {
            0 if is_folder => grow(&one, kinds, 3, dice),
            1 if is_folder && dice.roll(3) == 0 => std::fs::remove_dir_all(&one).unwrap(),
            2 if is_folder => _ = std::fs::write(one.join(format!("new-{step}")), dice.bytes(5000)),
            _ if is_folder => {}
            3 => std::fs::remove_file(&one).unwrap(),
            4 => std::fs::rename(&one, one.with_file_name(format!("renamed-{step}"))).unwrap(),
            5 => {
                std::fs::remove_file(&one).unwrap();
                std::fs::create_dir(&one).unwrap();
                grow(&one, kinds, 3, dice);
            }
            _ if one.is_symlink() || !one.is_file() => {}
            6 => {
                // In place, and as if nobody had been there.
                let (file, meta) = (open(), one.metadata().unwrap());
                if meta.len() > 10 {
                    file.write_all_at(b"sown", dice.roll(meta.len() - 4)).unwrap();
                }
                file.set_modified(meta.modified().unwrap()).unwrap();
            }
            7 => open().set_len(dice.roll(20_000)).unwrap(),
            _ => {
                let mode = if dice.roll(2) == 0 { 0o444 } else { 0o600 };
                open().set_modified(std::time::SystemTime::now()).unwrap();
                std::fs::set_permissions(&one, std::fs::Permissions::from_mode(mode)).unwrap();
            }
        }
    }
}

/// The entries of a volume with their digests, all of it read.
fn all_of(image: &Path) -> BTreeMap<Vec<u8>, (Entry, Option<String>)> {
    let (disk, volume) = only_volume(image);
    let mut tree = FileTree::open(disk, &volume).unwrap();
    let (truths, walked) = read_all(&mut tree);
    assert_eq!(walked.left_out_count, 0, "{:?}", walked.left_out);
    let mut found = BTreeMap::new();
    tree.list(&InnerPath::root(), true, &mut |entry| {
        let digest = match &truths[entry.path.as_bytes()] {
            Truth::File { digest, .. } => Some(digest.clone()),
            _ => None,
        };
        found.insert(entry.path.as_bytes().to_vec(), (entry.clone(), digest));
        Ok(true)
    })
    .unwrap();
    found
}

/// What is expected of two trees: path, and what has become of it.
fn expected(one: &Path, other: &Path, contents: bool) -> BTreeMap<Vec<u8>, String> {
    let (was, now) = (all_of(one), all_of(other));
    let mut found = BTreeMap::new();
    for (path, (entry, digest)) in &was {
        let Some((new, new_digest)) = now.get(path) else {
            found.insert(path.clone(), "removed".to_owned());
            continue;
        };
        let is_folder = entry.kind == EntryKind::Folder && new.kind == EntryKind::Folder;
        let is_read = contents && digest.is_some() && new_digest.is_some() && entry.size == new.size;
        let mut by = Vec::new();
        by.extend((entry.kind != new.kind).then_some(ChangedBy::Kind));
        by.extend((entry.size != new.size).then_some(ChangedBy::Size));
        by.extend((entry.modified != new.modified && !is_folder && !is_read).then_some(ChangedBy::Time));
        by.extend((entry.permissions != new.permissions).then_some(ChangedBy::Permissions));
        by.extend((is_read && digest != new_digest).then_some(ChangedBy::Content));
        if !by.is_empty() {
            found.insert(path.clone(), format!("{by:?}"));
        }
    }
    found.extend(now.into_keys().filter(|path| !was.contains_key(path)).map(|path| (path, "added".to_owned())));
    found
}

fn compared(one: &Path, other: &Path, contents: bool) -> BTreeMap<Vec<u8>, String> {
    let mut found = BTreeMap::new();
    let request = CompareFiles::new(one, other).with_contents(contents);
    let (told, _) = request
        .run(&Progress::new(), &mut |change| {
            let (path, what) = match change {
                FileChange::Added(entry) => (entry.path, "added".to_owned()),
                FileChange::Removed(entry) => (entry.path, "removed".to_owned()),
                FileChange::Changed { was, now, by } => {
                    assert_eq!(was.path, now.path);
                    (now.path, format!("{by:?}"))
                }
                other => panic!("{other:?}"),
            };
            assert!(found.insert(path.as_bytes().to_vec(), what).is_none(), "{path} comes once");
            Ok(true)
        })
        .unwrap();
    assert_eq!((told.one.left_out_count, told.other.left_out_count), (0, 0), "{told:?}");
    found
}

/// A child of a disk that has the bytes of another state of its volume.
fn child_with(image: &Path, before: &[u8], after: &[u8]) -> std::path::PathBuf {
    let child = image.with_file_name("later.vhdx");
    perform(Derive::new(image, vec![child.clone()])).unwrap();
    let disk = ChainMut::open(&child, &OpenOptions::new()).unwrap();
    for (number, (old, new)) in before.chunks(4096).zip(after.chunks(4096)).enumerate() {
        if old != new {
            disk.write_at(new, START + number as u64 * 4096).unwrap();
        }
    }
    disk.close().unwrap();
    child
}

fn assert_compared(folder: &Path, before: &[u8], volume: &Path, dice: &mut Dice) -> usize {
    let after = std::fs::read(volume).unwrap();
    std::fs::write(volume, before).unwrap();
    let layers = dice.roll(2) as usize;
    let image = disk_of(folder, volume, "fen.vhdx", layers, dice);
    let child = child_with(&image, before, &after);
    // The same state in a disk of another family.
    std::fs::write(volume, &after).unwrap();
    let other = tempfile::tempdir().unwrap();
    let stranger = disk_of(other.path(), volume, "fen.vhd", 1, dice);
    let mut count = 0;
    for contents in [false, true] {
        let expected = expected(&image, &child, contents);
        let text = |found: &BTreeMap<Vec<u8>, String>| -> Vec<String> {
            found.iter().map(|(path, what)| format!("{} {what}", String::from_utf8_lossy(path))).collect()
        };
        for (name, new) in [("child", &child), ("stranger", &stranger)] {
            assert_eq!(text(&compared(&image, new, contents)), text(&expected), "{name}, contents {contents}");
        }
        assert_eq!(compared(&child, &stranger, contents), BTreeMap::new());
        count += expected.len();
    }
    count
}

#[test]
fn what_changed_is_told_as_reading_everything_tells_it() {
    let (mut found, mut rounds) = (0, 0);
    let variants: [&[&str]; 4] = [
        &["-t", "ext4"],
        &["-t", "ext4", "-b", "1024", "-O", "inline_data"],
        &["-t", "ext3", "-b", "1024"],
        &["-t", "ext2", "-O", "^filetype"],
    ];
    for (number, options) in variants.into_iter().enumerate() {
        let dice = &mut Dice(number as u64 + 900);
        let folder = tempfile::tempdir().unwrap();
        let (source, place) = (folder.path().join("source"), folder.path().join("place"));
        std::fs::create_dir(&source).unwrap();
        std::fs::create_dir(&place).unwrap();
        let kinds = Kinds { links: true, odd_names: true, sparse: true };
        grow(&source, kinds, 80, dice);
        let Some(volume) = ext_volume(folder.path(), options, 32 * MIB, &source) else { return };
        let mount = || tool("mount", &["-o", "loop", volume.to_str().unwrap(), place.to_str().unwrap()]);
        // Once before, so that what the first mount changes is there already.
        if mount() != Some(true) {
            eprintln!("skipped: nothing can be mounted here");
            break;
        }
        unmount(&place);
        let before = std::fs::read(&volume).unwrap();
        assert_eq!(mount(), Some(true));
        work(&place, kinds, dice);
        unmount(&place);
        found += assert_compared(folder.path(), &before, &volume, dice);
        rounds += 1;
    }
    let kinds = Kinds { links: false, odd_names: false, sparse: false };
    let dice = &mut Dice(77);
    let folder = tempfile::tempdir().unwrap();
    let fill = |place: &Path| grow(place, kinds, 80, &mut Dice(6));
    if let Some(volume) = ntfs_volume(folder.path(), &[], 32 * MIB, &fill) {
        let before = std::fs::read(&volume).unwrap();
        let place = folder.path().join("mounted");
        assert_eq!(tool("ntfs-3g", &[volume.to_str().unwrap(), place.to_str().unwrap()]), Some(true));
        work(&place, kinds, dice);
        unmount(&place);
        found += assert_compared(folder.path(), &before, &volume, dice);
        rounds += 1;
    }
    for options in [&["-F", "16", "-s", "2"][..], &["-F", "32", "-s", "1"]] {
        let folder = tempfile::tempdir().unwrap();
        let source = folder.path().join("source");
        std::fs::create_dir(&source).unwrap();
        grow(&source, kinds, 80, dice);
        let Some(volume) = fat_volume(folder.path(), options, 40 * MIB, &source) else { return };
        let before = std::fs::read(&volume).unwrap();
        let text = volume.to_str().unwrap();
        let more = folder.path().join("more.bin");
        std::fs::write(&more, dice.bytes(50_000)).unwrap();
        for (number, path) in std::fs::read_dir(&source).unwrap().map(|entry| entry.unwrap().path()).enumerate() {
            let name = format!("::/{}", path.file_name().unwrap().to_str().unwrap());
            match (dice.roll(6), path.is_dir()) {
                (0, false) => tool("mdel", &["-i", text, &name]),
                (1, false) => tool("mcopy", &["-o", "-i", text, more.to_str().unwrap(), &name]),
                (1, true) => tool("mcopy", &["-i", text, more.to_str().unwrap(), &format!("{name}/more.bin")]),
                (2, true) => tool("mdeltree", &["-i", text, &name]),
                (3, false) => tool("mren", &["-i", text, &name, &format!("::/renamed-{number}.bin")]),
                (4, false) => tool("mattrib", &["+r", "-i", text, &name]),
                _ => Some(true),
            };
        }
        found += assert_compared(folder.path(), &before, &volume, dice);
        rounds += 1;
    }
    assert!(found > rounds * 10, "{found} in {rounds} rounds");
}
