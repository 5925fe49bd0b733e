//! Real ext4 volumes, each a later state of the one before.

use std::process::Command;

use crate::scene::Scene;

/// Whether this host can make them.
pub fn can_be_made() -> bool {
    let is_there = Command::new("mkfs.ext4").arg("-V").output().is_ok();
    if !is_there {
        eprintln!("skipped: the host has no mkfs.ext4");
    }
    is_there
}

pub fn tool(scene: &Scene, typed: &str) {
    let mut words = typed.split(' ');
    let output = Command::new(words.next().unwrap()).args(words).current_dir(scene.path("")).output().unwrap();
    assert!(output.status.success(), "{typed}: {}", String::from_utf8_lossy(&output.stderr));
}

/// Volumes of so many MiB that hold `files` files, each with some written, replaced and removed after the one before.
pub fn make(scene: &Scene, names: &[&str], size: u64, files: usize) {
    std::fs::create_dir(scene.path("files")).unwrap();
    for number in 0..files {
        let text: Vec<u8> = (0..(number + 1) * 49_999).map(|n| (n * (number + 3) % 251) as u8).collect();
        std::fs::write(scene.path("files").join(format!("HF-{number:04}.bin")), text).unwrap();
    }
    tool(scene, &format!("mkfs.ext4 -q -F -d files {} {size}M", names[0]));
    for (number, pair) in names.windows(2).enumerate() {
        tool(scene, &format!("cp --sparse=always {} {}", pair[0], pair[1]));
        let mut work = String::new();
        for file in (number..files).step_by(3) {
            work.push_str(&format!(
                "rm HF-{file:04}.bin\nwrite files/HF-{0:04}.bin season-{number}-{file}\n",
                files - 1
            ));
        }
        std::fs::write(scene.path("work"), work).unwrap();
        tool(scene, &format!("debugfs -w -f work {}", pair[1]));
    }
}

/// Writes into a disk that reads as one volume what another has otherwise.
pub fn fill(scene: &Scene, disk: &str, volume: &str, before: &str) {
    let found = scene.json(&format!("diff {before} {volume} --contents"));
    for range in found["differ"].as_array().unwrap() {
        let (offset, length) = (range["offset"].as_u64().unwrap(), range["length"].as_u64().unwrap());
        scene.run(&format!("bytes read {volume} --at {offset} --len {length} -o piece -q")).expect("read", 0, "", "");
        scene.run(&format!("bytes write {disk} --at {offset} -i piece -q")).expect("write", 0, "", "");
        std::fs::remove_file(scene.path("piece")).unwrap();
    }
}
