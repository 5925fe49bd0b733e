//! `zsap expose`, with this host's kernel as the judge: its loop devices, its file systems, real kills.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};

use crate::scene::{Mounted, Scene};

/// Whether this user can have folders of disks and loop devices here; says so where not.
fn can_mount() -> bool {
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
fn tool(words: &str, input: &str) -> String {
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
struct Shown<'a> {
    scene: &'a Scene,
    child: Child,
    out: BufReader<std::process::ChildStdout>,
}

impl<'a> Shown<'a> {
    fn start(scene: &'a Scene, image: &str, how: &str) -> Self {
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

    fn file(&self, name: &str) -> String {
        self.scene.path("fen").join(name).display().to_string()
    }

    /// Has the host mount one of the files at `m`.
    fn mount(&self, name: &str, options: &str) -> Mounted {
        let place = self.scene.path("m");
        _ = std::fs::create_dir(&place);
        tool(&format!("mount -o loop{options} {} {}", self.file(name), place.display()), "");
        Mounted::at(place)
    }

    /// Detaches it, and returns what it told.
    fn detach(mut self) -> String {
        // A busy host takes its time to let go of a loop device.
        self.scene.run("detach fen --wait 60").expect("detach", 0, "detached fen from ", "");
        assert_eq!(std::fs::read_dir(self.scene.path("fen")).unwrap().count(), 0, "the mount is gone");
        assert!(self.child.wait().unwrap().success());
        let mut told = String::new();
        self.out.read_to_string(&mut told).unwrap();
        told
    }

    fn kill(&mut self) {
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

/// Made-up files, by their names.
fn records() -> BTreeMap<String, Vec<u8>> {
    let text = |number: usize| format!("Caltha palustris, lot {number}\n").repeat(1 + number * 97 % 4000).into_bytes();
    (0..60).map(|number| (format!("lot-{number:02}.txt"), text(number))).collect()
}

fn read_all(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let files = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap());
    let files = files.filter(|entry| entry.file_type().unwrap().is_file());
    files.map(|file| (file.file_name().into_string().unwrap(), std::fs::read(file.path()).unwrap())).collect()
}

fn allocated(path: PathBuf) -> u64 {
    std::fs::metadata(path).unwrap().blocks() * 512
}

/// A table with one partition, written as the kernel and its tools do it.
fn partition(shown: &Shown<'_>, sector: u32) {
    let script = "label: gpt\nstart=1MiB, size=180MiB, name=\"records\"\n";
    if sector == 512 {
        tool(&format!("sfdisk -q --no-reread {}", shown.file("disk.raw")), script);
        return;
    }
    let device = tool(&format!("losetup --sector-size {sector} --find --show {}", shown.file("disk.raw")), "");
    tool(&format!("sfdisk -q --no-reread --no-tell-kernel {}", device.trim()), script);
    tool(&format!("losetup -d {}", device.trim()), "");
}

#[test]
fn the_host_partitions_formats_and_mounts_it() {
    if !can_mount() {
        return;
    }
    // Ending, bytes of a sector, whether it is the last child of a chain.
    for (ending, sectors, is_child) in [
        ("vhdx", "512/4096", false),
        ("vhd", "512/512", false),
        ("vhdx", "4096/4096", false),
        ("vhdx", "512/512", true),
        ("vhd", "512/512", true),
    ] {
        let case = format!("{ending} {sectors}, a child: {is_child}");
        let scene = Scene::new();
        let image = format!("herbarium.{ending}");
        let sector: u32 = sectors.split('/').next().unwrap().parse().unwrap();
        scene.run(&format!("make base.{ending} 256M --sectors {sectors} -q")).expect(&case, 0, "", "");
        if is_child {
            scene.run(&format!("derive base.{ending} between.{ending} -q")).expect(&case, 0, "", "");
            scene.run(&format!("derive between.{ending} {image} -q")).expect(&case, 0, "", "");
        } else {
            std::fs::rename(scene.path(&format!("base.{ending}")), scene.path(&image)).unwrap();
        }
        let shown = Shown::start(&scene, &image, "--writable");
        partition(&shown, sector);
        let told = shown.detach();
        assert!(told.contains("the partition table changed, and has 1 partition now"), "{case}: {told}");

        let shown = Shown::start(&scene, &image, "--writable");
        tool(&format!("mkfs.ext4 -q -b 4096 {}", shown.file("part1")), "");
        let mounted = shown.mount("part1", "");
        let records = records();
        records.iter().for_each(|(name, bytes)| std::fs::write(scene.path("m").join(name), bytes).unwrap());
        std::fs::write(scene.path("m/ballast"), vec![7; 60 << 20]).unwrap();
        // Another who writes would share the partition.
        for name in ["part1", "disk.raw"] {
            let refused = std::fs::File::options().write(true).open(shown.file(name)).unwrap_err();
            assert_eq!(refused.kind(), std::io::ErrorKind::ResourceBusy, "{case}: {name}");
        }
        let told = scene.run("detach fen");
        told.expect(&case, 4, "", "stands on");
        told.expect(&case, 4, "", &format!("umount {}", scene.path("m").display()));
        tool(&format!("sync -f {}", scene.path("m").display()), "");
        let full = allocated(scene.path(&image));
        std::fs::remove_file(scene.path("m/ballast")).unwrap();
        // What was freed is free once the file system's journal says so.
        tool(&format!("sync -f {}", scene.path("m").display()), "");
        tool(&format!("fstrim {}", scene.path("m").display()), "");
        drop(mounted);
        shown.detach();
        let saved = full.saturating_sub(allocated(scene.path(&image)));
        assert!(saved > 50 << 20, "{case}: {saved} of {full} given back");
        scene.run(&format!("check {image}")).expect(&case, 0, "healthy", "");

        scene.run(&format!("derive {image} later.{ending} -q")).expect(&case, 0, "", "");
        for image in [image.clone(), format!("later.{ending}")] {
            let shown = Shown::start(&scene, &image, "");
            tool(&format!("e2fsck -fn {}", shown.file("part1")), "");
            let refused = std::fs::File::options().write(true).open(shown.file("part1")).unwrap_err();
            assert!(["Read-only", "denied"].iter().any(|why| refused.to_string().contains(why)), "{case}: {refused}");
            let mounted = shown.mount("part1", ",ro");
            assert!(read_all(&scene.path("m")) == records, "{case}: {image}");
            drop(mounted);
            shown.detach();
        }
    }
}

#[test]
fn a_throwaway_disk_leaves_no_trace() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make fen-base.vhd 128M -q").expect("make", 0, "", "");
    let before = std::fs::read(scene.path("fen-base.vhd")).unwrap();
    let scratch = scene.path("scratch");
    std::fs::create_dir(&scratch).unwrap();
    for is_killed in [false, true] {
        let mut shown = Shown::start(&scene, "fen-base.vhd", "--throwaway --scratch scratch");
        tool(&format!("mkfs.ext4 -q {}", shown.file("disk.raw")), "");
        let mounted = shown.mount("disk.raw", "");
        std::fs::write(scene.path("m/lot"), vec![3; 9 << 20]).unwrap();
        tool(&format!("sync -f {}", scene.path("m").display()), "");
        if is_killed {
            shown.kill();
            drop(mounted);
        } else {
            drop(mounted);
            let told = shown.detach();
            assert!(told.contains("what was written is forgotten"), "{told}");
        }
        assert!(std::fs::read(scene.path("fen-base.vhd")).unwrap() == before);
        assert_eq!(std::fs::read_dir(&scratch).unwrap().count(), 0);
        scene.run("bytes write fen-base.vhd --at 0 -i seeds.txt --plan").expect(
            "no lock",
            0,
            "nothing was changed",
            "",
        );
    }
}

/// Killed while files are copied in, again and again: what was synced is there when the file system has gone through
/// its journal, no lock or record is left, and the mount is cleared. `ZSAP_EXPOSE_KILLS` says how often for each
/// format.
#[test]
fn a_kill_while_files_are_copied_in_loses_nothing_that_was_synced() {
    if !can_mount() {
        return;
    }
    let kills: u64 = std::env::var("ZSAP_EXPOSE_KILLS").map_or(4, |kills| kills.parse().unwrap());
    for ending in ["vhdx", "vhd"] {
        let scene = Scene::new();
        let image = format!("now.{ending}");
        scene.run(&format!("make base.{ending} 128M -q")).expect("make", 0, "", "");
        scene.run(&format!("derive base.{ending} {image} -q")).expect("derive", 0, "", "");
        let shown = Shown::start(&scene, &image, "--writable");
        tool(&format!("mkfs.ext4 -q {}", shown.file("disk.raw")), "");
        shown.detach();
        let mut synced: BTreeMap<String, Vec<u8>> = BTreeMap::new();
        for round in 0..kills {
            let mut shown = Shown::start(&scene, &image, "--writable");
            let mounted = shown.mount("disk.raw", "");
            let place = scene.path("m");
            let copying = std::thread::spawn(move || {
                let mut done = BTreeMap::new();
                for number in 0u64.. {
                    let name = format!("{round}-{}", number % 40);
                    let bytes = vec![(round * 7 + number) as u8; 20_000 + (number as usize * 7919) % 90_000];
                    done.remove(&name);
                    let write = || {
                        let mut file = std::fs::File::create(place.join(&name))?;
                        file.write_all(&bytes)?;
                        file.sync_all()
                    };
                    if write().is_err() {
                        break;
                    }
                    done.insert(name, bytes);
                }
                done
            });
            std::thread::sleep(Duration::from_millis(40 + round * 53 % 400));
            shown.child.kill().unwrap();
            shown.child.wait().unwrap();
            let done = copying.join().unwrap();
            scene.run("detach fen").expect("still mounted", 4, "", "umount");
            drop(mounted);
            scene.run("attachments").expect("dead", 0, "its process is gone", "");
            scene.run("detach fen --wait 60").expect("cleared", 0, "its process was gone", "");
            assert_eq!(attached(&scene), Vec::<Value>::new());
            assert_eq!(std::fs::read_dir(scene.runtime()).unwrap().count(), 0, "no record is left");
            drop(shown);
            let findings = scene.json(&format!("check {image}"));
            let errors = findings["findings"].as_array().unwrap().iter();
            assert_eq!(errors.filter(|finding| finding["severity"] == "error").count(), 0, "{findings}");

            // The names of this round may hold what was being written; those of the others hold what they held.
            synced.extend(done);
            let shown = Shown::start(&scene, &image, "--writable");
            let mounted = shown.mount("disk.raw", "");
            let found = read_all(&scene.path("m"));
            for (name, bytes) in &synced {
                assert!(found.get(name) == Some(bytes), "{ending}, round {round}: {name}");
            }
            drop(mounted);
            tool(&format!("e2fsck -fn {}", shown.file("disk.raw")), "");
            shown.detach();
        }
    }
}

/// What is attached of a scene: other tests leave dead mounts of theirs meanwhile.
fn attached(scene: &Scene) -> Vec<Value> {
    let all = scene.json("attachments")["attachments"].as_array().unwrap().clone();
    let is_ours =
        |one: &Value| one["path"]["absolute"].as_str().is_some_and(|path| Path::new(path).starts_with(scene.path("")));
    all.into_iter().filter(is_ours).collect()
}

/// One question at a control socket.
fn ask(socket: &Path, question: &str) -> Value {
    let mut stream = UnixStream::connect(socket).unwrap();
    stream.write_all(question.as_bytes()).unwrap();
    stream.write_all(b"\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    serde_json::from_str(&answer).unwrap_or_else(|error| panic!("{question}: {answer:?}: {error}"))
}

#[test]
fn what_is_attached_is_told_grows_and_ends() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("make other.vhdx 64M -q").expect("make", 0, "", "");
    assert_eq!(attached(&scene), Vec::<Value>::new());
    let mut server = scene.start("serve other.vhdx --json");
    let mut shown = Shown::start(&scene, "now.vhdx", "--writable --json");
    scene.wait("the server", || attached(&scene).len() == 2);
    let all = attached(&scene);
    let named = |name: &str| {
        let ends = |one: &&Value| one["path"]["absolute"].as_str().unwrap().ends_with(name);
        all.iter().find(ends).unwrap().clone()
    };
    let (files, served) = (named("now.vhdx"), named("other.vhdx"));
    assert_eq!((&files["mode"], &served["mode"]), (&json!("writable"), &json!("read_only")));
    assert_eq!((&files["place"]["how"], &served["place"]["how"]), (&json!("folder"), &json!("socket")));
    assert_eq!(files["process"], shown.child.id());
    assert_eq!(files["user"], 0);
    assert_eq!(std::fs::metadata(scene.runtime()).unwrap().permissions().mode() & 0o777, 0o700);

    // It grows under a loop device, which is told by name.
    let device = tool(&format!("losetup --find --show {}", shown.file("disk.raw")), "").trim().to_owned();
    assert_eq!(attached(&scene).iter().map(|one| one["users"].as_u64().unwrap()).sum::<u64>(), 1);
    let control = scene.runtime().join(format!("{}.control", shown.child.id()));
    let grown = ask(&control, &format!(r#"{{"protocol":1,"ask":"grow","size":{}}}"#, 100 << 20));
    assert_eq!(grown, json!({ "answer": "grown", "size": 100 << 20 }));
    assert_eq!(std::fs::metadata(shown.file("disk.raw")).unwrap().len(), 100 << 20);
    let mut line = String::new();
    shown.out.read_line(&mut line).unwrap();
    let event: Value = serde_json::from_str(&line).unwrap();
    crate::documents::fits("event", &event);
    assert_eq!((&event["event"], &event["devices"]), (&json!("grown"), &json!([device])));
    tool(&format!("losetup -c {device}"), "");
    assert_eq!(tool(&format!("blockdev --getsize64 {device}"), "").trim(), (100 << 20).to_string());

    // Nonsense, another protocol, what cannot be, and somebody who says nothing.
    let silent = UnixStream::connect(&control).unwrap();
    for (question, told) in [
        ("nonsense", "no question"),
        (r#"{"protocol":9,"ask":"describe"}"#, "protocol 9"),
        (r#"{"protocol":1,"ask":"sing"}"#, "no question"),
        (r#"{"protocol":1,"ask":"grow","size":5}"#, "5"),
    ] {
        let answer = ask(&control, question);
        assert_eq!(answer["answer"], "failed", "{question}: {answer}");
        assert!(answer["message"].as_str().unwrap().contains(told), "{question}: {answer}");
    }
    assert_eq!(ask(&control, r#"{"protocol":1,"ask":"describe","later":[1,{"a":2}]}"#)["answer"], "description");

    let refused = scene.error("detach now.vhdx", 4);
    assert!(refused["message"].as_str().unwrap().contains(&format!("losetup -d {device}")), "{refused}");
    tool(&format!("losetup -d {device}"), "");
    drop(silent);
    scene.json("detach now.vhdx --wait 60");
    assert!(shown.child.wait().unwrap().success());
    scene.run("detach other.vhdx").expect("the server", 0, "nothing was written", "");
    assert!(server.wait().unwrap().success());
    scene.run("detach now.vhdx").expect("again", 2, "", "nothing of the name now.vhdx is attached");
    assert_eq!(scene.shown("now.vhdx")["virtual_size"], 100 << 20);
}

/// A signal waits for those who use the disk, and says so; one more takes it from them.
#[test]
fn a_signal_waits_for_those_who_use_it_and_a_second_does_not() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 64M -q").expect("make", 0, "", "");
    for again in [false, true] {
        let mut shown = Shown::start(&scene, "now.vhdx", "--writable");
        std::fs::write(shown.file("disk.raw"), vec![5; 1 << 20]).unwrap();
        let held = std::fs::File::open(shown.file("disk.raw")).unwrap();
        scene.interrupt(&shown.child);
        let mut told = String::new();
        while !told.contains("it ends as soon as nobody uses it") {
            told.clear();
            assert!(shown.out.read_line(&mut told).unwrap() > 0);
        }
        assert!(told.contains(&format!("process {}", std::process::id())), "{told}");
        if again {
            scene.interrupt(&shown.child);
        } else {
            drop(held);
        }
        assert_eq!(shown.child.wait().unwrap().code(), Some(if again { 130 } else { 0 }));
        assert_eq!(std::fs::read_dir(scene.path("fen")).unwrap().count(), 0, "no mount is left");
        scene.run("check now.vhdx").expect("check", 0, "healthy", "");
        scene.run("bytes read now.vhdx --at 1048575 --len 1").expect("kept", 0, "\u{5}", "");
    }
    // Whoever means it may take it away without signals.
    let mut shown = Shown::start(&scene, "now.vhdx", "--writable");
    let held = std::fs::File::open(shown.file("disk.raw")).unwrap();
    scene.run("detach fen").expect("held", 4, "", "let it end");
    scene.run("detach fen --force=in-use").expect("forced", 0, "durable", "");
    assert!(shown.child.wait().unwrap().success());
    drop(held);
}

#[test]
fn a_full_host_fails_the_write_that_met_it_and_no_other() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    let Some(_small) = scene.small_file_system() else { return };
    scene.run("make small/now.vhdx 64M -q").expect("make", 0, "", "can grow to");
    let ballast = scene.path("small/ballast");
    std::fs::write(&ballast, vec![7; 2 << 20]).unwrap();
    let shown = Shown::start(&scene, "small/now.vhdx", "--writable");
    let file = std::fs::File::options().read(true).write(true).open(shown.file("disk.raw")).unwrap();
    let write = |at: u64| std::os::unix::fs::FileExt::write_all_at(&file, &[2; 1 << 20], at << 20);
    let first = (0..60).find(|at| write(*at).is_err()).expect("it is full some time");
    assert_eq!(write(first).unwrap_err().kind(), std::io::ErrorKind::StorageFull);
    std::fs::remove_file(&ballast).unwrap();
    write(first).unwrap();
    file.sync_all().unwrap();
    drop(file);
    let told = shown.detach();
    assert_eq!(told.matches("fail: ").count(), 1, "told once: {told}");
    assert!(told.contains("are done again"), "{told}");
    scene.run("check small/now.vhdx").expect("check", 0, "healthy", "");
}

#[test]
fn what_cannot_be_is_said_with_the_way_out() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 16M -q").expect("make", 0, "", "");
    std::fs::create_dir(scene.path("full")).unwrap();
    std::fs::write(scene.path("full/lot"), "1").unwrap();
    std::fs::create_dir(scene.path("fen")).unwrap();
    for (typed, status, told) in [
        ("expose now.vhdx nowhere", 4, "make the folder first"),
        ("expose now.vhdx full", 4, "name an empty folder"),
        ("expose now.vhdx seeds.txt", 4, "is no folder"),
        ("expose nothing.vhdx fen", 1, "cannot open nothing.vhdx"),
        ("expose seeds.txt fen", 2, "format"),
        ("expose now.vhdx fen --writable --throwaway", 2, "cannot be used with"),
        ("expose now.vhdx fen --throwaway --scratch nowhere", 1, "nowhere"),
        ("serve now.vhdx --socket-owner root", 2, "--socket <SOCKET>"),
    ] {
        scene.run(typed).expect(typed, status, "", told);
    }
    assert_eq!(std::fs::read_dir(scene.path("fen")).unwrap().count(), 0);
    let mut shown = Shown::start(&scene, "now.vhdx", "");
    scene.run("make other.vhdx 16M -q").expect("make", 0, "", "");
    scene.run("expose other.vhdx fen").expect("mounted", 4, "", "has something mounted on it already");
    for (act, refused) in [
        ("make", std::fs::write(shown.file("part1"), "").is_err()),
        ("remove", std::fs::remove_file(shown.file("disk.raw")).is_err()),
        ("cut", std::fs::File::options().write(true).open(shown.file("disk.raw")).is_err()),
    ] {
        assert!(refused, "{act}");
    }
    shown.kill();
    scene.run("expose other.vhdx fen").expect("dead", 4, "", "detach it first");
    scene.run("detach fen --wait 60").expect("cleared", 0, "its process was gone", "");

    // A table with a partition that lies outside: the disk is there, that partition is not.
    let mut sector = vec![0u8; 512];
    for (slot, start, count) in [(0, 64u32, 64u32), (1, 30_000, 30_000)] {
        let entry = &mut sector[446 + 16 * slot..][..16];
        entry[4] = 0x83;
        entry[8..12].copy_from_slice(&start.to_le_bytes());
        entry[12..].copy_from_slice(&count.to_le_bytes());
    }
    sector[510..].copy_from_slice(&[0x55, 0xAA]);
    std::fs::write(scene.path("table"), sector).unwrap();
    scene.run("bytes write now.vhdx --at 0 -i table -q").expect("write", 0, "", "");
    let mut shown = Shown::start(&scene, "now.vhdx", "");
    let mut names: Vec<_> = std::fs::read_dir(scene.path("fen"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    names.sort();
    assert_eq!(names, ["disk.raw", "part1"]);
    let mut told = [0; 200];
    let len = shown.child.stderr.as_mut().unwrap().read(&mut told).unwrap();
    assert!(String::from_utf8_lossy(&told[..len]).contains("partition 2 reaches past the end"));
    shown.detach();

    // A folder for sockets that another user made is not ours.
    _ = std::fs::remove_dir_all(scene.runtime());
    std::fs::create_dir(scene.runtime()).unwrap();
    chown(scene.runtime(), Some(65534), None).unwrap();
    scene.run("serve now.vhdx").expect("not ours", 4, "", "belongs to user 65534");
    let mut shown = Shown::start(&scene, "now.vhdx", "--json");
    let mut first = String::new();
    _ = shown.out.get_mut();
    scene.interrupt(&shown.child);
    shown.out.read_to_string(&mut first).unwrap();
    assert!(shown.child.wait().unwrap().success());
    crate::documents::fits("event", &serde_json::from_str(first.lines().last().unwrap()).unwrap());
}

#[test]
fn in_the_background_it_is_there_when_the_command_returns() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 16M -q").expect("make", 0, "", "");
    std::fs::create_dir(scene.path("fen")).unwrap();
    let told = scene.json("expose now.vhdx fen --writable --background");
    assert_eq!(told["files"][0]["size"], 16 << 20);
    std::fs::write(scene.path("fen/disk.raw"), "Caltha palustris").unwrap();
    scene.run("show now.vhdx").expect("held", 0, "zsap expose now.vhdx fen --writable", "");
    scene.run("detach fen").expect("detach", 0, "durable", "");
    scene.run("bytes read now.vhdx --at 0 --len 6").expect("kept", 0, "Caltha", "");
    scene.run("expose now.vhdx fen --background").expect("text", 0, "goes on until: zsap detach fen", "");
    scene.run("detach fen").expect("detach", 0, "nothing was written", "");
    scene.run("expose nothing.vhdx fen --background").expect("fails", 1, "", "cannot open nothing.vhdx");
}
