//! Any file is opened, judged or refused in 64 MiB of memory and a few seconds: what strangers made, what was made to
//! explode, and long chains.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::scene::Scene;

/// KiB of address space: the program itself, and what it asks for.
const MEMORY: u64 = 64 << 10;
/// Seconds of processor time.
const TIME: u64 = 10;
const MIB: u64 = 1 << 20;

/// What the command says within the limits; it may refuse, and never dies.
fn within_limits(folder: &Path, words: &[&str]) -> String {
    within(MEMORY, TIME, folder, words)
}

fn within(memory: u64, time: u64, folder: &Path, words: &[&str]) -> String {
    let script = format!("ulimit -v {memory}; ulimit -t {time}; exec \"$@\"");
    let mut command = Command::new("bash");
    command.args(["-c", &script, "bash", env!("CARGO_BIN_EXE_zsap")]).args(words);
    let output = command.current_dir(folder).stdin(Stdio::null()).output().unwrap();
    let all = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    let ended = output.status.code().is_some_and(|code| code < 100) && !all.contains("panicked");
    assert!(ended, "{words:?}: {:?}\n{all}", output.status);
    all
}

/// Everything that opens an image for a look, and one that writes.
fn look_at(folder: &Path, name: &str) {
    for words in [
        &["show", name][..],
        &["tree", name],
        &["check", "-q", name],
        &["bytes", "read", name, "--at", "0", "--len", "512"],
        &["check", "-q", "--data", name],
        &["repair", name, "--plan"],
        &["repair", name, "--undo"],
        &["salvage", name, "saved.raw", "--plan"],
        &["children", name],
        &["bytes", "write", name, "--at", "0", "-i", "/dev/null"],
        &["resume", name],
    ] {
        within_limits(folder, words);
    }
}

fn put(path: &Path, at: u64, bytes: &[u8]) {
    File::options().write(true).open(path).unwrap().write_all_at(bytes, at).unwrap();
}

/// The structure there, changed, with its CRC-32C made right.
fn reseal(path: &Path, at: u64, len: usize, act: impl FnOnce(&mut [u8])) {
    let file = File::options().read(true).write(true).open(path).unwrap();
    let mut bytes = vec![0; len];
    file.read_exact_at(&mut bytes, at).unwrap();
    act(&mut bytes);
    bytes[4..8].fill(0);
    let sum = crc32c::crc32c(&bytes);
    bytes[4..8].copy_from_slice(&sum.to_le_bytes());
    file.write_all_at(&bytes, at).unwrap();
}

/// Makes a VHDX whose log is where `act` says, and pending.
fn with_log(scene: &Scene, name: &str, len: u64, act: impl FnOnce(&File, u64)) {
    scene.run(&format!("make {name} 1G -q")).expect(name, 0, "", "");
    let path = scene.path(name);
    let end = std::fs::metadata(&path).unwrap().len().next_multiple_of(MIB);
    let file = File::options().write(true).open(&path).unwrap();
    file.set_len(end + len).unwrap();
    act(&file, end);
    for header in [64 << 10, 128 << 10] {
        reseal(&path, header, 4096, |bytes| {
            bytes[48..64].fill(5);
            bytes[68..72].copy_from_slice(&(len as u32).to_le_bytes());
            bytes[72..80].copy_from_slice(&end.to_le_bytes());
        });
    }
}

/// The header of a log entry of this many bytes, with this many descriptors.
fn entry_header(sequence: u64, len: u32, descriptors: u32) -> [u8; 64] {
    let mut header = [0; 64];
    header[..4].copy_from_slice(b"loge");
    header[8..12].copy_from_slice(&len.to_le_bytes());
    header[16..24].copy_from_slice(&sequence.to_le_bytes());
    header[24..28].copy_from_slice(&descriptors.to_le_bytes());
    header[32..48].fill(5);
    header
}

#[test]
fn files_made_to_explode_are_refused_or_read() {
    let scene = Scene::in_memory();
    let folder = scene.path("");
    let look = |name: &str| look_at(&folder, name);
    scene.run("make base.vhdx 64T -q").expect("make", 0, "", "warning: the disk can grow");
    scene.run("derive base.vhdx child.vhdx -q").expect("derive", 0, "", "warning: the disk can grow");
    // A table of the largest disk, full of blocks that no file holds, then of blocks that share one place.
    for (name, entry) in [("outside.vhdx", 0x7FFF_FFFF_FFF0_0006u64), ("shared.vhdx", 0x0040_0006)] {
        std::fs::copy(scene.path("base.vhdx"), scene.path(name)).unwrap();
        scene.make_writable(name);
        put(&scene.path(name), 3 * MIB, &entry.to_le_bytes().repeat(300_000));
        look(name);
    }
    // A parent locator whose entries all speak of the same text.
    scene.make_writable("child.vhdx");
    let child = scene.path("child.vhdx");
    let (table, item, count) = (2 * MIB, 2 * MIB + (64 << 10), 65_535_u32);
    let len = 20 + 12 * count + 66_000;
    let mut locator = vec![b'a'; len as usize];
    locator[..16].copy_from_slice(&[
        0xb7, 0xef, 0x4a, 0xb0, 0x9e, 0xd1, 0x81, 0x4a, 0xb7, 0x89, 0x25, 0xb8, 0xe9, 0x44, 0x59, 0x13,
    ]);
    locator[18..20].copy_from_slice(&(count as u16).to_le_bytes());
    for number in 0..count {
        let at = (20 + 12 * number) as usize;
        let text = 20 + 12 * count + number / 2 * 2 % 60_000;
        let entry = [text.to_le_bytes(), text.to_le_bytes(), [0xF8, 0, 0xF8, 0xF0]].concat();
        locator[at..at + 12].copy_from_slice(&entry);
    }
    let mut entries = vec![0; 64 << 10];
    File::open(&child).unwrap().read_exact_at(&mut entries, table).unwrap();
    let own = [0x2d, 0x5f, 0xd3, 0xa8, 0x0b, 0xb3, 0x4d, 0x45, 0xab, 0xf7, 0xd3, 0xd8, 0x48, 0x34, 0xab, 0x0c];
    let place = entries.windows(16).position(|bytes| bytes == own).unwrap() as u64;
    // Behind all other items.
    put(&child, table + place + 16, &[((64u32 << 10) + 4096).to_le_bytes(), len.to_le_bytes()].concat());
    put(&child, item + 4096, &locator);
    look("child.vhdx");
    // A log as long as is replayed, in which every sector begins an entry that takes the rest of it.
    with_log(&scene, "log-headers.vhdx", 64 * MIB, |file, at| {
        for sector in 0..64 * MIB / 4096 {
            let (len, count) = ((64 * MIB) as u32, if sector % 2 == 0 { 500 } else { 2_000_000 });
            file.write_all_at(&entry_header(1 + sector, len, count), at + sector * 4096).unwrap();
        }
    });
    look("log-headers.vhdx");
    // One sound entry, of as many zero descriptors as fit.
    with_log(&scene, "log-zeros.vhdx", 32 * MIB, |file, at| {
        let descriptors = ((32 * MIB - 64) / 32) as u32;
        let mut entry = vec![0; (32 * MIB) as usize];
        entry[..64].copy_from_slice(&entry_header(1, (32 * MIB) as u32, descriptors));
        for (number, descriptor) in entry[64..].chunks_exact_mut(32).enumerate() {
            descriptor[..4].copy_from_slice(b"zero");
            descriptor[8..16].copy_from_slice(&4096u64.to_le_bytes());
            descriptor[16..24].copy_from_slice(&(4 * MIB + number as u64 % 700 * 8192).to_le_bytes());
            descriptor[24..32].copy_from_slice(&1u64.to_le_bytes());
        }
        let sum = crc32c::crc32c(&entry);
        entry[4..8].copy_from_slice(&sum.to_le_bytes());
        file.write_all_at(&entry, at).unwrap();
    });
    look("log-zeros.vhdx");
    // Records beside an image: a family without end, digests without end, arrays in arrays, a journal of marks.
    scene.run("make a.vhdx 1G -q").expect("make", 0, "", "");
    let child = r#"{"path":"a","since":"2026-11-25T00:00:00Z"},"#;
    let records = [
        format!(r#"{{"version":2,"children":[{}"#, child.repeat(1_000_000)),
        format!(r#"{{"version":2,"unknown":{}"#, "[".repeat(4_000_000)),
        format!(r#"{{"version":2,"unknown":"{}""#, "a".repeat(20_000_000)),
        "[".repeat(1000),
    ];
    for record in &records {
        std::fs::write(scene.path("a.vhdx.zsap.json"), record).unwrap();
        look("a.vhdx");
    }
    std::fs::remove_file(scene.path("a.vhdx.zsap.json")).unwrap();
    for journal in ["0123456789abcdef {\"upto\":1}\n".repeat(500_000), "a".repeat(100_000_000)] {
        std::fs::write(scene.path("a.vhdx.zsap.journal"), journal).unwrap();
        look("a.vhdx");
    }
    std::fs::remove_file(scene.path("a.vhdx.zsap.journal")).unwrap();
    let piece = r#"{"name":"a","size":1,"blake3":""},"#;
    for count in [400_000, 3_000_000] {
        let text = format!(
            r#"{{"zestful_sapling_pieces":1,"format":"raw","logical_sector":512,"virtual_size":{count},
                "pieces":[{}]}}"#,
            piece.repeat(count).trim_end_matches(',')
        );
        std::fs::write(scene.path("p.raw.pieces.json"), text).unwrap();
        look("p.raw.pieces.json");
    }
}

/// The longest table that is read of a VHD, all of it used, in the smallest blocks.
#[test]
fn a_vhd_with_the_longest_table_is_read() {
    let scene = Scene::in_memory();
    scene.run("make a.vhd 2040G --block-size 512K -q").expect("make", 0, "", "warning: the disk can grow");
    let path = scene.path("a.vhd");
    let file = File::options().read(true).write(true).open(&path).unwrap();
    let (entries, stride) = (2040 * 2048_u64, 1 + 1024);
    let first = (1536 + entries * 4).div_ceil(512) + 8;
    let table: Vec<u8> = (0..entries).rev().flat_map(|n| ((first + n * stride) as u32).to_be_bytes()).collect();
    let mut footer = [0; 512];
    file.read_exact_at(&mut footer, 0).unwrap();
    file.write_all_at(&table, 1536).unwrap();
    if file.write_all_at(&footer, (first + entries * stride) * 512).is_err() {
        eprintln!("skipped: the host has no file of 2 TiB");
        return;
    }
    let end = file.metadata().unwrap().len() - 512;
    file.write_all_at(&[0; 512], 1536 + entries * 4).unwrap();
    assert_eq!(end, (first + entries * stride) * 512);
    for words in [&["show", "a.vhd"][..], &["bytes", "read", "a.vhd", "--at", "1T", "--len", "512"], &["tree"]] {
        let said = within_limits(&scene.path(""), words);
        assert!(!said.contains("error"), "{said}");
    }
}

/// Bitmaps of half a MiB each, more of them than there is memory for.
#[test]
fn a_vhd_with_the_largest_blocks_is_read() {
    let scene = Scene::in_memory();
    scene.run("make a.vhd 2040G -q").expect("make", 0, "", "warning: the disk can grow");
    let path = scene.path("a.vhd");
    let file = File::options().read(true).write(true).open(&path).unwrap();
    let (mut footer, mut header) = ([0; 512], [0; 1024]);
    file.read_exact_at(&mut footer, 0).unwrap();
    file.read_exact_at(&mut header, 512).unwrap();
    header[28..32].copy_from_slice(&1020u32.to_be_bytes());
    header[32..36].copy_from_slice(&(1u32 << 31).to_be_bytes());
    header[36..40].fill(0);
    let sum: u32 = header.iter().map(|byte| u32::from(*byte)).sum();
    header[36..40].copy_from_slice(&(!sum).to_be_bytes());
    let (first, stride) = (64_u32, (1 << 22) + 1024);
    let blocks = 1016;
    let table: Vec<u8> =
        (0..1020).flat_map(|n| if n < blocks { (first + n * stride).to_be_bytes() } else { [0xFF; 4] }).collect();
    file.write_all_at(&header, 512).unwrap();
    file.write_all_at(&table, 1536).unwrap();
    if file.write_all_at(&footer, u64::from(first + blocks * stride) * 512).is_err() {
        eprintln!("skipped: the host has no file of 2 TiB");
        return;
    }
    drop(file);
    // Half a GiB of bitmaps is looked at, twice.
    let said = within(6 * MEMORY, 6 * TIME, &scene.path(""), &["copy", "a.vhd", "b.vhdx"]);
    assert!(!said.contains("error"), "{said}");
}

/// Thirty-two layers of a large disk, each of which holds something everywhere.
#[test]
fn long_chains_of_large_disks_are_read() {
    let scene = Scene::in_memory();
    let all = |layer: usize| {
        let path = scene.path(&format!("layer-{layer}.vhdx"));
        let options = zestful_sapling::chain::OpenOptions::new();
        let disk = zestful_sapling::chain::ChainMut::open(&path, &options).unwrap();
        for at in (0..1u64 << 40).step_by(1 << 30) {
            disk.write_at(&[layer as u8; 512], at + 4096 * layer as u64).unwrap();
        }
        disk.close().unwrap();
    };
    scene.run("make layer-0.vhdx 1T --block-size 1M -q").expect("make", 0, "", "warning: the disk can grow");
    all(0);
    for layer in 1..32 {
        let typed = format!("derive layer-{}.vhdx layer-{layer}.vhdx --block-size 1M -q", layer - 1);
        scene.run(&typed).expect(&typed, 0, "", "warning: the disk can grow");
        all(layer);
    }
    let folder = scene.path("");
    for words in [
        &["show", "layer-31.vhdx"][..],
        &["tree"],
        &["status"],
        &["check", "layer-31.vhdx"],
        &["diff", "layer-0.vhdx", "layer-31.vhdx"],
    ] {
        let said = within_limits(&folder, words);
        assert!(!said.contains("error"), "{words:?}: {said}");
    }
    // Each of its threads has address space set aside that is never used.
    let said = within(6 * MEMORY, 6 * TIME, &folder, &["copy", "layer-31.vhdx", "flat.vhdx"]);
    assert!(!said.contains("error"), "{said}");
}

/// Each image of the corpus, where it is there.
/// What lies inside a disk is read within them, too, and a disk is prepared.
#[test]
fn files_inside_a_disk_are_read_within_the_limits() {
    let scene = Scene::new();
    std::fs::create_dir(scene.path("sheets")).unwrap();
    for number in 0..300 {
        std::fs::write(scene.path(&format!("sheets/HF-{number:04}.txt")), vec![b'x'; 5000]).unwrap();
    }
    std::fs::write(scene.path("sheets/scan.bin"), vec![7; 48 << 20]).unwrap();
    scene.run("make records.vhdx 16T -q").expect("make", 0, "", "warning");
    let volumes = ["--volume", "512M,fs=fat,fill=sheets", "--volume", "rest"];
    within_limits(&scene.path(""), &[&["prepare", "records.vhdx", "-q"][..], &volumes].concat());
    scene.run("derive records.vhdx child.vhdx -q").expect("derive", 0, "", "");
    for words in [
        &["show", "child.vhdx"][..],
        &["files", "list", "child.vhdx", "--recursive"],
        &["files", "find", "child.vhdx", "*7*", "--json"],
        &["files", "get", "child.vhdx", "/", "out"],
    ] {
        within_limits(&scene.path(""), words);
    }
    assert_eq!(std::fs::read(scene.path("out/scan.bin")).unwrap(), vec![7; 48 << 20]);
}

#[test]
fn the_corpus_is_opened_within_the_limits() {
    let Some(corpus) = std::env::var_os("ZSAP_CORPUS") else { return };
    let mut waiting = vec![std::path::PathBuf::from(corpus)];
    while let Some(folder) = waiting.pop() {
        for entry in std::fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                waiting.push(path);
            } else if ["vhd", "vhdx"].iter().any(|ending| path.extension().is_some_and(|found| found == *ending)) {
                let name = path.file_name().unwrap().to_str().unwrap();
                for words in [&["show", name][..], &["check", "-q", name], &["tree", name]] {
                    within_limits(&folder, words);
                }
            }
        }
    }
}
