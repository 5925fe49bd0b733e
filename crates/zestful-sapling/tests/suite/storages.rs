//! One battery for every storage.

use jiff::Timestamp;
use rustix::process::{PidfdFlags, PidfdGetfdFlags, getpid, pidfd_getfd, pidfd_open};
use zestful_sapling::Error;
use zestful_sapling::error::{Hold, Refusal};
use zestful_sapling::storage::testing::FaultStorage;
use zestful_sapling::storage::{Access, FileStorage, MemoryStorage, StagedFile, Storage};

fn battery(storage: &dyn Storage) {
    let read = |at: u64, len: usize| {
        let mut buffer = vec![0xEE; len];
        storage.read_at(&mut buffer, at).map(|()| buffer)
    };
    assert!(storage.is_empty().unwrap());
    storage.write_at(b"seed", 10_000).unwrap();
    assert_eq!(storage.len().unwrap(), 10_004);
    assert_eq!(read(9_998, 6).unwrap(), b"\0\0seed");
    assert!(read(10_000, 5).is_err(), "a read past the end is an error, not a short one");
    assert!(read(u64::MAX - 2, 5).is_err());

    storage.set_len(1 << 20).unwrap();
    storage.write_at(&[7; 65_536], 131_072).unwrap();
    storage.punch_hole(131_073, 65_534).unwrap();
    let punched = read(131_072, 65_536).unwrap();
    assert_eq!((punched[0], punched[65_535]), (7, 7));
    assert!(punched[1..65_535].iter().all(|byte| *byte == 0));
    storage.write_zeros(131_072, 1).unwrap();
    assert_eq!(read(131_072, 1).unwrap(), [0]);
    storage.punch_hole(2 << 20, 4096).unwrap();
    assert_eq!(storage.len().unwrap(), 1 << 20, "a hole past the end changes nothing");

    // What `next_data` leaves out is zeros, and it never goes back.
    let mut at = 0;
    while let Some(data) = storage.next_data(at).unwrap() {
        assert!(data.start >= at && data.end > data.start);
        assert!(read(at, (data.start - at) as usize).unwrap().iter().all(|byte| *byte == 0));
        at = data.end;
    }
    assert!(read(at, ((1 << 20) - at) as usize).unwrap().iter().all(|byte| *byte == 0));
    assert_eq!(storage.next_data(1 << 20).unwrap(), None);

    storage.set_len(10_002).unwrap();
    storage.set_len(20_000).unwrap();
    assert_eq!(read(10_000, 4).unwrap(), b"se\0\0", "what was cut off does not come back");
    storage.sync().unwrap();
}

#[test]
fn every_storage_keeps_the_contract() {
    battery(&MemoryStorage::new());
    battery(&FaultStorage::new(MemoryStorage::new()));
    let folder = tempfile::tempdir().unwrap();
    let staged = StagedFile::create(&folder.path().join("battery.raw")).unwrap();
    battery(&*staged.storage());
}

#[test]
fn one_writer_or_many_readers_and_who_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("fen-base.raw");
    std::fs::write(&path, [0; 512]).unwrap();
    let in_use = |access| match FileStorage::open(&path, access) {
        Err(Error::Refused(Refusal::InUse { holder: Some(holder), .. }, advice)) => {
            assert_eq!((holder.how, holder.process), (Hold::Lock, Some(std::process::id())));
            assert!(holder.since.is_some_and(|since| since <= Timestamp::now()));
            Some(advice.message)
        }
        other => other.map(|_| None).unwrap(),
    };
    let reader = FileStorage::open(&path, Access::Read).unwrap();
    assert_eq!(in_use(Access::Read), None);
    assert!(in_use(Access::Write).is_some());
    drop(reader);
    let writer = FileStorage::open(&path, Access::Write).unwrap();
    let told = in_use(Access::Read).unwrap();
    assert!(told.contains(&format!("process {}", std::process::id())), "{told}");
    assert_eq!(in_use(Access::ReadUnlocked), None);
    drop(writer);
    assert_eq!(in_use(Access::Write), None);
    assert!(FileStorage::open(folder.path(), Access::Read).is_err(), "a folder is no image");
}

/// A program that another thread starts has copies of all open files, until it runs.
#[test]
fn a_lock_ends_with_its_handle_whatever_copies_there_are() {
    let folder = tempfile::tempdir().unwrap();
    let path = std::fs::canonicalize(folder.path()).unwrap().join("fen-base.raw");
    std::fs::write(&path, [0; 512]).unwrap();
    let ourselves = pidfd_open(getpid(), PidfdFlags::empty()).unwrap();
    for access in [Access::Read, Access::Write] {
        let storage = FileStorage::open(&path, access).unwrap();
        let number = std::fs::read_dir("/proc/self/fd").unwrap().flatten().find_map(|open| {
            let is_it = std::fs::read_link(open.path()).is_ok_and(|name| name == path);
            open.file_name().to_str().filter(|_| is_it)?.parse().ok()
        });
        let copy = pidfd_getfd(&ourselves, number.unwrap(), PidfdGetfdFlags::empty()).unwrap();
        assert!(FileStorage::open(&path, Access::Write).is_err(), "{access:?}");
        drop(storage);
        FileStorage::open(&path, Access::Write).unwrap();
        drop(copy);
    }
}

#[test]
fn staged_files_appear_whole_or_not_at_all() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("herbarium.vhdx");
    let files = || std::fs::read_dir(folder.path()).unwrap().count();

    let staged = StagedFile::create(&target).unwrap();
    staged.storage().write_at(b"half", 0).unwrap();
    assert!(!target.exists());
    drop(staged);
    assert_eq!(files(), 0);

    let (first, second) = (StagedFile::create(&target).unwrap(), StagedFile::create(&target).unwrap());
    first.storage().write_at(b"first", 0).unwrap();
    first.publish().unwrap();
    assert!(matches!(second.publish(), Err(Error::Refused(Refusal::Exists { .. }, _))));
    assert_eq!(std::fs::read(&target).unwrap(), b"first");
    assert_eq!(files(), 1);
    assert!(matches!(StagedFile::create(&target), Err(Error::Refused(Refusal::Exists { .. }, _))));

    std::os::unix::fs::symlink("nowhere", folder.path().join("link.vhdx")).unwrap();
    assert!(StagedFile::create(&folder.path().join("link.vhdx")).is_err(), "not even a dangling link is replaced");
    assert!(StagedFile::create(&folder.path().join("missing/a.vhdx")).is_err());
}
