//! `zsap resize` on real ext4 disks, on bad input, under who uses the disk, and killed at any moment.

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::scene::{Mounted, Scene};
use crate::shown::{Shown, can_mount, tool};
use crate::volumes;

/// Made-up records, as files.
fn records(scene: &Scene, files: usize) {
    std::fs::create_dir(scene.path("records")).unwrap();
    for number in 0..files {
        let text: Vec<u8> = (0..(number + 1) * 4_999).map(|n| (n * (number + 3) % 251) as u8).collect();
        std::fs::write(scene.path("records").join(format!("HF-{number:04}.bin")), text).unwrap();
    }
}

/// The host's tools are content with the table, and with the ext4 in this partition, and every file is there.
#[track_caller]
fn judge(scene: &Scene, image: &str, volume: u32, sector: u64, case: &str) {
    scene.run(&format!("check {image}")).expect(case, 0, "healthy", "");
    let copied = scene.run(&format!("copy {image} whole.raw --space sparse --force=sectors -q"));
    assert_eq!(copied.status, 0, "{case}: {}", copied.err);
    let whole = scene.path("whole.raw").display().to_string();
    if sector == 512 {
        tool(&format!("sfdisk --verify {whole}"), "");
    } else if can_mount() {
        let device = tool(&format!("losetup --sector-size {sector} --find --show {whole}"), "").trim().to_owned();
        let verified = Command::new("sfdisk").args(["--verify", &device]).output().unwrap();
        tool(&format!("losetup -d {device}"), "");
        assert!(verified.status.success(), "{case}: {verified:?}");
    }
    let shown = scene.shown(image);
    let found = shown["volumes"].as_array().unwrap().iter().find(|one| one["partition"] == volume).unwrap();
    tool(&format!("e2fsck -fn {whole}?offset={}", found["offset"]), "");
    let (size, length) = (found["size"].as_u64().unwrap(), found["length"].as_u64().unwrap());
    assert!(length - size < 1 << 16 || case.contains("given up") || case.contains("as before"), "{case}: {found}");
    _ = std::fs::remove_dir_all(scene.path("out"));
    let number = found["number"].as_u64().unwrap();
    scene.run(&format!("files get {image} / out --volume {number} -q")).expect(case, 0, "", "");
    let (out, records) = (scene.path("out"), scene.path("records"));
    tool(&format!("diff -r -x lost+found {} {}", out.display(), records.display()), "");
    std::fs::remove_file(scene.path("whole.raw")).unwrap();
}

fn can_be_done() -> bool {
    volumes::can_be_made() && can_mount() && Command::new("resize2fs").stderr(Stdio::null()).output().is_ok()
}

#[test]
fn a_disk_grows_with_its_partition_and_its_file_system() {
    if !can_be_done() {
        return;
    }
    for (image, how, sector, table) in [
        ("a.vhdx", " --sectors 512/4096", 512, "gpt"),
        ("b.vhdx", " --sectors 4096/4096", 4096, "gpt"),
        ("c.vhd", "", 512, "mbr"),
        ("d.vhd", " --kind fixed", 512, "gpt"),
        ("e.vhdx", " --sectors 4096/4096 --kind fixed", 4096, "mbr"),
    ] {
        let scene = Scene::new();
        records(&scene, 40);
        scene.run(&format!("make {image} 80M{how} -q")).expect(image, 0, "", "");
        let prepare =
            format!("prepare {image} --table {table} --volume 8M,fs=fat --volume 60M,fs=ext4,fill=records -q");
        scene.run(&prepare).expect(image, 0, "", "");
        let resize = format!("resize {image} --to 300M --extend-partition --extend-volume");
        scene.run(&format!("{resize} --plan")).expect(image, 0, "partition 2 from 60 MiB to", "");
        assert_eq!(scene.shown(image)["virtual_size"], 80 << 20, "a plan changes nothing");
        scene.run(&resize).expect(image, 0, "its file system has all of that now", "");
        assert_eq!(scene.shown(image)["virtual_size"], 300 << 20);
        judge(&scene, image, 2, sector, image);
        scene.run(&format!("resize {image} --by -100M")).expect(image, 4, "", "reaches to");
    }
    // The first one, with room behind it, and another one behind that.
    let scene = Scene::new();
    records(&scene, 40);
    scene.run("make f.raw 200M -q").expect("make", 0, "", "");
    let volumes = "--volume 40M,fs=ext4,fill=records --volume 60M --volume 8M,fs=fat";
    scene.run(&format!("prepare f.raw {volumes} -q")).expect("prepare", 0, "", "");
    tool(&format!("sfdisk -q --delete {} 2", scene.path("f.raw").display()), "");
    scene.run("resize f.raw --extend-partition").expect("the last", 0, "partition 3 has 98 MiB now", "");
    let first = "resize f.raw --extend-partition=1 --extend-volume";
    let grown = scene.json(first);
    assert_eq!((&grown["partition"]["after"], &grown["extended"]), (&(100u64 << 20).into(), &true.into()));
    judge(&scene, "f.raw", 1, 512, "f.raw");
}

/// A file system is extended by the host's programs, and what they leave is looked at: whatever becomes of them, the
/// disk is what it was.
#[test]
fn programs_that_are_missing_or_fail_leave_the_disk_as_it_was() {
    if !can_be_done() {
        return;
    }
    let scene = Scene::new();
    records(&scene, 20);
    scene.run("make now.vhdx 80M -q").expect("make", 0, "", "");
    scene.run("prepare now.vhdx --volume 60M,fs=ext4,fill=records -q").expect("prepare", 0, "", "");
    let before = std::fs::read(scene.path("now.vhdx")).unwrap();
    let typed = "resize now.vhdx --to 300M --extend-partition --extend-volume";
    let spoil = "for last; do :; done\ndd if=/dev/zero of=\"$last\" bs=1M count=8 conv=notrunc 2>/dev/null";
    for (program, text, status, part) in [
        ("resize2fs", None, 2, "there is no resize2fs on this host"),
        ("e2fsck", None, 2, "there is no e2fsck on this host"),
        ("resize2fs", Some("echo no room >&2\nexit 1".to_owned()), 1, "and said: no room"),
        ("resize2fs", Some(format!("{spoil}\nexit 1")), 1, "ended with exit status: 1"),
        ("resize2fs", Some(format!("{spoil}\nexit 0")), 1, "e2fsck"),
        ("resize2fs", Some("exit 0".to_owned()), 1, "left the file system as it was"),
        ("resize2fs", Some("kill -9 $$".to_owned()), 1, "ended with signal: 9"),
    ] {
        let case = format!("{program} {text:?}");
        let stand_in = scene.path("stand-in");
        let hidden = text.as_ref().map_or("/dev/null".to_owned(), |_| stand_in.display().to_string());
        std::fs::write(&stand_in, format!("#!/bin/sh\n{}\n", text.unwrap_or_default())).unwrap();
        std::fs::set_permissions(&stand_in, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
        // In a view of the host's files of its own, so that no other test meets it.
        let hide = format!("for at in /usr/sbin /sbin; do mount --bind {hidden} $(readlink -f $at/{program}); done");
        let typed = "resize now.vhdx --to 300M --extend-partition --extend-volume";
        scene
            .run_behind(&["unshare", "-m", "sh", "-c", &format!("{hide}; exec \"$0\" \"$@\"")], typed)
            .expect(&case, status, "", part);
        assert!(std::fs::read(scene.path("now.vhdx")).unwrap() == before, "{case}");
        assert_eq!(scene.files(), ["now.vhdx", "records", "seeds.txt", "stand-in"], "{case}");
    }
    scene.run(typed).expect("whole", 0, "has all of that", "");
    judge(&scene, "now.vhdx", 1, 512, "whole");
}

/// About as long as a disk is written to.
const WRITING: Duration = Duration::from_millis(40);

#[test]
fn a_resize_that_is_killed_is_carried_on() {
    if !can_be_done() {
        return;
    }
    let rounds = std::env::var("ZSAP_RESIZE_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(10u32);
    let scene = Scene::new();
    records(&scene, 60);
    for image in ["base.vhdx", "base.vhd"] {
        scene.run(&format!("make {image} 80M -q")).expect(image, 0, "", "");
        scene.run(&format!("prepare {image} --volume 70M,fs=ext4,fill=records -q")).expect(image, 0, "", "");
    }
    let (mut longest, mut cut, mut grown) = (Duration::from_millis(150), 0, 0);
    for round in 0..rounds {
        let ending = ["vhdx", "vhd"][round as usize % 2];
        let (image, case) = (format!("now.{ending}"), format!("round {round}"));
        std::fs::copy(scene.path(&format!("base.{ending}")), scene.path(&image)).unwrap();
        let typed = format!("resize {image} --to 1G --extend-partition --extend-volume");
        let started = Instant::now();
        let mut resizing = scene.start(&typed);
        // The golden ratio spreads the moments evenly, however many rounds there are.
        let moment = (f64::from(round) * 0.618_034).fract();
        let journal = scene.path(&format!("{image}.zsap.journal"));
        let mut is_running = || resizing.try_wait().unwrap().is_none();
        if round % 3 == 0 {
            while started.elapsed() < longest.mul_f64(moment) && is_running() {
                std::thread::sleep(Duration::from_micros(200));
            }
        } else {
            // The part in which the disk itself changes is short.
            while !journal.exists() && is_running() {}
            std::thread::sleep(WRITING.mul_f64(moment));
        }
        let was_running = resizing.try_wait().unwrap().is_none();
        _ = resizing.kill();
        resizing.wait().unwrap();
        if !was_running {
            longest = longest.min(started.elapsed());
        }
        // Programs that worked on the view end with it.
        let case = match (journal.exists(), round % 4) {
            (false, _) if scene.shown(&image)["virtual_size"] == 80 << 20 => format!("{case}, as before"),
            (false, _) => case,
            (true, 0..2) => {
                cut += 1;
                scene.run(&format!("resume {image}")).expect(&case, 0, "has 1 GiB now", "");
                case
            }
            (true, _) => {
                cut += 1;
                let given_up = scene.run(&format!("abandon {image}"));
                match given_up.status {
                    0 => format!("{case}, given up"),
                    _ => {
                        given_up.expect(&case, 4, "", "carry it on");
                        scene.run(&format!("resume {image}")).expect(&case, 0, "has 1 GiB now", "");
                        case
                    }
                }
            }
        };
        grown += u32::from(scene.shown(&image)["virtual_size"] == 1 << 30);
        judge(&scene, &image, 1, 512, &case);
        std::fs::remove_file(scene.path(&image)).unwrap();
    }
    // What was killed has left its view of the disk, and the next one takes that away.
    std::fs::copy(scene.path("base.vhdx"), scene.path("now.vhdx")).unwrap();
    let last = "resize now.vhdx --to 200M --extend-partition --extend-volume";
    scene.run(last).expect("the last", 0, "its file system has all of that now", "");
    let mounts = std::fs::read_to_string("/proc/self/mounts").unwrap();
    let runtime = scene.runtime().display().to_string();
    let left: Vec<&str> = mounts.lines().filter(|line| line.contains(&runtime)).collect();
    assert!(left.is_empty(), "{left:?}");
    println!("{rounds} rounds, {cut} cut short under the journal, {grown} grown");
}

#[test]
fn a_disk_grows_under_those_who_use_it() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 64M -q").expect("make", 0, "", "");
    let seconds = std::env::var("ZSAP_SERVE_SECONDS").ok().and_then(|text| text.parse().ok()).unwrap_or(3u64).min(10);
    if Command::new("fio").arg("--enghelp=nbd").output().is_ok_and(|found| found.status.success()) {
        let socket = scene.path("s").display().to_string();
        scene.run(&format!("serve now.vhdx --writable --socket {socket} --background -q")).expect("serve", 0, "", "");
        let fio = Command::new("fio")
            .args(["--name=grow", "--ioengine=nbd", &format!("--uri=nbd+unix:///now.vhdx?socket={socket}")])
            .args(["--rw=randwrite", "--bs=4k", "--size=60M", "--verify=crc32c", "--verify_backlog=64", "--iodepth=8"])
            .args(["--time_based", &format!("--runtime={seconds}")])
            .current_dir(scene.path(""))
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(500));
        for size in ["128M", "1G", "300G"] {
            scene.run(&format!("resize now.vhdx --to {size}")).expect(size, 0, "goes on with it", "");
        }
        scene.run("resize now.vhdx --by -1G").expect("a smaller one", 4, "", "is being used by process");
        scene.run("resize now.vhdx --extend-partition").expect("a partition", 4, "", "is being used by process");
        scene.run("resize now.vhdx --to 65T").expect("too large", 4, "", "64 TiB at most");
        let ended = fio.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&ended.stdout).into_owned() + &String::from_utf8_lossy(&ended.stderr);
        assert!(ended.status.success() && told.contains("err= 0"), "{told}");
        scene.run("detach now.vhdx").expect("detach", 0, "all that was written is durable", "");
        scene.run("check now.vhdx --data").expect("check", 0, "healthy", "");
        assert_eq!(scene.shown("now.vhdx")["virtual_size"], 300u64 << 30);
    }
    // Under file systems that are mounted, where this host lets one grow: ext4 asks for more than to be root.
    for (image, size, larger, make, grow, check) in [
        ("live.vhd", "64M", 200, "mkfs.ext4 -q", "resize2fs DEVICE", "e2fsck -fn DEVICE"),
        ("live.vhdx", "400M", 900, "mkfs.xfs -q", "xfs_growfs PLACE", "xfs_repair -n DEVICE"),
    ] {
        if Command::new(make.split(' ').next().unwrap()).arg("-V").output().is_err() {
            eprintln!("skipped: there is no {make} here");
            continue;
        }
        scene.run(&format!("make {image} {size} -q")).expect("make", 0, "", "");
        let shown = Shown::start(&scene, image, "--writable");
        tool(&format!("{make} {}", shown.file("disk.raw")), "");
        let device = tool(&format!("losetup --find --show {}", shown.file("disk.raw")), "").trim().to_owned();
        let place = scene.path(&format!("on-{image}"));
        std::fs::create_dir(&place).unwrap();
        if !Command::new("mount").arg(&device).arg(&place).status().unwrap().success() {
            eprintln!("skipped: this host does not mount what {make} makes");
            tool(&format!("losetup -d {device}"), "");
            shown.detach();
            continue;
        }
        let mounted = Mounted::at(place.clone());
        std::fs::write(place.join("record"), "Caltha palustris").unwrap();
        let told = format!("`losetup -c {device}`");
        scene.run(&format!("resize {image} --to {larger}M")).expect("exposed", 0, &told, "");
        tool(&format!("losetup -c {device}"), "");
        let typed = |text: &str| text.replace("DEVICE", &device).replace("PLACE", &place.display().to_string());
        let grow = typed(grow);
        let mut words = grow.split(' ');
        let online = Command::new(words.next().unwrap()).args(words).output().unwrap();
        let is_forbidden = String::from_utf8_lossy(&online.stderr).contains("Permission denied");
        if is_forbidden {
            eprintln!("skipped: this host lets no mounted file system grow with {grow}");
        } else {
            assert!(online.status.success(), "{online:?}");
            let room = tool(&format!("df --block-size=1M --output=size {}", place.display()), "");
            let room: u64 = room.lines().last().unwrap().trim().parse().unwrap();
            assert!(room > larger * 8 / 10, "{grow}: {room}");
        }
        std::fs::write(place.join("another"), vec![7; 30 << 20]).unwrap();
        assert_eq!(std::fs::read(place.join("record")).unwrap(), b"Caltha palustris");
        drop(mounted);
        if is_forbidden {
            tool(&format!("e2fsck -f -p {device}"), "");
            tool(&format!("resize2fs {device}"), "");
        }
        tool(&typed(check), "");
        assert_eq!(tool(&format!("blockdev --getsize64 {device}"), "").trim(), (larger << 20).to_string());
        tool(&format!("losetup -d {device}"), "");
        shown.detach();
        assert_eq!(scene.shown(image)["volumes"][0]["size"], larger << 20);
        scene.run(&format!("check {image} --data")).expect("check", 0, "healthy", "");
    }
}

/// Every refusal has its reason, and the way out where there is one.
#[test]
fn what_cannot_be_resized_says_why_and_what_to_do() {
    let scene = Scene::new();
    let run = |typed: &str, status, part: &str| scene.run(typed).expect(typed, status, "", part);
    scene.run("make base.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("derive base.vhdx child.vhdx -q").expect("derive", 0, "", "");
    // The trap: the guest sees the size of the child.
    run(
        "resize base.vhdx --to 128M",
        4,
        "next: `zsap resize child.vhdx --to 128M` resizes the current disk, whose size (64 MiB) is what a guest sees",
    );
    run("resize base.vhdx --to 128M", 4, "zsap merge child.vhdx");
    run("resize base.vhdx --to 128M", 4, "zsap copy child.vhdx child-flat.vhdx");
    scene.run("resize child.vhdx --to 128M").expect("a child", 0, "the layer below it keeps the size that it has", "");
    scene.run("make alone.vhd 64M -q").expect("make", 0, "", "");
    run("resize alone.vhd", 2, "no size was given");
    run("resize alone.vhd --to 2041G", 2, "2040 GiB at most; copy it into a vhdx image");
    run("resize alone.vhd --to 1000", 2, "512 or 1024 bytes would be one");
    run("resize alone.vhd --to 64M", 2, "has 64 MiB (67108864 bytes) already");
    run("resize alone.vhd --by 1G", 2, "begin with + to grow or - to shrink");
    run("resize alone.vhd --by -1G", 2, "nothing that could be taken away");
    run("resize alone.vhd --extend-partition", 2, "has no partition table");
    run("resize alone.vhd --to 32M --shrink-partition 1", 2, "has no partition 1");
    run("resize none.vhdx --to 1G", 1, "No such file");
    run("resize . --to 1G", 2, "name the file of an image");
    scene.run("make set 64M --piece-size 32M -q").expect("make", 0, "", "");
    run("resize set.pieces.json --to 1G", 4, "copy it into one image");
    scene.run("pin alone.vhd -q").expect("pin", 0, "", "");
    run("resize alone.vhd --to 1G", 4, "pinned");
    scene.run("make fixed.vhdx 4M --kind fixed -q").expect("make", 0, "", "");
    run("resize fixed.vhdx --to 60T", 4, "may need 59.99 TiB (65970695569408 bytes), but the host has");
    scene.run("resize fixed.vhdx --to 60T --space sparse --plan").expect("sparse", 0, "make the disk 60 TiB", "");
    // A file system where there is too little room for what is reserved, written, or in the way of a table.
    let Some(_small) = scene.small_file_system() else { return };
    scene.run("make small/a.vhd 2M --kind fixed -q").expect("make", 0, "", "");
    let before = std::fs::read(scene.path("small/a.vhd")).unwrap();
    run("resize small/a.vhd --to 60M", 4, "may need");
    assert!(std::fs::read(scene.path("small/a.vhd")).unwrap() == before);
    scene.run("resize small/a.vhd --to 4M").expect("what fits", 0, "has 4 MiB now", "");
    std::fs::set_permissions(scene.path("small/a.vhd"), std::os::unix::fs::PermissionsExt::from_mode(0o444)).unwrap();
    run("resize small/a.vhd --to 5M", 4, "read-only");
}
