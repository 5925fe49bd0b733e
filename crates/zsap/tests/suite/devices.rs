//! Block devices, as loop devices over files: source and target, in use, full of old content, with large sectors.

use std::path::Path;
use std::process::Command;

use zestful_sapling::Error;
use zestful_sapling::error::{Hold, Refusal};
use zestful_sapling::family::Override;
use zestful_sapling::ops::{CopyDisk, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling::storage::user_of;

use crate::scene::{Mounted, Scene};

/// A loop device over a file of the scene, detached when dropped.
pub struct Loop {
    pub device: String,
}

impl Loop {
    /// `None` where this user may not have one.
    pub fn over(scene: &Scene, name: &str, options: &[&str]) -> Option<Self> {
        let output =
            Command::new("losetup").args(options).args(["-f", "--show"]).arg(scene.path(name)).output().ok()?;
        let device = String::from_utf8(output.stdout).ok()?.trim().to_owned();
        if device.is_empty() {
            eprintln!("skipped: no loop device can be had here");
            return None;
        }
        Some(Self { device })
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        _ = Command::new("losetup").args(["-d", &self.device]).status();
    }
}

fn tool(name: &str, args: &[&str]) {
    let output = Command::new(name).args(args).output().unwrap_or_else(|error| panic!("{name}: {error}"));
    assert!(output.status.success(), "{name} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A file full of old content.
fn junk(scene: &Scene, name: &str, mib: usize) {
    std::fs::write(scene.path(name), vec![0xEE; mib << 20]).unwrap();
}

/// The device holds these bytes, and zeros behind them.
fn assert_holds(device: &Path, content: &[u8]) {
    let found = std::fs::read(device).unwrap();
    assert!(found[..content.len()] == *content, "the content differs");
    assert!(found[content.len()..].iter().all(|byte| *byte == 0), "old content shines through");
}

#[test]
fn a_device_is_source_and_target() {
    let scene = Scene::new();
    junk(&scene, "old", 24);
    let Some(device) = Loop::over(&scene, "old", &[]) else { return };
    let device = &device.device;
    // Data, holes, written zeros, and a child's zeros over its parent's data.
    let mut content = vec![0; 16 << 20];
    content[..700].fill(1);
    content[5 << 20..6 << 20].fill(2);
    content[(16 << 20) - 512..].fill(3);
    std::fs::write(scene.path("a.raw"), &content).unwrap();
    scene.run("copy a.raw base.vhdx -q").expect("copy", 0, "", "");
    scene.run("derive base.vhdx child.vhdx -q").expect("derive", 0, "", "");
    std::fs::write(scene.path("zeros"), vec![0; 512 << 10]).unwrap();
    scene.run("bytes write child.vhdx --at 5M -i zeros -q").expect("write", 0, "", "");
    content[5 << 20..(5 << 20) + (512 << 10)].fill(0);

    scene.run(&format!("pin {device}")).expect("pin", 2, "", "is a device: nothing that is known of it can be kept");
    assert!(!std::path::Path::new(&format!("{device}.zsap.json")).exists());
    let refused = scene.run(&format!("copy child.vhdx {device}"));
    refused.expect("not blank", 4, "", "is not blank, and all of its content would be lost");
    let onto_it = || CopyDisk::new(scene.path("child.vhdx"), device);
    assert!(matches!(onto_it().plan(), Err(Error::Refused(Refusal::HasContent { .. }, _))));
    let plan = scene.run(&format!("copy child.vhdx {device} --yes --plan"));
    plan.expect("plan", 0, &format!("replace all 24 MiB of {device}"), "");
    assert!(std::fs::read(device).unwrap().iter().all(|byte| *byte == 0xEE), "a plan changes nothing");
    let done = scene.run(&format!("copy child.vhdx {device} --yes --verify"));
    done.expect("copy", 0, "read back and found the same", "the disk takes all 24 MiB of the device");
    assert_holds(Path::new(device), &content);
    // One that is stopped after it began says so.
    let (plan, progress) = (onto_it().with_override(Override::DeviceContent).plan().unwrap(), Progress::new());
    progress.set_rate_limit(1 << 20);
    let ended = std::thread::scope(|scope| {
        scope.spawn(|| {
            while progress.read().done == 0 {
                std::thread::sleep(std::time::Duration::from_millis(1));
            }
            progress.stop();
        });
        plan.run(&progress)
    });
    assert!(
        matches!(&ended, Err(Error::Unfinished { source, .. }) if matches!(**source, Error::Cancelled)),
        "{ended:?}"
    );
    drop(plan);
    scene.run(&format!("copy child.vhdx {device} --yes -q")).expect("once more", 0, "", "the disk takes all");

    scene.run(&format!("copy {device} back.vhd --verify -q")).expect("back", 0, "", "");
    scene.run("check back.vhd").expect("check", 0, "healthy", "");
    scene.run("copy back.vhd back.raw -q").expect("copy", 0, "", "");
    assert_holds(&scene.path("back.raw"), &content);
    scene.run(&format!("make filled.vhdx --filled-from {device} -q")).expect("make", 0, "", "");
    scene.run(&format!("show {device}")).expect("show", 0, "raw, fixed, a block device of the host", "");

    let made = scene.run(&format!("make {device} 24M --yes"));
    made.expect("make", 0, "takes the whole device of 24 MiB", "everything on");
    assert_holds(Path::new(device), &[]);
    // Blank by now, so that nobody need say --yes.
    scene.run(&format!("make {device} 24M -q")).expect("make", 0, "", "everything on");
    scene.run(&format!("make {device} 25M")).expect("too small", 4, "", "has 24 MiB (25165824 bytes), the disk needs");
    scene.run(&format!("make {device} 24M --format vhdx")).expect("format", 2, "", "holds a raw disk");
    scene.run(&format!("make {device} 24M --space sparse")).expect(
        "space",
        2,
        "",
        "leave the piece size and the space",
    );
    scene.run(&format!("derive {device} child2.vhdx")).expect("derive", 2, "", "no identity");
    // A guest wrote an image's signature to the start of its disk.
    std::fs::write(scene.path("signature"), "vhdxfile").unwrap();
    scene.run(&format!("bytes write {device} --at 0 -i signature -q")).expect("write", 0, "", "");
    scene.run(&format!("copy {device} x.vhdx")).expect(
        "signature",
        4,
        "",
        "is a device, which is a raw disk, but it begins",
    );
    scene.run(&format!("copy {device} x.vhdx --source-format raw -q")).expect("said", 0, "", "");
}

#[test]
fn a_device_in_use_is_left_alone() {
    let scene = Scene::new();
    std::fs::write(scene.path("old"), vec![0; 16 << 20]).unwrap();
    if Command::new("mkfs.ext4").arg("-V").output().is_err() {
        eprintln!("skipped: the host has no mkfs.ext4");
        return;
    }
    tool("mkfs.ext4", &["-q", "-F", scene.path("old").to_str().unwrap()]);
    let Some(device) = Loop::over(&scene, "old", &[]) else { return };
    let device = &device.device;
    scene.run("make a.vhdx 16M -q").expect("make", 0, "", "");
    let place = scene.path("mounted");
    std::fs::create_dir(&place).unwrap();
    if !Command::new("mount").arg(device).arg(&place).output().unwrap().status.success() {
        eprintln!("skipped: nothing can be mounted here");
        return;
    }
    let mounted = Mounted::at(place.clone());
    for typed in
        ["copy a.vhdx DEVICE --yes", "copy DEVICE b.vhdx", "make DEVICE 16M --yes", "bytes write DEVICE --at 0"]
    {
        let told = format!("is in use: mounted at {}", place.canonicalize().unwrap().display());
        let outcome = scene.run(&typed.replace("DEVICE", device));
        assert!(outcome.err.replace("\n  ", " ").contains(&told), "{typed}: {}", outcome.err);
        assert_eq!(outcome.status, 4);
    }
    scene.run(&format!("show {device}")).expect("a look", 0, "in use: mounted at", "");
    assert_eq!(user_of(Path::new(device)).unwrap().map(|user| user.how), Some(Hold::Device));
    drop(mounted);
    tool("e2fsck", &["-fn", device]);
    assert!(!scene.files().iter().any(|name| name.starts_with("b.vhdx")));
}

#[test]
fn a_read_only_device_is_not_begun() {
    let scene = Scene::new();
    junk(&scene, "old", 16);
    let Some(device) = Loop::over(&scene, "old", &["-r"]) else { return };
    scene.run("make a.vhdx 16M -q").expect("make", 0, "", "");
    let refused = scene.run(&format!("copy a.vhdx {} --yes", device.device));
    refused.expect("read-only", 4, "", "is a read-only device");
    assert!(!refused.err.contains("was begun"), "{}", refused.err);
    assert_eq!(std::fs::read(&device.device).unwrap(), vec![0xEE; 16 << 20]);
    scene.run(&format!("copy {} back.vhdx -q", device.device)).expect("as a source", 0, "", "");
}

/// Cut short, a device shows nothing that could be taken for a disk.
#[test]
fn a_device_that_was_half_written_shows_no_disk() {
    let scene = Scene::new();
    std::fs::write(scene.path("big.raw"), vec![7; 64 << 20]).unwrap();
    for how in ["-INT", "-KILL"] {
        junk(&scene, "old", 64);
        let Some(device) = Loop::over(&scene, "old", &[]) else { return };
        let child = scene.start(&format!("copy big.raw {} --yes --rate-limit 4M", device.device));
        scene.wait("the first bytes", || std::fs::read(scene.path("old")).unwrap()[2 << 20] == 7);
        tool("kill", &[how, &child.id().to_string()]);
        let output = child.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).replace("\n  ", " ");
        assert_eq!(told.contains("was begun and shows no disk now"), how == "-INT", "{told}");
        assert!(std::fs::read(&device.device).unwrap()[..1 << 20].iter().all(|byte| *byte == 0));
        scene.run(&format!("copy big.raw {} --yes -q", device.device)).expect("again", 0, "", "everything on");
        assert_holds(Path::new(&device.device), &vec![7; 64 << 20]);
    }
}

#[test]
fn a_device_with_large_sectors_keeps_them() {
    let scene = Scene::new();
    junk(&scene, "old", 16);
    let Some(device) = Loop::over(&scene, "old", &["-b", "4096"]) else { return };
    let device = &device.device;
    scene.run(&format!("show {device}")).expect("show", 0, "sectors of 4096 bytes", "");
    scene.run("make a.vhdx 16M --sectors 4096/4096 -q").expect("make", 0, "", "");
    scene.run("bytes write a.vhdx --at 4096 -i seeds.txt -q").expect("write", 0, "", "");
    scene.run(&format!("copy a.vhdx {device} --yes -q")).expect("copy", 0, "", "everything on");
    let mut content = vec![0; 8192];
    content[4096..4096 + 18].copy_from_slice(b"Caltha palustris\n\n");
    assert_holds(Path::new(device), &content);
    scene.run(&format!("copy {device} back.vhdx -q")).expect("back", 0, "", "");
    assert_eq!(scene.shown("back.vhdx")["logical_sector"], 4096);
    scene.run(&format!("copy {device} parts --piece-size 4M -q")).expect("pieces", 0, "", "");
    assert_eq!(scene.shown("parts.pieces.json")["logical_sector"], 4096);
    // Under a partition table sectors do not change without a word.
    std::fs::write(scene.path("table"), "EFI PART").unwrap();
    scene.run(&format!("bytes write {device} --at 4096 -i table -q")).expect("write", 0, "", "");
    let refused = scene.run(&format!("copy {device} small.vhd"));
    refused.expect("sectors", 4, "", "carries a partition table (GPT)");
    let forced = scene.run(&format!("copy {device} small.vhd --force=sectors -q"));
    forced.expect("forced", 0, "", "table will not be readable");
}
/// A loop device keeps its file inside the kernel, where no process shows it, and a mapping outlives its handle: both
/// are seen, and one that only reads is no obstacle.
#[test]
fn what_the_kernel_and_mappings_hold_is_not_changed() {
    let scene = Scene::new();
    scene.run("make herbarium.vhdx 64M -q").expect("make", 0, "", "");
    if let Some(device) = Loop::over(&scene, "herbarium.vhdx", &[]) {
        let told = format!("herbarium.vhdx is open for writing in the loop device {}", device.device);
        for change in ["move herbarium.vhdx oak.vhdx", "remove herbarium.vhdx", "derive herbarium.vhdx oak.vhdx"] {
            scene.run(change).expect(change, 4, "", &told);
        }
        drop(device);
        let Some(_reads) = Loop::over(&scene, "herbarium.vhdx", &["-r"]) else { return };
        scene.run("move herbarium.vhdx oak.vhdx -q").expect("a reader", 0, "", "");
        scene.run("move oak.vhdx herbarium.vhdx -q").expect("a reader", 0, "", "");
    }
    let maps = "import mmap, sys\nfile = open('herbarium.vhdx', 'r+b')\nmap = mmap.mmap(file.fileno(), \
     4096)\nfile.close()\n\
                print('mapped', flush=True)\nsys.stdin.read()";
    let mut python = Command::new("python3");
    let python = python.args(["-c", maps]).current_dir(scene.path(""));
    let Ok(mut mapping) = python.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped()).spawn()
    else {
        return eprintln!("skipped: there is no python3 to map a file with");
    };
    let mut line = [0; 7];
    std::io::Read::read_exact(mapping.stdout.as_mut().unwrap(), &mut line).unwrap();
    let told = format!("herbarium.vhdx is open for writing in a mapping of process {} (python3", mapping.id());
    scene.run("remove herbarium.vhdx").expect("mapped", 4, "", &told);
    drop(mapping.stdin.take());
    mapping.wait().unwrap();
    scene.run("remove herbarium.vhdx -q").expect("unmapped", 0, "", "");
}
