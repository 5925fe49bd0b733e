//! Rare structures, each made by hand: what is refused, what is kept, and where new blocks may not go.

use std::path::Path;
use std::sync::Arc;

use zestful_sapling::chain::{Chain, ChainMut, Disk, OpenOptions};
use zestful_sapling::error::{Error, Refusal};
use zestful_sapling::family::{Guard, Health, Override};
use zestful_sapling::image::vhd::{self, VhdMut};
use zestful_sapling::image::vhdx::VhdxMut;
use zestful_sapling::image::{Image, ImageMut, Source, open_image};
use zestful_sapling::ops::{
    Derive, Diff, FreshIdentity, Merge, Operation, PinImage, Planned, ReadBytes, Transplant, WriteBytes,
};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::testing::FaultStorage;
use zestful_sapling::storage::{MemoryStorage, ReadAt, Storage};

use crate::family_model::{derive, make, write};
use crate::support::verify_pin;
use crate::support::{Layers, MIB, Shape, create};

const HEADERS: [u64; 2] = [64 << 10, 128 << 10];
const TABLE: u64 = 3 * MIB;
const VHD_HEADER: u64 = 512;
const VHD_TABLE: u64 = 1536;

fn bytes(storage: &dyn ReadAt, at: u64, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    storage.read_at(&mut bytes, at).unwrap();
    bytes
}

/// Changes a structure of a VHD and makes its checksum right.
fn put_vhd(storage: &dyn Storage, at: u64, len: usize, sum: usize, field: usize, value: &[u8]) {
    let mut structure = bytes(storage, at, len);
    structure[field..field + value.len()].copy_from_slice(value);
    structure[sum..sum + 4].fill(0);
    let total: u32 = structure.iter().map(|byte| u32::from(*byte)).sum();
    structure[sum..sum + 4].copy_from_slice(&(!total).to_be_bytes());
    storage.write_at(&structure, at).unwrap();
}

/// The same for both headers of a VHDX.
fn put_vhdx_headers(storage: &dyn Storage, field: usize, value: &[u8]) {
    for at in HEADERS {
        let mut header = bytes(storage, at, 4096);
        header[field..field + value.len()].copy_from_slice(value);
        header[4..8].fill(0);
        let sum = crc32c::crc32c(&header);
        header[4..8].copy_from_slice(&sum.to_le_bytes());
        storage.write_at(&header, at).unwrap();
    }
}

/// A log that nobody could replay after a loss of power is not written to; reading needs none.
#[test]
fn a_log_that_could_not_be_replayed_is_not_begun() {
    for (field, value) in [(64, 1u16.to_le_bytes().to_vec()), (68, (65u32 << 20).to_le_bytes().to_vec())] {
        let storage = Arc::new(MemoryStorage::new());
        create(&Shape::plain(4 * MIB), 0, None, &*storage);
        let end = storage.len().unwrap();
        storage.set_len(end + (65 << 20)).unwrap();
        put_vhdx_headers(&*storage, 72, &end.to_le_bytes());
        VhdxMut::open(storage.clone()).unwrap();
        put_vhdx_headers(&*storage, field, &value);
        open_image(storage.clone(), None).unwrap();
        let before = bytes(&*storage, 0, MIB as usize);
        assert!(matches!(VhdxMut::open(storage.clone()), Err(Error::Unsupported(_))), "field {field}");
        assert_eq!(bytes(&*storage, 0, MIB as usize), before);
    }
}

/// The newest entry of a log says what is to change; where it was written wrong, that is not known, and nobody goes
/// on without it.
#[test]
fn an_image_whose_newest_log_entry_is_illegal_is_damaged() {
    let storage = Arc::new(MemoryStorage::new());
    create(&Shape::plain(4 * MIB), 0, None, &*storage);
    let image = VhdxMut::open(storage.clone()).unwrap();
    for byte in [1, 2] {
        image.write_at(&[byte; 4096], u64::from(byte) * MIB).unwrap();
        image.flush().unwrap();
    }
    drop(image);
    let entries = (MIB..2 * MIB).step_by(4096).filter(|at| bytes(&*storage, *at, 4) == b"loge");
    let newest = entries.max_by_key(|at| u64::from_le_bytes(bytes(&*storage, at + 16, 8).try_into().unwrap())).unwrap();
    let len = u32::from_le_bytes(bytes(&*storage, newest + 8, 4).try_into().unwrap()) as usize;
    let mut entry = bytes(&*storage, newest, len);
    entry[64] ^= 1;
    entry[4..8].fill(0);
    let sum = crc32c::crc32c(&entry);
    entry[4..8].copy_from_slice(&sum.to_le_bytes());
    storage.write_at(&entry, newest).unwrap();
    for result in [open_image(storage.clone(), None).map(|_| ()), VhdxMut::open(storage.clone()).map(|_| ())] {
        assert!(matches!(&result, Err(Error::Damaged(finding)) if finding.code() == "vhdx-log-entry"), "{result:?}");
    }
}

/// A place that an entry keeps though its block has no content is never given to another block.
#[test]
fn a_place_that_an_unmapped_block_keeps_is_not_handed_out() {
    for state in [1u8, 3] {
        let storage = Arc::new(MemoryStorage::new());
        create(&Shape::plain(16 * MIB), 0, None, &*storage);
        let image = Box::new(VhdxMut::open(storage.clone()).unwrap());
        image.write_at(&vec![7; 2 << 20], 0).unwrap();
        image.close().unwrap();
        let entry = bytes(&*storage, TABLE, 1)[0];
        assert_eq!(entry & 7, 6);
        storage.write_at(&[entry & !7 | state], TABLE).unwrap();
        let place = u64::from_le_bytes(bytes(&*storage, TABLE, 8).try_into().unwrap()) & !(MIB - 1);
        let image = Box::new(VhdxMut::open(storage.clone()).unwrap());
        assert_eq!(image.extent_at(0, MIB).unwrap().source, Source::Zero);
        for block in 2..12 {
            image.write_at(&vec![8; MIB as usize], block * MIB).unwrap();
        }
        image.close().unwrap();
        assert_eq!(bytes(&*storage, place, MIB as usize), vec![7; MIB as usize], "state {state}");
        // It is no damage either, also where another block has the place already.
        storage.write_at(&bytes(&*storage, TABLE + 8, 3), TABLE).unwrap();
        storage.write_at(&[bytes(&*storage, TABLE, 1)[0] & !7 | state], TABLE).unwrap();
        open_image(storage, None).unwrap();
    }
}

/// Changed pages stay in memory until a commit has taken them, however many others are looked at meanwhile.
#[test]
fn what_changed_is_never_pushed_out_by_what_is_read() {
    let storage = Arc::new(MemoryStorage::new());
    create(&Shape { virtual_size: 1 << 40, ..Shape::plain(0) }, 0, None, &*storage);
    let image = Box::new(VhdxMut::open(storage.clone()).unwrap());
    image.write_at(&[1; 512], 0).unwrap();
    // Each page of the table speaks of 512 MiB.
    for page in 1..2000 {
        image.extent_at(page << 29, 512).unwrap();
    }
    assert!(matches!(image.extent_at(0, 512).unwrap().source, Source::Data(_)));
    image.close().unwrap();
    assert!(matches!(open_image(storage, None).unwrap().extent_at(0, 512).unwrap().source, Source::Data(_)));

    let mut layers = Layers::new(Shape { virtual_size: 4 << 30, ..Shape::vhd(0) });
    layers.derive();
    let storage = layers.storages[1].clone();
    let image = Box::new(VhdMut::open(storage.clone()).unwrap());
    for block in 0..6000 {
        image.write_at(&[2; 512], block * (MIB / 2)).unwrap();
    }
    image.flush().unwrap();
    image.write_at(&[3; 512], 1024).unwrap();
    for block in 1..6000 {
        image.extent_at(block * (MIB / 2), 512).unwrap();
    }
    assert!(matches!(image.extent_at(1024, 512).unwrap().source, Source::Data(_)));
    image.close().unwrap();
    assert!(matches!(open_image(storage, None).unwrap().extent_at(1024, 512).unwrap().source, Source::Data(_)));
}

/// Space that was given back is used again in a later session; what another program keeps between the blocks is not.
#[test]
fn a_vhd_does_not_grow_without_end() {
    let storage = Arc::new(MemoryStorage::new());
    create(&Shape::vhd(8 * MIB), 0, None, &*storage);
    let block = MIB / 2;
    let session = |act: &dyn Fn(&mut VhdMut)| {
        let mut image = Box::new(VhdMut::open(storage.clone()).unwrap());
        act(&mut image);
        image.close().unwrap();
        vhd::check(storage.clone(), &Progress::new()).unwrap()
    };
    session(&|image| image.write_at(&vec![9; 4 * block as usize], 0).unwrap());
    let len = storage.len().unwrap();
    for round in 0..12u64 {
        // Never the last one, which closing would cut off.
        let (goes, comes) = (round % 3, 8 + round % 3);
        session(&|image| image.zero_at(goes * block, block).unwrap());
        session(&|image| image.write_at(&vec![round as u8 + 1; block as usize], comes * block).unwrap());
        session(&|image| image.zero_at(comes * block, block).unwrap());
        let findings = session(&|image| image.write_at(&vec![9; block as usize], goes * block).unwrap());
        assert!(findings.is_empty() && storage.len().unwrap() == len, "round {round}: {findings:?}");
        let image = open_image(storage.clone(), None).unwrap();
        let Source::Data(at) = image.extent_at(goes * block, block).unwrap().source else { panic!("round {round}") };
        assert_eq!(bytes(&*storage, at, block as usize), vec![9; block as usize]);
    }
    session(&|image| image.zero_at(0, block).unwrap());
    let gap = VHD_TABLE + 512 + 4096;
    storage.write_at(b"private", gap).unwrap();
    session(&|image| image.write_at(&vec![5; block as usize], 10 * block).unwrap());
    assert_eq!(bytes(&*storage, gap, 7), b"private");
    assert!(storage.len().unwrap() > len);
}

/// A table whose sectors would tear in the middle of the disk's is read, and not written to.
/// A host that runs full in the middle of a footer leaves a file that ends with the one before.
#[test]
fn a_vhd_that_cannot_grow_ends_with_its_footer() {
    for one_in in 1..40 {
        let layers = Layers::new(Shape::vhd(4 * MIB));
        let storage = Arc::new(FaultStorage::new((*layers.storages[0]).clone()));
        let image = layers.shape.open_mut(storage.clone());
        let ends_with_footer = || {
            let len = storage.len().unwrap();
            len.is_multiple_of(512) && bytes(&*storage, len - 512, 8) == b"conectix"
        };
        // Each time there is room for some others of the changes that a block needs.
        storage.set_no_room(Some(one_in));
        for block in 0..8 {
            let full = image.write_at(&[1; 4096], block * MIB / 2);
            assert!(ends_with_footer(), "{one_in}, block {block}: {full:?}");
        }
        storage.set_no_room(None);
        image.write_at(&[2; 4096], 0).unwrap();
        image.flush().unwrap();
        drop(image);
        assert!(ends_with_footer(), "{one_in}");
        layers.shape.assert_valid(storage, true);
    }
}

/// What a commit without room could not do the next one does: new blocks are named, and space that was given back is
/// free.
#[test]
fn a_commit_that_found_no_room_is_made_up_for() {
    for shape in [Shape::plain(16 * MIB), Shape::vhd(16 * MIB)] {
        let layers = Layers::new(shape);
        let storage = Arc::new(FaultStorage::new((*layers.storages[0]).clone()));
        let image = layers.shape.open_mut(storage.clone());
        image.write_at(&vec![1; 4 * MIB as usize], 0).unwrap();
        image.flush().unwrap();
        let before = storage.allocated().unwrap();
        image.write_at(&[2; 8192], 8 * MIB).unwrap();
        image.zero_at(0, 4 * MIB).unwrap();
        storage.set_no_room(Some(1));
        assert!(image.flush().is_err());
        storage.set_no_room(None);
        image.flush().unwrap();
        let saved = before.saturating_sub(storage.allocated().unwrap());
        assert!(saved > 3 * MIB, "{}: {saved}", layers.shape.format);
        // As a loss of power would leave it.
        let after = Arc::new(MemoryStorage::new());
        after.write_at(&bytes(&*storage, 0, storage.len().unwrap() as usize), 0).unwrap();
        let after = ChainMut::from_parts(layers.shape.open_mut(after), Vec::new());
        let mut found = vec![9; 8192];
        after.read_at(&mut found, 8 * MIB).unwrap();
        assert!(found == [2; 8192]);
    }
}

#[test]
fn a_vhd_table_out_of_alignment_is_only_read() {
    let storage = Arc::new(MemoryStorage::new());
    create(&Shape::vhd(4 * MIB), 0, None, &*storage);
    put_vhd(&*storage, VHD_HEADER, 1024, 36, 16, &(VHD_TABLE + 4).to_be_bytes());
    let image = open_image(storage.clone(), None).unwrap();
    assert!(image.warnings().iter().any(|finding| finding.code() == "vhd-table-place"));
    assert!(matches!(VhdMut::open(storage), Err(Error::Refused(Refusal::ReadOnly { .. }, _))));
}

/// Another record of the parent leaves alone what is not ours, unless it names the parent that goes.
#[test]
fn locators_that_are_not_ours_stay() {
    let (foreign, old) = (b"anything of another program", b"file:///srv/frozen.vhd");
    for (name, kept) in [("moor.vhd", 1), ("frozen.vhd", 2)] {
        let mut layers = Layers::new(Shape::vhd(4 * MIB));
        layers.derive();
        let storage = layers.storages[1].clone();
        let end = storage.len().unwrap();
        storage.set_len(end + 1024).unwrap();
        storage.write_at(&bytes(&*storage, end - 512, 512), end + 512).unwrap();
        storage.write_at(&[0; 512], end - 512).unwrap();
        storage.write_at(foreign, end - 512).unwrap();
        storage.write_at(old, end - 256).unwrap();
        for (number, code, len, at) in [(1, b"Zz01", foreign.len(), end - 512), (2, b"MacX", old.len(), end - 256)] {
            let mut entry = [0; 24];
            entry[..4].copy_from_slice(code);
            entry[7] = 1;
            entry[11] = len as u8;
            entry[16..].copy_from_slice(&at.to_be_bytes());
            put_vhd(&*storage, VHD_HEADER, 1024, 36, 576 + 24 * number, &entry);
        }
        let mut image = Box::new(VhdMut::open(storage.clone()).unwrap());
        let had = image.info().parent.clone().unwrap();
        let record = zestful_sapling::image::ParentRecord {
            identity: had.accepted[0],
            also: None,
            time_stamp: None,
            name: name.to_owned(),
            relative: format!(".\\{name}"),
            absolute: None,
        };
        image.set_parent(&record).unwrap();
        image.write_at(&vec![1; 4 << 20], 0).unwrap();
        image.close().unwrap();
        let footer = storage.len().unwrap() - 512;
        let header = u64::from_be_bytes(bytes(&*storage, footer + 16, 8).try_into().unwrap());
        let entries = bytes(&*storage, header + 576, 8 * 24);
        let found: Vec<_> = entries
            .chunks_exact(24)
            .filter(|entry| [*b"Zz01", *b"MacX"].contains(&entry[..4].try_into().unwrap()))
            .map(|entry| {
                let at = u64::from_be_bytes(entry[16..].try_into().unwrap());
                bytes(&*storage, at, usize::from(entry[11]))
            })
            .collect();
        let all = [foreign.to_vec(), old.to_vec()];
        assert_eq!(found, all[..kept], "{name}");
    }
}

/// What a suspended machine goes on from is not changed, whichever way; growing a child from it changes nothing.
#[test]
fn a_disk_of_a_suspended_machine_is_written_to_only_when_that_is_meant() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let (base, child) = (path("base.vhd"), path("child.vhd"));
    make(&base);
    write(&base, 0, 1);
    derive(&base, &child, false);
    derive(&base, &path("other.vhd"), false);
    write(&child, 4096, 2);
    let suspend = |image: &Path| {
        let mut content = std::fs::read(image).unwrap();
        let end = content.len() as u64 - 512;
        let storage = MemoryStorage::from_bytes(&content).unwrap();
        put_vhd(&storage, 0, 512, 64, 84, &[1]);
        put_vhd(&storage, end, 512, 64, 84, &[1]);
        content = bytes(&storage, 0, content.len());
        std::fs::write(image, content).unwrap();
    };
    suspend(&child);
    let refused = |result: zestful_sapling::Result<()>| {
        assert!(matches!(result, Err(Error::Refused(Refusal::SavedState { .. }, _))), "{result:?}");
    };
    let allowed = Override::SavedState;
    refused(WriteBytes::new(&child, 0, 1, std::io::empty()).plan().map(|_| ()));
    refused(FreshIdentity::new(&child).plan().map(|_| ()));
    refused(Merge::new(&child).plan().map(|_| ()));
    refused(Transplant::new(&child, path("other.vhd")).plan().map(|_| ()));
    refused(ChainMut::open(&child, &OpenOptions::new()).map(|_| ()));
    Derive::new(&child, vec![path("grandchild.vhd")]).plan().unwrap().run(&Progress::new()).unwrap();
    std::fs::remove_file(path("grandchild.vhd")).unwrap();
    let free = zestful_sapling::ops::Unfreeze::new(&child).with_override(Override::UnknownChildren);
    free.plan().unwrap().run(&Progress::new()).unwrap();
    let guard = Guard::new().with_override(allowed);
    let disk = ChainMut::open_guarded(&child, &OpenOptions::new(), &guard).unwrap();
    disk.write_at(&[5; 512], 0).unwrap();
    disk.close().unwrap();
    Merge::new(&child)
        .with_override(allowed)
        .with_override(Override::UnknownChildren)
        .plan()
        .map(|_| ())
        .unwrap_or_else(
            // The base has another child; the saved state is no reason any more.
            |error| assert!(matches!(error, Error::Refused(Refusal::NeededByChildren { .. }, _)), "{error}"),
        );
}

/// Bytes that were data when a base was pinned and are zeros now are a change, wherever zeros come from.
#[test]
fn data_that_became_zeros_is_no_longer_what_was_pinned() {
    let folder = tempfile::tempdir().unwrap();
    let base = folder.path().join("base.vhdx");
    make(&base);
    write(&base, 0, 1);
    write(&base, 5 << 20, 1);
    PinImage::new(&base).plan().unwrap().run(&Progress::new()).unwrap();
    let place = Chain::open(&base, &OpenOptions::new()).unwrap().extent_at(5 << 20, 1).unwrap().data.unwrap().1;
    let mut content = std::fs::read(&base).unwrap();
    content[place as usize..place as usize + 4096].fill(0);
    let mode = std::fs::metadata(&base).unwrap().permissions();
    std::fs::remove_file(&base).unwrap();
    std::fs::write(&base, content).unwrap();
    std::fs::set_permissions(&base, mode).unwrap();
    let report = verify_pin(&base).unwrap();
    assert_eq!(report.state, Health::Broken);
}

/// Work of any length ends soon after it was asked to.
#[test]
fn reading_writing_and_comparing_can_be_stopped() {
    let folder = tempfile::tempdir().unwrap();
    let (one, other) = (folder.path().join("one.vhdx"), folder.path().join("other.vhdx"));
    for path in [&one, &other] {
        make(path);
        write(path, 0, 1);
    }
    let stopped = Progress::new();
    stopped.stop();
    let is_stopped =
        |result: zestful_sapling::Result<()>| assert!(matches!(result, Err(Error::Cancelled)), "{result:?}");
    is_stopped(ReadBytes::new(&one, 0, 4096, std::io::sink()).plan().unwrap().run(&stopped));
    is_stopped(WriteBytes::new(&one, 0, 512, std::io::repeat(7)).plan().unwrap().run(&stopped));
    is_stopped(Diff::new(&one, &other).with_contents(true).plan().unwrap().run(&stopped).map(|_| ()));
    is_stopped(Diff::new(&one, &other).plan().unwrap().run(&stopped).map(|_| ()));
    let mut first = [0; 1];
    Chain::open(&one, &OpenOptions::new()).unwrap().read_at(&mut first, 0).unwrap();
    assert_eq!(first, [1], "nothing was written");
}
