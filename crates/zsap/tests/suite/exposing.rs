//! `zsap expose`, with this host's kernel as the judge: its loop devices, its file systems, real kills.

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde_json::Value;

use crate::scene::Scene;
use crate::shown::{Shown, attached, can_mount, tool};

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
}
