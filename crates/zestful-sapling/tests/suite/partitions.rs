//! Partition tables: those that other programs write, and those that nobody should.

use std::process::Command;
use std::sync::Arc;

use gpt::disk::LogicalBlockSize;
use gpt::mbr::ProtectiveMBR;
use gpt::partition_types::LINUX_FS;
use proptest::prelude::*;
use zestful_sapling::chain::{ChainMut, SharedDisk};
use zestful_sapling::guest::{
    PartitionKind, PartitionProblem, PartitionTable, Partitions, partition_table, partitions,
};
use zestful_sapling::image::{Format, open_image_mut, vhdx};
use zestful_sapling::storage::MemoryStorage;

const MIB: u64 = 1 << 20;

/// A disk of that sector size with these bytes.
fn disk(sector: u32, content: &[u8]) -> ChainMut {
    let storage = Arc::new(MemoryStorage::new());
    vhdx::CreateOptions::new(content.len() as u64).with_sectors(sector, 4096).create_in(&*storage).unwrap();
    let disk = ChainMut::from_parts(open_image_mut(storage, Some(Format::Vhdx)).unwrap(), Vec::new());
    for (number, part) in content.chunks(1 << 20).enumerate().filter(|(_, part)| part.iter().any(|byte| *byte != 0)) {
        disk.write_at(part, number as u64 * MIB).unwrap();
    }
    disk
}

fn read(sector: u32, content: &[u8]) -> Partitions {
    partitions(&disk(sector, content)).unwrap()
}

/// A table with these partitions: first sector, sectors.
fn gpt_table(sector: u32, size: u64, parts: &[(u64, u64)]) -> Vec<u8> {
    let mut content = vec![0; size as usize];
    let sectors = u32::try_from(size / u64::from(sector) - 1).unwrap();
    let mut cursor = std::io::Cursor::new(&mut content[..]);
    ProtectiveMBR::with_lb_size(sectors).overwrite_lba0(&mut cursor).unwrap();
    let block = LogicalBlockSize::try_from(u64::from(sector)).unwrap();
    let config = gpt::GptConfig::new().writable(true).logical_block_size(block);
    let mut table = config.create_from_device(cursor, None).unwrap();
    for (number, (first, count)) in (1..).zip(parts) {
        table.add_partition_at(&format!("germination {number}"), number, *first, *count, LINUX_FS, 0).unwrap();
    }
    table.write().unwrap();
    content
}

/// An entry of an MBR, in sector `at` of 512 bytes.
fn put_entry(content: &mut [u8], at: usize, slot: usize, kind: u8, start: u32, count: u32) {
    let sector = &mut content[at * 512..][..512];
    let entry = &mut sector[446 + 16 * slot..][..16];
    entry[4] = kind;
    entry[8..12].copy_from_slice(&start.to_le_bytes());
    entry[12..].copy_from_slice(&count.to_le_bytes());
    sector[510..].copy_from_slice(&[0x55, 0xAA]);
}

/// Number, first sector of 512 bytes, sectors.
fn places(found: &Partitions) -> Vec<(u32, u64, u64)> {
    found.usable.iter().map(|one| (one.number, one.start / 512, one.len / 512)).collect()
}

#[test]
fn what_another_program_writes_is_read() {
    for sector in [512, 4096] {
        let content = gpt_table(sector, 32 * MIB, &[(64, 100), (1024, 512)]);
        let found = read(sector, &content);
        let unit = u64::from(sector) / 512;
        assert_eq!(places(&found), [(1, 64 * unit, 100 * unit), (2, 1024 * unit, 512 * unit)]);
        assert_eq!((found.table, &found.problems[..]), (Some(PartitionTable::Gpt), &[][..]));
        assert_eq!(found.usable[1].name, "germination 2");
        assert_eq!(found.usable[1].kind.to_string(), "Linux");
        let shared = SharedDisk::new(disk(sector, &content));
        assert_eq!(shared.partitions().unwrap(), found);
    }
    // The names of kinds, and of those without one.
    assert_eq!(PartitionKind::Mbr(0x0C).to_string(), "FAT32");
    assert_eq!(PartitionKind::Mbr(0xA9).to_string(), "type A9");

    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("table.raw");
    let scripts = [
        "label: dos\nsize=2M\nsize=3M, type=c\n",
        "label: dos\nx1: size=2M\nx2: size=20M, type=5\nx5: size=1M\nx6: size=2M, type=82\nx7: size=1M\nx3: size=3M\n",
        "label: dos\nx1: size=20M, type=f\nx5: size=2M\nx6: size=2M\nx7: size=2M, type=7\nx2: size=2M\n",
        "label: gpt\nsize=2M, name=\"fen\"\nsize=3M, type=U\n",
        "label: gpt\n",
    ];
    for script in scripts {
        std::fs::write(&path, vec![0; 32 << 20]).unwrap();
        let mut command = Command::new("sh");
        command.arg("-c").arg("PATH=$PATH:/usr/sbin exec sfdisk -q --no-reread \"$0\"").arg(&path);
        let Some(sfdisk) = feed(command.env("LC_ALL", "C"), script) else { return };
        assert!(sfdisk, "{script}");
        let listed = Command::new("sh").arg("-c").arg("PATH=$PATH:/usr/sbin exec sfdisk -J \"$0\"").arg(&path).output();
        let listed: serde_json::Value = serde_json::from_slice(&listed.unwrap().stdout).unwrap();
        let listed = listed["partitiontable"]["partitions"].as_array().cloned().unwrap_or_default();
        let expected = listed.iter().map(|one| {
            let node = one["node"].as_str().unwrap();
            let number = node.rsplit("raw").next().unwrap().trim_start_matches('p').parse().unwrap();
            (number, one["start"].as_u64().unwrap(), one["size"].as_u64().unwrap(), one["type"].as_str().unwrap())
        });
        // An extended partition is no place for a file system.
        let expected = expected.filter(|one| !["5", "f"].contains(&one.3)).map(|one| (one.0, one.1, one.2));
        let found = read(512, &std::fs::read(&path).unwrap());
        assert_eq!((places(&found), &found.problems[..]), (expected.collect(), &[][..]), "{script}");
    }
}

/// Runs it with this input, if the host has it.
fn feed(command: &mut Command, input: &str) -> Option<bool> {
    use std::io::Write;
    let quiet = std::process::Stdio::piped;
    let mut child = command.stdin(quiet()).stdout(quiet()).stderr(quiet()).spawn().ok()?;
    child.stdin.take()?.write_all(input.as_bytes()).ok()?;
    let output = child.wait_with_output().ok()?;
    if output.status.code() == Some(127) {
        eprintln!("skipped: there is no sfdisk here");
        return None;
    }
    Some(output.status.success())
}

#[test]
fn what_cannot_be_is_left_out_and_said() {
    use PartitionProblem as P;
    let mbr = |entries: &[(usize, usize, u8, u32, u32)]| {
        let mut content = vec![0; 16 << 20];
        for (at, slot, kind, start, count) in entries {
            put_entry(&mut content, *at, *slot, *kind, *start, *count);
        }
        content
    };
    let whole = gpt_table(512, 16 * MIB, &[(2048, 2048), (4096, 2048)]);
    let sectors = whole.len() / 512;
    let other_sectors = gpt_table(4096, 16 * MIB, &[(512, 100)]);
    let spoilt = |at: usize| {
        let mut content = whole.clone();
        content[at] ^= 1;
        content
    };
    let without_any = {
        let mut content = spoilt(512 + 56);
        content[(sectors - 1) * 512 + 56] ^= 1;
        content
    };
    let mixed = {
        let (mut content, other) = (whole.clone(), gpt_table(512, 16 * MIB, &[(2048, 2048)]));
        let second = (sectors - 33) * 512;
        content[second..].copy_from_slice(&other[second..]);
        content
    };
    let grown = [&whole[..], &[0; 1 << 20]].concat();
    let bare = [&[0; 512], &whole[512..]].concat();
    let both = || vec![(1, 2048, 2048), (2, 4096, 2048)];
    let crc = "CRC32 Checksum Mismatch, the header is corrupted".to_owned();
    let gone = {
        let mut content = whole.clone();
        put_entry(&mut content, 0, 0, 0x83, 64, 64);
        content
    };
    // What, the disk, its partitions, its problems.
    type Case = (&'static str, Vec<u8>, Vec<(u32, u64, u64)>, Vec<PartitionProblem>);
    let cases: Vec<Case> = vec![
        ("nothing", vec![0; 1 << 20], vec![], vec![]),
        (
            "overlap",
            mbr(&[(0, 0, 0x83, 64, 64), (0, 1, 0x83, 100, 64), (0, 2, 0x83, 200, 9)]),
            vec![(3, 200, 9)],
            vec![P::Overlap(1, 2)],
        ),
        (
            "one in all others",
            mbr(&[(0, 0, 7, 64, 640), (0, 1, 7, 70, 4), (0, 2, 7, 80, 4)]),
            vec![],
            vec![P::Overlap(1, 2), P::Overlap(1, 3)],
        ),
        ("past the end", mbr(&[(0, 0, 7, 64, 64), (0, 3, 7, 32_000, 1_000)]), vec![(1, 64, 64)], vec![P::PastEnd(4)]),
        (
            "farther than can be",
            mbr(&[(0, 0, 7, u32::MAX, u32::MAX), (0, 1, 7, 64, 1)]),
            vec![(2, 64, 1)],
            vec![P::PastEnd(1)],
        ),
        ("on the table", mbr(&[(0, 0, 7, 0, 64), (0, 1, 7, 64, 1)]), vec![(2, 64, 1)], vec![P::OnTable(1)]),
        ("an empty extended one", mbr(&[(0, 0, 5, 64, 640)]), vec![], vec![]),
        (
            "a list that comes back",
            mbr(&[(0, 0, 5, 64, 640), (64, 0, 7, 1, 9), (64, 1, 5, 100, 9), (164, 0, 7, 1, 9), (164, 1, 5, 0, 9)]),
            vec![(5, 65, 9), (6, 165, 9)],
            vec![P::Loop(64)],
        ),
        (
            "a list that leads out",
            mbr(&[(0, 0, 5, 64, 640), (64, 0, 7, 1, 9), (64, 1, 5, 900, 9), (964, 0, 7, 1, 9)]),
            vec![(5, 65, 9)],
            vec![P::Astray(964)],
        ),
        (
            "a list that leads to no table",
            mbr(&[(0, 0, 5, 64, 640), (64, 0, 7, 1, 9), (64, 1, 5, 90, 9)]),
            vec![(5, 65, 9)],
            vec![P::Astray(154)],
        ),
        (
            "logical ones outside",
            mbr(&[
                (0, 0, 5, 64, 640),
                (64, 0, 7, 1, 900),
                (64, 1, 5, 90, 9),
                (154, 0, 7, 0, 9),
                (154, 1, 5, 200, 9),
                (264, 0, 7, 1, 9),
            ]),
            vec![(7, 265, 9)],
            vec![P::OutsideExtended(5), P::OnTable(6)],
        ),
        ("first header", spoilt(512 + 56), vec![(1, 2048, 2048), (2, 4096, 2048)], vec![P::FirstCopy]),
        ("first entries", spoilt(1024 + 32), vec![(1, 2048, 2048), (2, 4096, 2048)], vec![P::FirstCopy]),
        ("second header", spoilt((sectors - 1) * 512 + 56), both(), vec![P::SecondCopy(crc)]),
        ("second copy of another table", mixed, both(), vec![P::CopiesDiffer]),
        ("a disk that has grown", grown, both(), vec![P::BeforeEnd(MIB)]),
        ("no protective entry", bare, both(), vec![P::NoProtective]),
        ("written over by another table", gone, vec![(1, 64, 64)], vec![]),
        ("other sectors", other_sectors, vec![], vec![P::OtherSectors { found: 4096, expected: 512 }]),
    ];
    for (what, content, expected, problems) in cases {
        let found = read(512, &content);
        assert_eq!((places(&found), &found.problems), (expected, &problems), "{what}");
        let problems: Vec<String> = found.problems.iter().map(ToString::to_string).collect();
        assert!(problems.iter().all(|text| text.len() > 20), "{problems:?}");
    }
    let found = read(512, &without_any);
    assert!(matches!(&found.problems[..], [P::BothCopies { .. }]) && found.usable.is_empty(), "{found:?}");
    let found = read(4096, &whole);
    assert_eq!(found.problems, [P::OtherSectors { found: 512, expected: 4096 }]);
}

/// Sets bytes of a header, and its checksum, of both copies.
fn forge(content: &mut [u8], at: usize, bytes: &[u8]) {
    let last = content.len() - 512;
    for header in [512, last] {
        let header = &mut content[header..][..92];
        header[at..][..bytes.len()].copy_from_slice(bytes);
        header[16..20].fill(0);
        let sum = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(header);
        header[16..20].copy_from_slice(&sum.to_le_bytes());
    }
}

#[test]
fn a_header_that_asks_for_more_than_there_is_costs_nothing() {
    let whole = gpt_table(512, 16 * MIB, &[(2048, 2048)]);
    let cases: [(usize, Vec<u8>); 6] = [
        (80, u32::MAX.to_le_bytes().to_vec()),
        (80, 0u32.to_le_bytes().to_vec()),
        (84, 256u32.to_le_bytes().to_vec()),
        (84, 0u32.to_le_bytes().to_vec()),
        (72, u64::MAX.to_le_bytes().to_vec()),
        (72, (u64::MAX / 512).to_le_bytes().to_vec()),
    ];
    for (at, bytes) in cases {
        let mut content = whole.clone();
        forge(&mut content, at, &bytes);
        let found = read(512, &content);
        assert!(matches!(&found.problems[..], [PartitionProblem::BothCopies { .. }]), "{at}: {found:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever stands where a table should be, what is found can be used: inside the disk, and nobody else's.
    #[test]
    fn nothing_that_is_found_overlaps_or_lies_outside(
        seed in 0..4usize,
        forged in 0..3u8,
        changes in prop::collection::vec((0..3000usize, any::<u8>()), 0..12),
        entries in prop::collection::vec((0..4usize, any::<u8>(), 0..70_000u32, 0..70_000u32), 0..4),
    ) {
        thread_local! {
            static TABLES: Vec<(u32, Vec<u8>)> = {
                let mut logical = vec![0; 4 << 20];
                put_entry(&mut logical, 0, 0, 0x83, 64, 64);
                put_entry(&mut logical, 0, 1, 5, 200, 2000);
                put_entry(&mut logical, 200, 0, 7, 1, 9);
                put_entry(&mut logical, 200, 1, 5, 100, 20);
                put_entry(&mut logical, 300, 0, 7, 1, 9);
                vec![
                    (512, gpt_table(512, 4 * MIB, &[(64, 100), (1024, 512)])),
                    (4096, gpt_table(4096, 4 * MIB, &[(64, 100), (512, 100)])),
                    (512, logical),
                    (512, vec![0; 4 << 20]),
                ]
            };
        }
        let (sector, mut content) = TABLES.with(|tables| tables[seed].clone());
        for (slot, kind, start, count) in entries {
            put_entry(&mut content, 0, slot, kind, start, count);
        }
        for (at, byte) in &changes {
            content[*at] = *byte;
        }
        if forged == 1 && sector == 512 {
            forge(&mut content, 40, &changes.first().map_or(34u64, |(at, _)| *at as u64).to_le_bytes());
        }
        let chain = disk(sector, &content);
        let found = partitions(&chain).unwrap();
        prop_assert!(found.table.is_some() || found.usable.is_empty());
        if found.table.is_some() {
            prop_assert!(partition_table(&chain).unwrap().is_some() || !found.problems.is_empty());
        }
        let mut ranges: Vec<_> = found.usable.iter().map(|one| (one.start, one.start + one.len)).collect();
        ranges.sort_unstable();
        prop_assert!(ranges.iter().all(|(start, end)| *start >= u64::from(sector) && end > start && *end <= 4 * MIB));
        prop_assert!(ranges.windows(2).all(|two| two[0].1 <= two[1].0), "{found:?}");
    }
}
