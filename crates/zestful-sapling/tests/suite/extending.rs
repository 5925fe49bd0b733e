//! The file system of a volume follows its disk: the host's own checker is content with it, in every state that a loss
//! of power leaves once what was begun is carried on or given up.

use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use zestful_sapling::chain::{Chain, Disk, OpenOptions, SharedDisk};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::guest::{FileTree, PartitionTable, volumes};
use zestful_sapling::image::Kind;
use zestful_sapling::ops::{
    Derive, Make, NewFileSystem, NewImage, NewSize, NewVolume, PartitionToExtend, Prepare, Resize, ShowVolume,
    VolumeSize,
};
use zestful_sapling::storage::testing::{Fault, HostRecorder};

use crate::family_model::quick_folder;
use crate::guest_trees::{Dice, Kinds, MIB, Truths, grow, read_all, tool, truths, write_out};
use crate::sidecars::journal_of;
use crate::support::{abandon, check_chain, perform, resume};

const SIZE: u64 = 24 * MIB;
const NEW_SIZE: u64 = 72 * MIB;

/// Shows a volume as a copy of it in a folder, whose changes go back into the disk.
#[derive(Debug)]
struct AsACopy;

impl ShowVolume for AsACopy {
    fn show(
        &self,
        disk: Arc<SharedDisk>,
        partition: Option<u32>,
        work: &mut dyn FnMut(&Path) -> zestful_sapling::Result<()>,
    ) -> zestful_sapling::Result<()> {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("volume");
        let found = disk.partitions().unwrap();
        let part = found.usable.iter().find(|one| Some(one.number) == partition);
        let (start, len) = part.map_or((0, disk.virtual_size()), |one| (one.start, one.len));
        let mut before = vec![0; len as usize];
        disk.read_at(&mut before, start).unwrap();
        std::fs::write(&file, &before).unwrap();
        work(&file)?;
        let after = std::fs::read(&file).unwrap();
        for (number, (new, old)) in after.chunks(4096).zip(before.chunks(4096)).enumerate() {
            if new != old {
                disk.write_at(new, start + number as u64 * 4096)?;
            }
        }
        Ok(())
    }
}

struct Scene {
    folder: tempfile::TempDir,
    path: PathBuf,
    files: Truths,
    /// Where what is looked at is laid out.
    aside: tempfile::TempDir,
}

fn has_tools() -> bool {
    let has = |name: &&str| ["/usr/sbin", "/sbin", "/usr/bin"].iter().any(|at| Path::new(at).join(name).exists());
    let all = ["mkfs.ext4", "e2fsck", "resize2fs"].iter().all(has);
    if !all {
        eprintln!("skipped: this host makes and checks no ext4");
    }
    all
}

impl Scene {
    /// A disk with an ext4 of 12 MiB, in the last partition or on the whole of it.
    fn new(form: Form, table: PartitionTable) -> Self {
        let (format, kind, sectors, child) = form;
        let (folder, source) = (quick_folder(), tempfile::tempdir().unwrap());
        let kinds = Kinds { links: true, odd_names: false, sparse: false };
        grow(source.path(), kinds, 12, &mut Dice(18));
        let mut path = folder.path().canonicalize().unwrap().join(format!("herbarium.{format}"));
        let new = sectors.into_iter().fold(NewImage::new().with_kind(kind), NewImage::with_sectors);
        perform(Make::new(&path, SIZE).with_image(new)).unwrap();
        if child {
            let new = path.with_file_name(format!("child.{format}"));
            perform(Derive::new(&path, vec![new.clone()])).unwrap();
            path = new;
        }
        let volume = NewVolume::new(VolumeSize::Bytes(12 * MIB), NewFileSystem::Ext4).with_fill(source.path());
        let before = NewVolume::new(VolumeSize::Bytes(4 * MIB), NewFileSystem::Fat);
        perform(Prepare::new(&path).with_table(table).with_volume(before).with_volume(volume)).unwrap();
        Self { folder, path, files: truths(source.path()), aside: tempfile::tempdir().unwrap() }
    }

    fn perform(&self) -> zestful_sapling::Result<()> {
        let resize = Resize::new(&self.path).with_size(NewSize::To(NEW_SIZE));
        let resize = resize.with_extended_partition(PartitionToExtend::Last).with_extended_volume(Arc::new(AsACopy));
        perform(resize.with_scratch(self.aside.path())).map(|_| ())
    }

    fn is_under_way(&self) -> bool {
        journal_of(&self.path).exists()
    }

    /// The checker is content, every file is there, and the file system is as large as the disk says; its size.
    fn judge(&self, when: &str) -> u64 {
        let disk = Arc::new(Chain::open(&self.path, &OpenOptions::new()).unwrap_or_else(|e| panic!("{when}: {e}")));
        let found = volumes(&*disk).unwrap();
        let volume = found.volumes[1].clone();
        let size = disk.virtual_size();
        let file = self.aside.path().join("volume");
        write_out(&*disk, volume.start, volume.len, &file);
        assert_eq!(tool("e2fsck", &["-fn", file.to_str().unwrap()]), Some(true), "{when}");
        let own = volume.content.as_ref().unwrap().size.unwrap();
        match size == NEW_SIZE {
            true => assert!(volume.len - own < 64 << 10 && own > 50 * MIB, "{when}: {volume:?}"),
            false => assert_eq!((size, own), (SIZE, 12 * MIB), "{when}"),
        }
        let (mut files, walked) = read_all(&mut FileTree::open(disk, &volume).unwrap());
        files.remove(&b"/lost+found"[..]);
        assert!(walked.left_out.is_empty(), "{when}: {walked:?}");
        assert!(files == self.files, "{when}: the files are others");
        assert!(!check_chain(&self.path, None).unwrap().has_damage(), "{when}");
        let names = std::fs::read_dir(self.folder.path()).unwrap().map(|entry| entry.unwrap().file_name());
        let left = names.filter(|name| name.to_string_lossy().contains(".zsap.redo")).count();
        assert!(self.is_under_way() || left == 0 || size == SIZE, "{when}: what was to be written is left");
        size
    }
}

/// The format, the kind, the sectors, and whether the disk is a child of another.
type Form = (&'static str, Kind, Option<(u32, u32)>, bool);

const FORMS: [Form; 4] = [
    ("vhdx", Kind::Dynamic, Some((4096, 4096)), true),
    ("vhd", Kind::Dynamic, None, true),
    ("raw", Kind::Fixed, None, false),
    ("vhd", Kind::Fixed, None, false),
];

#[test]
fn every_crash_state_leads_to_a_whole_file_system() {
    if !has_tools() {
        return;
    }
    let (mut states, mut sizes) = (0, [0, 0]);
    // The others are gone through with plain disks.
    let forms = [(FORMS[0], PartitionTable::Gpt), (FORMS[1], PartitionTable::Mbr), (FORMS[3], PartitionTable::Gpt)];
    for (form, table) in forms {
        let scene = Scene::new(form, table);
        assert_eq!(scene.judge("before"), SIZE);
        let recorder = HostRecorder::start(scene.folder.path()).unwrap();
        scene.perform().unwrap();
        assert_eq!(scene.judge(&format!("{form:?} {table}")), NEW_SIZE);
        let found = recorder.crash_states(3, 0).unwrap();
        recorder.stop();
        let mut last = None;
        for (number, (issued, state)) in found.into_iter().enumerate() {
            // What differs between two states of the same moment was judged with plain disks.
            if last.replace(issued) == Some(issued) {
                continue;
            }
            recorder.restore(&state).unwrap();
            let when = format!("{form:?} {table} after {issued} ({number})");
            if scene.is_under_way() {
                let given_up = (number % 2 == 1).then(|| abandon(&scene.path, &[]));
                let goes_on =
                    matches!(given_up, None | Some(Err(Error::Refused(Refusal::UnderWay { must_go_on: true, .. }, _))));
                match goes_on {
                    true => _ = resume(&scene.path, &[]).unwrap_or_else(|error| panic!("{when}: {error}")),
                    false => _ = given_up.unwrap().unwrap_or_else(|error| panic!("{when}: {error}")),
                }
            }
            sizes[usize::from(scene.judge(&when) == NEW_SIZE)] += 1;
            states += 1;
        }
    }
    println!("{states} states, {sizes:?}");
    assert!(states > 100 && sizes.iter().all(|count| *count > 20), "{states} {sizes:?}");
}

#[test]
fn a_host_that_is_full_loses_nothing() {
    if !has_tools() {
        return;
    }
    let (mut failures, mut as_before) = (0, 0);
    for form in [FORMS[0], FORMS[3]] {
        let scene = Scene::new(form, PartitionTable::Gpt);
        let recorder = HostRecorder::start(scene.folder.path()).unwrap();
        let mut number = 0;
        loop {
            recorder.rewind().unwrap();
            recorder.fail_once(number, Fault::Error(28));
            let ended = scene.perform();
            let asked = recorder.asked();
            let when = format!("{form:?} change {number}: {ended:?}");
            if scene.is_under_way() {
                resume(&scene.path, &[]).unwrap_or_else(|error| panic!("{when}: {error}"));
            }
            as_before += usize::from(scene.judge(&when) == SIZE);
            if asked <= number {
                assert!(ended.is_ok(), "{when}");
                break;
            }
            failures += 1;
            // Most changes are pieces of the same kind.
            number += if number > 12 { 3 } else { 1 };
        }
    }
    println!("{failures} failures, {as_before} as before");
    assert!(failures > 40 && as_before > 20, "{failures} {as_before}");
}

/// What the file beside the image is to write is never written when it is not what was kept there.
#[test]
fn a_kept_difference_that_was_changed_is_not_written() {
    if !has_tools() {
        return;
    }
    let scene = Scene::new(FORMS[0], PartitionTable::Gpt);
    let recorder = HostRecorder::start(scene.folder.path()).unwrap();
    scene.perform().unwrap();
    let found = recorder.crash_states(3, 0).unwrap();
    recorder.stop();
    let redo = PathBuf::from(format!("{}.zsap.redo", scene.path.display()));
    for (issued, state) in found {
        recorder.restore(&state).unwrap();
        if !scene.is_under_way() || !redo.exists() {
            continue;
        }
        let file = std::fs::File::options().read(true).write(true).open(&redo).unwrap();
        let mut byte = [0];
        file.read_at(&mut byte, 100).unwrap();
        file.write_at(&[!byte[0]], 100).unwrap();
        let refused = resume(&scene.path, &[]);
        let is_told = match &refused {
            Err(Error::Damaged(_)) => true,
            Err(Error::UnderWay { source, .. }) => matches!(**source, Error::Damaged(_)),
            // All had been written already.
            other => other.is_ok(),
        };
        assert!(is_told, "after {issued}: {refused:?}");
        return;
    }
    panic!("no state has the difference");
}

#[test]
fn what_is_not_extended_from_outside_is_told() {
    let folder = quick_folder();
    let path = folder.path().join("herbarium.vhdx");
    perform(Make::new(&path, SIZE)).unwrap();
    let extend =
        || perform(Resize::new(&path).with_size(NewSize::To(NEW_SIZE)).with_extended_volume(Arc::new(AsACopy)));
    let before = std::fs::read(&path).unwrap();
    match extend() {
        Err(Error::Usage(advice)) => assert!(advice.message.contains("no file system"), "{advice}"),
        other => panic!("{other:?}"),
    }
    assert!(std::fs::read(&path).unwrap() == before);
    let fat = NewVolume::new(VolumeSize::Bytes(12 * MIB), NewFileSystem::Fat);
    perform(Prepare::new(&path).with_volume(fat)).unwrap();
    let before = std::fs::read(&path).unwrap();
    assert!(matches!(extend(), Err(Error::Refused(Refusal::ExtendedInside { file_system: "fat12" | "fat16" }, _))));
    assert!(std::fs::read(&path).unwrap() == before);
    if !has_tools() {
        return;
    }
    // Something in it waits to be put right.
    let scene = Scene::new(FORMS[2], PartitionTable::Mbr);
    let disk = Chain::open(&scene.path, &OpenOptions::new()).unwrap();
    let start = volumes(&disk).unwrap().volumes[1].start;
    drop(disk);
    let file = std::fs::File::options().write(true).open(&scene.path).unwrap();
    file.write_at(&[0, 0], start + 1024 + 58).unwrap();
    drop(file);
    let before = std::fs::read(&scene.path).unwrap();
    match scene.perform() {
        Err(Error::Usage(advice)) => assert!(advice.message.contains("was not unmounted"), "{advice}"),
        other => panic!("{other:?}"),
    }
    assert!(std::fs::read(&scene.path).unwrap() == before);
}
