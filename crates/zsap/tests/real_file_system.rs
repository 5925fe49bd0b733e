//! Real ext4 volumes, made and checked by the host's own tools, through images and back.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test ends where it fails")]

mod scene;

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;
use std::process::Command;

use scene::Scene;

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
    scene.run("check child.vhdx").expect("check", 0, "child.vhdx: sound (2 files looked at)", "");
    scene.run("copy base.vhdx base-again.raw").expect("copy", 0, "", "");
    scene.run("copy child.vhdx child-again.raw").expect("copy", 0, "", "");
    for (volume, again) in [("volume.raw", "base-again.raw"), ("changed.raw", "child-again.raw")] {
        tool("e2fsck", &["-fn", again], &root);
        tool("cmp", &[volume, again], &root);
    }
    assert_eq!(digest(&scene.path("base.vhdx")), base, "the base changed");
}
