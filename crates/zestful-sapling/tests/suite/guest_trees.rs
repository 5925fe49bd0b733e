//! Trees of files, and volumes that the host's own tools make of them.

use std::collections::BTreeMap;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::guest::{EntryKind, FileTree, InnerPath, Volume, Walked, volumes};
use zestful_sapling::ops::{Derive, Make};

use crate::support::perform;

pub const MIB: u64 = 1 << 20;
/// Where a volume stands on its disk.
pub const START: u64 = MIB;

/// Numbers that do not repeat, the same in every run.
pub struct Dice(pub u64);

impl Dice {
    pub fn roll(&mut self, below: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let mixed = (self.0 ^ (self.0 >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        (mixed ^ (mixed >> 32)) % below.max(1)
    }

    pub fn bytes(&mut self, len: usize) -> Vec<u8> {
        (0..len.div_ceil(8)).flat_map(|_| self.roll(u64::MAX).to_le_bytes()).take(len).collect()
    }
}

/// What a file is, and what it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Truth {
    Folder,
    File { len: u64, digest: String, modified: Option<i64> },
    Link(Vec<u8>),
    Other,
}

pub type Truths = BTreeMap<Vec<u8>, Truth>;

/// What a tree may have in it.
#[derive(Clone, Copy)]
pub struct Kinds {
    pub links: bool,
    /// Names that are no Unicode, and others that only some hosts know.
    pub odd_names: bool,
    pub sparse: bool,
}

/// Grows a tree of files below a folder.
pub fn grow(root: &Path, kinds: Kinds, files: u64, dice: &mut Dice) {
    let mut folders = vec![root.to_owned()];
    for number in 0..files {
        let folder = folders[dice.roll(folders.len() as u64) as usize].clone();
        let stem = match dice.roll(6) {
            0 => format!("f{number}"),
            1 => format!("accession sheet {number} of the cold store, second copy.txt"),
            2 => format!("Käfer-{number}-苔.dat"),
            3 => format!("HF{number:05}.TXT"),
            _ => format!("tray-{number}.bin"),
        };
        let path = match dice.roll(12) {
            0 if kinds.odd_names => {
                use std::os::unix::ffi::OsStringExt;
                let name = [stem.as_bytes(), b"\xFF\n\x1B[2J"].concat();
                folder.join(std::ffi::OsString::from_vec(name))
            }
            _ => folder.join(stem),
        };
        match dice.roll(10) {
            0 | 1 => {
                std::fs::create_dir(&path).unwrap();
                folders.push(path.clone());
            }
            2 if kinds.links => {
                let target = match dice.roll(3) {
                    0 => "../../../etc/passwd".to_owned(),
                    1 => "x".repeat(59 + dice.roll(3) as usize),
                    _ => "long/".repeat(20 + dice.roll(60) as usize),
                };
                std::os::unix::fs::symlink(target, &path).unwrap();
            }
            3 if kinds.sparse => {
                let file = std::fs::File::create(&path).unwrap();
                for _ in 0..dice.roll(5) {
                    let at = dice.roll(3000) * 1024;
                    let len = dice.roll(9000) as usize;
                    file.write_all_at(&dice.bytes(len), at).unwrap();
                }
                file.set_len(file.metadata().unwrap().len().max(dice.roll(5) * MIB)).unwrap();
            }
            _ => {
                let len = match dice.roll(6) {
                    0 => 0,
                    1 => dice.roll(60),
                    2 => dice.roll(700),
                    3 => dice.roll(300_000),
                    _ => dice.roll(9000),
                };
                std::fs::write(&path, dice.bytes(len as usize)).unwrap();
            }
        }
        if path.is_file() && !path.is_symlink() {
            let seconds = 1_700_000_000 + dice.roll(80_000_000) / 2 * 2;
            let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
            std::fs::File::options().append(true).open(&path).unwrap().set_modified(time).unwrap();
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o640)).unwrap();
        }
    }
}

/// What the host sees below a folder.
pub fn truths(root: &Path) -> Truths {
    use std::os::unix::ffi::OsStrExt;
    let (mut found, mut folders) = (Truths::new(), vec![root.to_owned()]);
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let meta = path.symlink_metadata().unwrap();
            let truth = if meta.is_dir() {
                folders.push(path.clone());
                Truth::Folder
            } else if meta.is_symlink() {
                Truth::Link(std::fs::read_link(&path).unwrap().as_os_str().as_bytes().to_vec())
            } else if meta.is_file() {
                let digest = blake3::hash(&std::fs::read(&path).unwrap()).to_hex().to_string();
                Truth::File { len: meta.len(), digest, modified: Some(meta.mtime()) }
            } else {
                Truth::Other
            };
            let name = [b"/", path.strip_prefix(root).unwrap().as_os_str().as_bytes()].concat();
            found.insert(name, truth);
        }
    }
    found
}

/// What is found inside a volume, all of it read; and what was left out.
pub fn read_all(tree: &mut FileTree) -> (Truths, Walked) {
    let mut found = Truths::new();
    let walked = tree.walk(&InnerPath::root(), true, &mut |item| {
        let entry = item.entry().clone();
        let truth = match entry.kind {
            EntryKind::Folder => Truth::Folder,
            EntryKind::Link => Truth::Link(item.target()?),
            EntryKind::File => {
                let (mut digest, mut end) = (blake3::Hasher::new(), 0);
                let zeros = |digest: &mut blake3::Hasher, len: u64| {
                    for _ in 0..len / 4096 {
                        digest.update(&[0; 4096]);
                    }
                    digest.update(&vec![0; (len % 4096) as usize]);
                };
                item.read(&mut |at, bytes| {
                    assert!(at >= end, "the content goes upwards");
                    zeros(&mut digest, at - end);
                    digest.update(bytes);
                    end = at + bytes.len() as u64;
                    Ok(())
                })?;
                let len = entry.size.unwrap();
                assert!(end <= len, "{} is no longer than it says", entry.path);
                zeros(&mut digest, len - end);
                let modified = entry.modified.map(|time| time.as_second());
                Truth::File { len, digest: digest.finalize().to_hex().to_string(), modified }
            }
            _ => Truth::Other,
        };
        assert!(found.insert(entry.path.as_bytes().to_vec(), truth).is_none(), "{} comes once", entry.path);
        Ok(true)
    });
    (found, walked.unwrap())
}

/// Runs a tool of the host; `None` when it has none of that name.
pub fn tool(name: &str, arguments: &[&str]) -> Option<bool> {
    let mut command = Command::new(name);
    let paths = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    command.args(arguments).env("PATH", paths).env("LC_ALL", "C.UTF-8").env("TZ", "UTC").env("MTOOLS_SKIP_CHECK", "1");
    match command.stdin(Stdio::null()).output() {
        Ok(output) => {
            if !output.status.success() {
                let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
                eprintln!("{name} {arguments:?}: {}{}", text(&output.stdout), text(&output.stderr));
            }
            Some(output.status.success())
        }
        Err(_) => {
            eprintln!("skipped: there is no {name} here");
            None
        }
    }
}

/// A volume in a file, formatted and filled by the host's tools; `None` where a tool is missing.
pub fn ext_volume(folder: &Path, options: &[&str], size: u64, tree: &Path) -> Option<PathBuf> {
    let file = folder.join("volume");
    std::fs::File::create(&file).unwrap().set_len(size).unwrap();
    let (file_text, tree) = (file.to_str().unwrap(), tree.to_str().unwrap());
    let all = [&["-q", "-F", "-L", "fen", "-d", tree][..], options, &[file_text]].concat();
    assert!(tool("mke2fs", &all)?, "mke2fs {all:?}");
    Some(file)
}

pub fn fat_volume(folder: &Path, options: &[&str], size: u64, tree: &Path) -> Option<PathBuf> {
    let file = folder.join("volume");
    std::fs::File::create(&file).unwrap().set_len(size).unwrap();
    let text = file.to_str().unwrap();
    assert!(tool("mkfs.fat", &[&["-n", "FEN"][..], options, &[text]].concat())?);
    let mut entries: Vec<String> =
        std::fs::read_dir(tree).unwrap().map(|entry| entry.unwrap().path().to_str().unwrap().to_owned()).collect();
    entries.sort();
    if !entries.is_empty() {
        let entries: Vec<&str> = entries.iter().map(String::as_str).collect();
        assert!(tool("mcopy", &[&["-s", "-Q", "-m", "-i", text][..], &entries, &["::/"]].concat())?);
    }
    Some(file)
}

/// Filled by a mount, for which one must be root.
pub fn ntfs_volume(folder: &Path, options: &[&str], size: u64, fill: &dyn Fn(&Path)) -> Option<PathBuf> {
    let file = folder.join("volume");
    std::fs::File::create(&file).unwrap().set_len(size).unwrap();
    let text = file.to_str().unwrap();
    assert!(tool("mkntfs", &[&["-F", "-q", "-Q", "-L", "fen"][..], options, &[text]].concat())?);
    let mount = folder.join("mounted");
    std::fs::create_dir(&mount).unwrap();
    let place = mount.to_str().unwrap();
    if !tool("ntfs-3g", &["-o", "compression", text, place])? {
        eprintln!("skipped: NTFS cannot be mounted here");
        return None;
    }
    fill(&mount);
    unmount(&mount);
    Some(file)
}

/// A program that another test starts has copies of our open files for a moment, and keeps a mount busy.
pub fn unmount(place: &Path) {
    let is_done = (0..100).any(|_| {
        let done = tool("umount", &[place.to_str().unwrap()]).unwrap();
        std::thread::sleep(std::time::Duration::from_millis(if done { 0 } else { 50 }));
        done
    });
    assert!(is_done, "{} stays mounted", place.display());
}

/// A disk with a volume on it, in a format, with as many layers on top: the lower ones hold other bytes where the upper
/// ones have the right ones.
pub fn disk_of(folder: &Path, volume: &Path, name: &str, layers: usize, dice: &mut Dice) -> PathBuf {
    let content = std::fs::read(volume).unwrap();
    let size = (START + content.len() as u64 + MIB).next_multiple_of(MIB);
    let base = folder.join(name);
    perform(Make::new(&base, size)).unwrap();
    let mut image = base.clone();
    let mut table = vec![0; 1 << 20];
    let entry = |bytes: &mut [u8]| {
        bytes[446..462].copy_from_slice(&[0, 0, 0, 0, 0x83, 0, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0]);
        bytes[458..462].copy_from_slice(&((content.len() / 512) as u32).to_le_bytes());
        bytes[510..512].copy_from_slice(&[0x55, 0xAA]);
    };
    entry(&mut table);
    let piece = 64 << 10;
    // The layer from which each piece comes.
    let of: Vec<usize> = content.chunks(piece).map(|_| dice.roll(layers as u64 + 1) as usize).collect();
    for layer in 0..=layers {
        if layer > 0 {
            let child = folder.join(format!("{layer}-{}", name.replace(".raw", ".vhdx")));
            perform(Derive::new(&image, vec![child.clone()])).unwrap();
            image = child;
        }
        let disk = ChainMut::open(&image, &OpenOptions::new()).unwrap();
        if layer == 0 {
            disk.write_at(&table[..512], 0).unwrap();
        }
        for (number, bytes) in content.chunks(piece).enumerate() {
            let at = START + (number * piece) as u64;
            if of[number] == layer && (layer > 0 || bytes.iter().any(|byte| *byte != 0)) {
                disk.write_at(bytes, at).unwrap();
            } else if of[number] > layer && dice.roll(2) == 0 {
                disk.write_at(&vec![0xA5; bytes.len()], at).unwrap();
            }
        }
        disk.close().unwrap();
    }
    image
}

/// A part of a disk, as a sparse file for the host's tools.
pub fn write_out(disk: &dyn Disk, start: u64, len: u64, to: &Path) {
    let file = std::fs::File::create(to).unwrap();
    file.set_len(len).unwrap();
    let mut bytes = vec![0; MIB as usize];
    let mut at = 0;
    while at < len {
        let status = disk.status_at(start + at, (len - at).min(MIB)).unwrap();
        let part = &mut bytes[..status.len as usize];
        if !status.is_hole {
            disk.read_at(part, start + at).unwrap();
            for (number, piece) in part.chunks(4096).enumerate().filter(|(_, piece)| piece.iter().any(|b| *b != 0)) {
                file.write_all_at(piece, at + 4096 * number as u64).unwrap();
            }
        }
        at += status.len;
    }
}

/// The only volume of a disk.
pub fn only_volume(path: &Path) -> (Arc<Chain>, Volume) {
    let disk = Arc::new(Chain::open(path, &OpenOptions::new()).unwrap());
    let found = volumes(&*disk).unwrap();
    assert_eq!((found.volumes.len(), found.problems.len()), (1, 0));
    let volume = found.volumes[0].clone();
    assert_eq!((volume.number, volume.start), (1, START));
    assert!(volume.len <= disk.virtual_size() - START);
    (disk, volume)
}
