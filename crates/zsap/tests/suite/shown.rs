//! A disk that is shown in a folder, and what the host and we say of it.

use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use serde_json::Value;

use crate::scene::{Mounted, Scene};

/// Whether this user can have folders of disks and loop devices here; says so where not.
pub fn can_mount() -> bool {
    let can = Path::new("/dev/fuse").exists()
        && std::fs::metadata("/proc/self").is_ok_and(|found| found.uid() == 0)
        && Command::new("losetup").arg("--find").output().is_ok_and(|found| found.status.success());
    if !can {
        eprintln!("skipped: no FUSE, no loop devices, or not root here");
    }
    can
}

/// Runs a program of the host, which must do well.
#[track_caller]
pub fn tool(words: &str, input: &str) -> String {
    let mut all = words.split(' ');
    let path = std::env::var("PATH").unwrap_or_default() + ":/usr/sbin:/sbin";
    let mut child = Command::new(all.next().unwrap())
        .args(all)
        .env("PATH", path)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap_or_else(|error| panic!("{words}: {error}"));
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{words}: {told}");
    told
}

/// A disk shown in the folder `fen` of a scene; killed and cleared away at the latest when it is dropped.
pub struct Shown<'a> {
    scene: &'a Scene,
    pub child: Child,
    pub out: BufReader<std::process::ChildStdout>,
}

impl<'a> Shown<'a> {
    pub fn start(scene: &'a Scene, image: &str, how: &str) -> Self {
        _ = std::fs::create_dir(scene.path("fen"));
        let mut child = scene.start(format!("expose {image} fen {how}").trim_end());
        let mut out = BufReader::new(child.stdout.take().unwrap());
        let mut first = String::new();
        out.read_line(&mut first).unwrap();
        if first.is_empty() {
            let mut told = String::new();
            child.stderr.take().unwrap().read_to_string(&mut told).unwrap();
            panic!("{image} {how}: {told}");
        }
        Self { scene, child, out }
    }

    pub fn file(&self, name: &str) -> String {
        self.scene.path("fen").join(name).display().to_string()
    }

    /// Has the host mount one of the files at `m`.
    pub fn mount(&self, name: &str, options: &str) -> Mounted {
        let place = self.scene.path("m");
        _ = std::fs::create_dir(&place);
        tool(&format!("mount -o loop{options} {} {}", self.file(name), place.display()), "");
        Mounted::at(place)
    }

    /// Detaches it, and returns what it told.
    pub fn detach(mut self) -> String {
        // A busy host takes its time to let go of a loop device.
        self.scene.run("detach fen --wait 60").expect("detach", 0, "detached fen from ", "");
        assert_eq!(std::fs::read_dir(self.scene.path("fen")).unwrap().count(), 0, "the mount is gone");
        assert!(self.child.wait().unwrap().success());
        let mut told = String::new();
        self.out.read_to_string(&mut told).unwrap();
        told
    }

    pub fn kill(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

impl Drop for Shown<'_> {
    fn drop(&mut self) {
        _ = self.child.kill();
        _ = self.child.wait();
        _ = Command::new("umount").args(["-l", "-q"]).arg(self.scene.path("fen")).status();
    }
}

/// What is attached of a scene: other tests leave dead mounts of theirs meanwhile.
pub fn attached(scene: &Scene) -> Vec<Value> {
    let all = scene.json("attachments")["attachments"].as_array().unwrap().clone();
    let is_ours =
        |one: &Value| one["path"]["absolute"].as_str().is_some_and(|path| Path::new(path).starts_with(scene.path("")));
    all.into_iter().filter(is_ours).collect()
}
