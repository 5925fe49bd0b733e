//! Real ext4 volumes, made and checked by the host's own tools, through images and back.

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;
use std::process::Command;

use crate::scene::Scene;

fn tool(name: &str, args: &[&str], folder: &Path) -> bool {
    let output = Command::new(name).args(args).current_dir(folder).output();
    let output = output.unwrap_or_else(|error| panic!("{name}: {error}"));
    assert!(output.status.success(), "{name} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
    true
}

fn digest(path: &Path) -> String {
    let output = Command::new("sha256sum").arg(path).output().unwrap();
    String::from_utf8(output.stdout).unwrap().split(' ').next().unwrap().to_owned()
}

/// Writes into the child what differs between two volumes, piece by piece, as a guest would.
fn write_changes(scene: &Scene, before: &str, after: &str, child: &str) -> usize {
    let open = |name: &str| BufReader::new(File::open(scene.path(name)).unwrap());
    let (mut before, mut after) = (open(before), open(after));
    let (mut old, mut new) = (vec![0; 64 << 10], vec![0; 64 << 10]);
    let (mut at, mut changed) = (0, 0);
    while before.read_exact(&mut old).is_ok() {
        after.read_exact(&mut new).unwrap();
        if old != new {
            std::fs::write(scene.path("piece"), &new).unwrap();
            scene.run(&format!("bytes write {child} --at {at} -i piece -q")).expect("a piece", 0, "", "");
            changed += 1;
        }
        at += new.len();
    }
    changed
}

#[test]
fn an_ext4_volume_of_1_gib_survives_the_round_trip() {
    if Command::new("mkfs.ext4").arg("-V").output().is_err() {
        eprintln!("skipped: the host has no mkfs.ext4");
        return;
    }
    let scene = Scene::new();
    let root = scene.path("").canonicalize().unwrap();
    std::fs::create_dir(scene.path("files")).unwrap();
    for number in 0..300usize {
        let text: Vec<u8> = (0..number * 997).map(|n| (n * number % 251) as u8).collect();
        std::fs::write(scene.path("files").join(format!("HF-{number:04}.bin")), text).unwrap();
    }
    tool("mkfs.ext4", &["-q", "-F", "-L", "fen", "-d", "files", "volume.raw", "1G"], &root);
    // The same volume after its guest has worked: files gone, files new, files longer.
    tool("cp", &["--sparse=always", "volume.raw", "changed.raw"], &root);
    let mut work = String::new();
    for number in (0..300).step_by(7) {
        work.push_str(&format!("rm HF-{number:04}.bin\nwrite files/HF-0290.bin new-{number}\n"));
    }
    std::fs::write(scene.path("work"), work).unwrap();
    tool("debugfs", &["-w", "-f", "work", "changed.raw"], &root);
    tool("e2fsck", &["-fn", "changed.raw"], &root);

    scene.run("copy volume.raw base.vhdx").expect("copy", 0, "made base.vhdx", "");
    let base = digest(&scene.path("base.vhdx"));
    scene.run("derive base.vhdx child.vhdx").expect("derive", 0, "grew child.vhdx", "");
    assert!(write_changes(&scene, "volume.raw", "changed.raw", "child.vhdx") > 10);
    scene.run("check child.vhdx").expect("check", 0, "child.vhdx: healthy (2 files looked at)", "");
    scene.run("copy base.vhdx base-again.raw").expect("copy", 0, "made base-again.raw", "");
    scene.run("copy child.vhdx child-again.raw").expect("copy", 0, "made child-again.raw", "");
    for (volume, again) in [("volume.raw", "base-again.raw"), ("changed.raw", "child-again.raw")] {
        tool("e2fsck", &["-fn", again], &root);
        tool("cmp", &[volume, again], &root);
    }
    assert_eq!(digest(&scene.path("base.vhdx")), base, "the base changed");
}

/// Partitioned through raw and back, filled with an ext4 and a FAT volume, and taken through every format and kind.
#[test]
fn a_partitioned_disk_survives_every_format() {
    for needed in ["mkfs.ext4", "mkfs.fat", "sfdisk"] {
        if Command::new(needed).arg("--help").output().is_err() {
            eprintln!("skipped: the host has no {needed}");
            return;
        }
    }
    let scene = Scene::new();
    let root = scene.path("").canonicalize().unwrap();
    scene.run("make disk.vhdx 300M -q").expect("make", 0, "", "");
    scene.run("copy disk.vhdx disk.raw -q").expect("to raw", 0, "", "");
    std::fs::write(scene.path("layout"), "label: gpt\nstart=2048, size=204800\nstart=206848, size=200704\n").unwrap();
    let layout = std::process::Stdio::from(File::open(scene.path("layout")).unwrap());
    let divided = Command::new("sfdisk").arg("-q").arg(scene.path("disk.raw")).stdin(layout).status().unwrap();
    assert!(divided.success());
    scene.run("copy disk.raw back.vhd -q").expect("back", 0, "", "");

    std::fs::create_dir(scene.path("files")).unwrap();
    for number in 0..40usize {
        let text: Vec<u8> = (0..number * 9973).map(|n| (n * number % 251) as u8).collect();
        std::fs::write(scene.path("files").join(format!("HF-{number:04}.bin")), text).unwrap();
    }
    tool("mkfs.ext4", &["-q", "-F", "-d", "files", "ext4.volume", "100M"], &root);
    std::fs::write(scene.path("fat.volume"), []).unwrap();
    tool("truncate", &["-s", "98M", "fat.volume"], &root);
    tool("mkfs.fat", &["-F", "16", "fat.volume"], &root);
    {
        let volume = File::options().read(true).write(true).open(scene.path("fat.volume")).unwrap();
        let volume = fatfs::FileSystem::new(volume, fatfs::FsOptions::new()).unwrap();
        for number in 0..40 {
            let name = format!("HF-{number:04}.bin");
            let content = std::fs::read(scene.path("files").join(&name)).unwrap();
            std::io::Write::write_all(&mut volume.root_dir().create_file(&name).unwrap(), &content).unwrap();
        }
    }
    let volumes = [("ext4.volume", 1 << 20, "e2fsck"), ("fat.volume", 101 << 20, "fsck.fat")];
    for (volume, at, _) in volumes {
        scene.run(&format!("bytes write back.vhd --at {at} -i {volume} -q")).expect("fill", 0, "", "");
    }
    let forms = ["b.vhdx", "c.vhd --kind fixed", "d.vhdx --kind fixed", "e.raw", "f.vhd --block-size 512K", "g.vhdx"];
    let mut from = "back.vhd".to_owned();
    for form in forms {
        scene.run(&format!("copy {from} {form} --verify -q")).expect("copy", 0, "", "");
        from = form.split(' ').next().unwrap().to_owned();
        scene.run(&format!("check {from}")).expect("check", 0, "healthy", "");
        for (volume, at, checker) in volumes {
            let len = std::fs::metadata(scene.path(volume)).unwrap().len();
            let read = format!("bytes read {from} --at {at} --len {len} -o again -q");
            scene.run(&read).expect("read", 0, "", "");
            tool(checker, &[if checker == "e2fsck" { "-fn" } else { "-n" }, "again"], &root);
            tool("cmp", &[volume, "again"], &root);
            std::fs::remove_file(scene.path("again")).unwrap();
        }
        scene.run(&format!("copy {from} whole.raw -q")).expect("to raw", 0, "", "");
        tool("sfdisk", &["--verify", "whole.raw"], &root);
        std::fs::remove_file(scene.path("whole.raw")).unwrap();
    }
}

/// Where the host's files can share space, a copy of the same layout takes none.
#[test]
fn a_fixed_copy_shares_its_space_where_the_host_can() {
    let scene = Scene::new();
    let root = scene.path("").canonicalize().unwrap();
    if Command::new("mkfs.xfs").arg("-V").output().is_err() {
        eprintln!("skipped: the host has no mkfs.xfs");
        return;
    }
    tool("truncate", &["-s", "600M", "volume"], &root);
    tool("mkfs.xfs", &["-q", "volume"], &root);
    std::fs::create_dir(scene.path("xfs")).unwrap();
    if !Command::new("mount")
        .args(["-o", "loop"])
        .arg(scene.path("volume"))
        .arg(scene.path("xfs"))
        .status()
        .unwrap()
        .success()
    {
        eprintln!("skipped: nothing can be mounted here");
        return;
    }
    let _mounted = crate::scene::Mounted::at(scene.path("xfs"));
    // Data of 100 MiB in pieces with holes between, and an end that is no whole block.
    let mut content = vec![0u8; (200 << 20) + 512];
    for start in (0..200usize).step_by(20) {
        content[start << 20..(start + 10) << 20].fill(start as u8 + 1);
    }
    content[(200 << 20)..].fill(9);
    std::fs::write(scene.path("content"), &content).unwrap();
    tool("cp", &["--sparse=always", "content", "xfs/source.raw"], &root);
    let used = || {
        tool("sync", &["-f", "xfs"], &root);
        let output = Command::new("df").args(["--output=used", "-B1", "xfs"]).current_dir(&root).output().unwrap();
        String::from_utf8(output.stdout).unwrap().lines().nth(1).unwrap().trim().parse::<u64>().unwrap()
    };
    for target in ["a.raw", "a.vhd --kind fixed --space sparse", "a.vhdx --kind fixed --space sparse"] {
        let before = used();
        let copied = scene.run(&format!("copy xfs/source.raw xfs/{target} --verify"));
        copied.expect("copy", 0, "of data shared with the source, read back and found the same", "");
        assert!(used() < before + (8 << 20), "{target} took {} bytes", used() - before);
        let name = target.split(' ').next().unwrap();
        scene.run(&format!("check xfs/{name}")).expect("check", 0, "healthy", "");
        // A write into the copy is not seen in the source.
        scene.run(&format!("bytes write xfs/{name} --at 0 -i seeds.txt -q")).expect("write", 0, "", "");
        tool("cmp", &["content", "xfs/source.raw"], &root);
        scene.run(&format!("copy xfs/{name} again.raw -q")).expect("copy", 0, "", "");
        tool("cmp", &["-i", "18", "content", "again.raw"], &root);
        std::fs::remove_file(scene.path("again.raw")).unwrap();
    }
    let written = scene.run("copy xfs/source.raw xfs/b.vhd --kind fixed --space written");
    written.expect("written means written", 0, "of data written", "");
}
