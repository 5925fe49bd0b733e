//! A raw disk from a pipe and into one.

use crate::scene::Scene;

/// What is typed, the status of its last command, and what that says.
const TYPED: &[(&str, i32, &str)] = &[
    ("head -c 3000000 /dev/urandom > x; truncate -s 8M x; head -c 100000 /dev/urandom >> x; truncate -s 9M x", 0, ""),
    ("cat x | zsap copy - a.vhdx --size 9M --verify", 0, "9 MiB disk, vhdx dynamic"),
    ("cat x | zsap copy - b.vhd --size 9M --kind fixed", 0, "9 MiB disk, vhd fixed"),
    // Of a file the size is known.
    ("zsap copy - c.raw < x", 0, "9 MiB disk, raw fixed"),
    ("zsap derive a.vhdx child.vhdx -q && zsap bytes write child.vhdx --at 1M -i x -q < /dev/null", 2, "past the end"),
    ("cat seeds.txt | zsap bytes write child.vhdx --at 1M -i - -q", 0, ""),
    ("zsap copy a.vhdx - | cmp - x", 0, ""),
    ("zsap copy b.vhd - > y && cmp x y && rm y", 0, ""),
    // The chain is one disk.
    (
        "zsap copy child.vhdx - | zsap copy - d.vhdx --size 9M -q && zsap diff child.vhdx d.vhdx --contents",
        0,
        "the same,",
    ),
    ("zsap bytes read child.vhdx --at 1M --len 6 -o - | cat", 0, "Caltha"),
    ("cat x | zsap copy - e.vhdx", 2, "say the size of the disk with --size"),
    ("cat x | zsap copy - e.vhdx --size 10M", 2, "the input ended after 9 MiB"),
    ("cat x | zsap copy - e.vhdx --size 8M", 2, "the input goes on behind the 8 MiB"),
    ("cat x | zsap copy - a.vhdx --size 9M", 4, "exists"),
    ("cat x | zsap copy - e.vhdx --size 9M --depth chain", 2, "leave the other options out"),
    ("cat x | zsap copy - e.vhdx --size 9M --plan", 0, "read 9 MiB from the input"),
    ("zsap copy - -", 2, "name one of both"),
    ("zsap copy a.vhdx - --verify | cat; zsap copy a.vhdx - --verify > y", 2, "cannot be read back"),
    ("zsap copy a.vhdx - --json > y", 2, "leave --json out"),
    ("zsap copy a.vhdx - --plan", 0, "plan for"),
    ("zsap copy nothing.vhdx - > y", 1, "No such file"),
    ("zsap copy a.vhdx - > /dev/full", 1, "No space left"),
    ("ls | grep -c -e '^-' -e '^e.vhdx' -e partial", 1, "0"),
];

#[test]
fn a_disk_goes_through_a_pipe() {
    let scene = Scene::new();
    for (typed, status, told) in TYPED {
        let ended = scene.shell(typed);
        let all = format!("{}{}", ended.out, ended.err).split_whitespace().collect::<Vec<_>>().join(" ");
        assert_eq!(ended.status, *status, "{typed}: {all}");
        assert!(all.contains(told), "{typed}: {all}");
    }
    // A full host, and a program that is killed in between, leave nothing.
    if let Some(_mounted) = scene.small_file_system() {
        let full = scene.shell("head -c 9M /dev/urandom | zsap copy - small/full.vhdx --size 9437184");
        full.expect("full", 1, "", "No space left on device");
        assert_eq!(std::fs::read_dir(scene.path("small")).unwrap().count(), 0);
    }
    // Nor does one that is interrupted, though its input has nothing more to give for a minute.
    let late = "mkfifo slow; (cat x; exec sleep 60) > slow 2> /dev/null & giver=$!; \
        zsap copy - late.vhdx --size 64M < slow & sleep 1; kill -INT $!; wait $!; echo $?; kill $giver";
    let interrupted = scene.shell(late);
    interrupted.expect("interrupted", 0, "1", "stopped on request before it was done; nothing was left half-made");
}
