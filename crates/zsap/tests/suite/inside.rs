//! `prepare` and `files` as their users meet them: good and bad input, hosts that are full or only read, disks in use.

use std::os::unix::fs::PermissionsExt;

use crate::scene::Scene;
use crate::shown::{Shown, can_mount};

/// A disk with a small FAT volume that holds some records, and an empty one.
fn records(scene: &Scene) {
    std::fs::create_dir_all(scene.path("sheets/old")).unwrap();
    std::fs::write(scene.path("sheets/HF-0001.txt"), "Caltha palustris\n").unwrap();
    std::fs::write(scene.path("sheets/old/HF-0000.txt"), "Iris pseudacorus\n").unwrap();
    std::fs::write(scene.path("sheets/scan.bin"), vec![7; 700_000]).unwrap();
    scene.run("make records.vhdx 64M -q").expect("make", 0, "", "");
    let told = scene.json("prepare records.vhdx --volume 8M,fs=fat,label=sheets,fill=sheets --volume rest");
    assert_eq!((&told["table"], &told["volumes"][0]["label"]), (&"gpt".into(), &"SHEETS".into()), "{told}");
    assert_eq!(told["volumes"][1]["file_system"], serde_json::Value::Null);
}

#[test]
fn files_are_listed_found_and_taken_out() {
    let scene = Scene::new();
    records(&scene);
    // The only volume whose files can be read need not be named.
    scene.run("files list records.vhdx").expect("list", 0, "2 files, 1 folder; ", "");
    scene.run("files list records.vhdx -r --volume 1").expect("below", 0, "/old/HF-0000.txt", "");
    scene.run("files list records.vhdx --volume 2").expect(
        "nothing known",
        1,
        "",
        "holds no file system that is known",
    );
    scene.run("files list records.vhdx --volume 7").expect("no such volume", 2, "", "which has 2: 1 (FAT16, SHEETS");
    scene.run("files list records.vhdx /old/nothing").expect("nowhere", 2, "", "nothing of that name in /old");
    let listed = scene.json("files list records.vhdx -r");
    let paths: Vec<_> = listed["entries"].as_array().unwrap().iter().map(|entry| entry["path"].clone()).collect();
    assert_eq!(paths, ["/HF-0001.txt", "/old", "/scan.bin", "/old/HF-0000.txt"]);
    assert_eq!((&listed["file_system"], &listed["entries"][2]["size"]), (&"fat16".into(), &700_000.into()));
    assert_eq!(scene.json("files list records.vhdx /old/HF-0000.txt")["entries"].as_array().unwrap().len(), 1);
    let found = scene.json("files find records.vhdx hf-*.txt");
    assert_eq!(found["entries"].as_array().unwrap().len(), 2, "{found}");
    assert_eq!(scene.json("files find records.vhdx /**/*.txt --larger 1M")["entries"], serde_json::json!([]));
    assert_eq!(scene.json("files find records.vhdx * --newer 1d")["entries"].as_array().unwrap().len(), 4);
    assert_eq!(scene.json("files find records.vhdx * --newer 2090-01-01")["entries"], serde_json::json!([]));
    scene.run("files find records.vhdx [").expect("no pattern", 2, "", "is no pattern");
    scene.run("files find records.vhdx * --newer soon").expect("no moment", 2, "", "a date such as");

    scene.run("files get records.vhdx / all").expect("everything", 0, "took 3 files, 1 folder", "");
    assert_eq!(std::fs::read(scene.path("all/scan.bin")).unwrap(), vec![7; 700_000]);
    assert_eq!(std::fs::read(scene.path("all/old/HF-0000.txt")).unwrap(), b"Iris pseudacorus\n");
    let modified = |path: &str| std::fs::metadata(scene.path(path)).unwrap().modified().unwrap();
    let apart = modified("all/scan.bin").duration_since(modified("sheets/scan.bin"));
    assert!(apart.unwrap_or_else(|error| error.duration()).as_secs() <= 2, "FAT counts in two seconds");
    scene.run("files get records.vhdx / all").expect("it is there", 4, "", "is there already");
    scene.run("files get records.vhdx /old /HF-0001.txt some --plan").expect("plan", 0, "nothing was changed", "");
    assert!(!scene.path("some").exists());
    scene.run("files get records.vhdx /old /nothing some").expect("nothing is begun", 2, "", "/nothing in volume 1");
    assert!(!scene.path("some").exists());
    let taken = scene.json("files get records.vhdx /old /HF-0001.txt some");
    assert_eq!((&taken["files"], &taken["folders"], &taken["bytes"]), (&2.into(), &1.into(), &34.into()), "{taken}");
    scene.run("files get records.vhdx /HF-0001.txt -").expect("to a pipe", 0, "Caltha palustris", "");
    scene.run("files get records.vhdx /old -").expect("a folder to a pipe", 2, "", "it is a folder");
    scene.run("files get records.vhdx /HF-0001.txt - --json").expect("no document", 2, "", "pipe it somewhere");
    scene.run("files get records.vhdx etc x").expect("no path", 2, "", "does not begin with a slash");
}

#[test]
fn a_disk_is_read_at_its_checkpoints_and_while_it_is_served() {
    let scene = Scene::new();
    records(&scene);
    std::fs::create_dir(scene.path("herbarium")).unwrap();
    std::fs::rename(scene.path("records.vhdx"), scene.path("herbarium/records.vhdx")).unwrap();
    scene.run("grove new herbarium --machine herbarium -q").expect("grove", 0, "", "");
    scene.run("grove add herbarium herbarium/records.vhdx -q").expect("add", 0, "", "");
    scene.run("checkpoint take herbarium before -q").expect("take", 0, "", "");
    std::fs::create_dir(scene.path("other")).unwrap();
    std::fs::write(scene.path("other/new.txt"), "x").unwrap();
    let again = "prepare herbarium --volume 8M,fs=fat,fill=other -q";
    scene.run(again).expect("it is not blank", 4, "", "--force=not-blank goes on all the same");
    scene.run(&format!("{again} --force=not-blank")).expect(
        "given up",
        0,
        "",
        "what is there is lost: a GPT with 2 volumes",
    );
    scene.run("files list herbarium").expect("the present", 0, "/new.txt", "");
    let past = scene.run("files list herbarium --checkpoint before");
    past.expect("the past", 0, "/HF-0001.txt", "");
    assert!(!past.out.contains("new.txt"));
    let mut server = scene.start("serve herbarium --disk records --writable --socket fen.sock");
    scene.wait_for_file("fen.sock");
    scene.run("files list herbarium").expect("served", 0, "/new.txt", "is being served by process");
    scene.run("files get herbarium /HF-0001.txt old --checkpoint before").expect("a checkpoint", 0, "took 1 file", "");
    scene.run("prepare herbarium --volume rest --force=not-blank").expect("in use", 4, "", "is being used by process");
    scene.interrupt(&server);
    server.wait().unwrap();
    // A program that takes no locks is seen all the same.
    let image = scene.path("herbarium/records.vhdx");
    let script = "exec 9<>\"$0\"; touch is-open; sleep 60";
    let mut writer = std::process::Command::new("sh");
    let mut writer = writer.args(["-c", script]).arg(image).current_dir(scene.path("")).spawn().unwrap();
    scene.wait_for_file("is-open");
    scene.run("files list herbarium").expect("written to", 0, "/new.txt", "is open for writing by process");
    writer.kill().unwrap();
    writer.wait().unwrap();
}

#[test]
fn hosts_without_room_or_permission_are_told_of() {
    let scene = Scene::new();
    records(&scene);
    scene.run("files get nothing.vhdx / x").expect("no disk", 1, "", "No such file");
    scene.run("prepare nothing.vhdx").expect("no disk", 1, "", "No such file");
    scene.run("prepare records.vhdx --volume 1G").expect("too large", 2, "", "the disk of 64 MiB (67108864 bytes) has");
    scene.run("prepare records.vhdx --volume 8M,fs=tar").expect("no file system", 2, "", "none of fat, ext4");
    let Some(_small) = scene.small_file_system() else { return };
    scene.fill_up("small/fill");
    scene.run("files get records.vhdx / small/all").expect("no room", 4, "", "the host has");
    assert!(!scene.path("small/all").exists());
    scene.run("make blank.vhdx 64M -q").expect("make", 0, "", "");
    let prepare = "prepare blank.vhdx --volume 8M,fs=fat";
    scene.run(&format!("{prepare} --scratch small")).expect("no room for scratch", 4, "", "the host has");
    let remount = std::process::Command::new("mount").args(["-o", "remount,ro"]).arg(scene.path("small")).status();
    assert!(remount.unwrap().success());
    let told = scene.run("files get records.vhdx /HF-0001.txt small");
    assert!([1, 4].contains(&told.status) && !scene.path("small/HF-0001.txt").exists(), "{}", told.err);
    // What is only read can be looked into.
    std::fs::set_permissions(scene.path("records.vhdx"), std::fs::Permissions::from_mode(0o444)).unwrap();
    scene.run("files list records.vhdx").expect("read-only", 0, "/HF-0001.txt", "");
    scene.run("prepare records.vhdx --force=not-blank").expect("marked", 4, "", "is marked read-only");
    scene.run(prepare).expect("elsewhere", 0, "prepared blank.vhdx", "");
}

/// An interrupt in the middle leaves whole files alone.
#[test]
fn an_interrupt_leaves_no_half_file() {
    let scene = Scene::new();
    std::fs::create_dir(scene.path("sheets")).unwrap();
    for number in 0..40u8 {
        std::fs::write(scene.path(&format!("sheets/scan-{number}.bin")), vec![number + 1; 1 << 20]).unwrap();
    }
    scene.run("make records.vhdx 128M -q").expect("make", 0, "", "");
    scene.run("prepare records.vhdx --volume rest,fs=fat,fill=sheets -q").expect("prepare", 0, "", "");
    let mut getting = scene.start("files get records.vhdx / all --rate-limit 10M");
    scene.wait("some files", || std::fs::read_dir(scene.path("all")).is_ok_and(|files| files.count() > 3));
    scene.interrupt(&getting);
    assert_eq!(getting.wait().unwrap().code(), Some(1));
    let files: Vec<_> = std::fs::read_dir(scene.path("all")).unwrap().flatten().collect();
    assert!(files.len() < 40, "{}", files.len());
    for file in files {
        let content = std::fs::read(file.path()).unwrap();
        assert!(content.len() == 1 << 20 && content.iter().all(|byte| *byte == content[0] && *byte > 0));
    }
}

/// The kernel takes what was prepared for its own, and what it writes is read here.
#[test]
fn a_prepared_volume_is_mounted_and_written_to() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    std::fs::create_dir(scene.path("sheets")).unwrap();
    std::fs::write(scene.path("sheets/HF-0001.txt"), "Caltha palustris\n").unwrap();
    for (ending, sectors) in [("vhdx", "512/4096"), ("vhdx", "4096/4096"), ("vhd", "512/512")] {
        let image = format!("records-{}.{ending}", sectors.replace('/', "-"));
        scene.run(&format!("make {image} 256M --sectors {sectors} -q")).expect("make", 0, "", "");
        let prepare = format!("prepare {image} --volume 16M --volume rest,fs=ext4,label=sheets,fill=sheets -q");
        scene.run(&prepare).expect("prepare", 0, "", "");
        let shown = Shown::start(&scene, &image, "--writable");
        let mounted = shown.mount("part2", "");
        assert_eq!(std::fs::read(scene.path("m/HF-0001.txt")).unwrap(), b"Caltha palustris\n");
        std::fs::write(scene.path("m/HF-0002.txt"), "Iris pseudacorus\n".repeat(9000)).unwrap();
        std::fs::remove_file(scene.path("m/HF-0001.txt")).unwrap();
        drop(mounted);
        shown.detach();
        let listed = scene.json(&format!("files find {image} HF-*"));
        assert_eq!(listed["entries"].as_array().unwrap().len(), 1, "{listed}");
        let taken = scene.run(&format!("files get {image} /HF-0002.txt -"));
        assert_eq!(taken.out, "Iris pseudacorus\n".repeat(9000));
    }
}

/// Deleted files: held by a checkpoint, left in the volume, lost.
#[test]
fn deleted_files_are_listed_and_taken_out() {
    let scene = Scene::new();
    records(&scene);
    let none = "files list records.vhdx --deleted";
    scene.run(none).expect("none", 0, "none is known\n  0 held by older layers, 0 sure, 0 unsure, 0 lost", "");
    std::fs::create_dir(scene.path("herbarium")).unwrap();
    std::fs::rename(scene.path("records.vhdx"), scene.path("herbarium/records.vhdx")).unwrap();
    scene.run("grove new herbarium --machine herbarium -q").expect("grove", 0, "", "");
    scene.run("grove add herbarium herbarium/records.vhdx -q").expect("add", 0, "", "");
    scene.run("checkpoint take herbarium before -q").expect("take", 0, "", "");
    // The guest deletes a file: its entry, and the chain of its clusters.
    scene.run("copy herbarium flat.raw -q").expect("copy", 0, "", "");
    let flat = std::fs::read(scene.path("flat.raw")).unwrap();
    let at = flat.windows(11).position(|bytes| bytes == b"HF-0001 TXT" || bytes == b"HF-000~1TXT").unwrap();
    std::fs::write(scene.path("gone"), [0xE5]).unwrap();
    for at in [at, at - 32] {
        scene.run(&format!("bytes write herbarium --at {at} -i gone -q")).expect("delete", 0, "", "");
    }
    let list = "files list herbarium --deleted";
    scene.run(list).expect(
        "held",
        0,
        "/HF-0001.txt  at before\n  1 held by older layers, 0 sure, 0 unsure, 0 lost",
        "",
    );
    let told = scene.json(list);
    let entry = &told["entries"][0];
    assert_eq!(
        (&entry["path"], &entry["certainty"], &entry["deleted"]),
        (&"/HF-0001.txt".into(), &"sure".into(), &true.into())
    );
    assert_eq!(entry["checkpoint"], "before", "{told}");
    scene.run("files list herbarium /old --deleted").expect("below a folder", 0, "none is known", "");
    let get = "files get herbarium /HF-0001.txt back --deleted";
    scene.run(&format!("{get} --plan")).expect("plan", 0, "which still holds it", "");
    scene.run(get).expect("get", 0, "took 1 file", "");
    assert_eq!(std::fs::read(scene.path("back/HF-0001.txt")).unwrap(), b"Caltha palustris\n");
    scene.run(get).expect("it is there", 4, "", "is there already");
    scene.run("files get herbarium /scan.bin back --deleted").expect(
        "it is not deleted",
        2,
        "",
        "in the files that were deleted",
    );
    scene.run("files get herbarium /HF-0001.txt - --deleted").expect("to a pipe", 2, "", "name a folder of this host");
    // Without an older layer what is left is a guess, or lost: here its cluster is in use still.
    scene.run("copy herbarium alone.vhdx -q").expect("copy", 0, "", "");
    let told = scene.json("files list alone.vhdx --deleted");
    assert_eq!(
        (&told["entries"][0]["certainty"], &told["entries"][0]["held_by"]),
        (&"lost".into(), &serde_json::Value::Null)
    );
    let path = told["entries"][0]["path"].as_str().unwrap().to_owned();
    scene.run(&format!("files get alone.vhdx {path} none --deleted")).expect(
        "lost",
        1,
        "",
        "it was deleted, and is lost",
    );
    assert!(!scene.path("none").exists());
}

/// What an upgrade changed, as files: at a checkpoint, and in the ranges that differ.
#[test]
fn what_changed_is_told_as_files() {
    let scene = Scene::new();
    records(&scene);
    std::fs::create_dir(scene.path("herbarium")).unwrap();
    std::fs::rename(scene.path("records.vhdx"), scene.path("herbarium/records.vhdx")).unwrap();
    scene.run("grove new herbarium --machine herbarium -q").expect("grove", 0, "", "");
    scene.run("grove add herbarium herbarium/records.vhdx -q").expect("add", 0, "", "");
    scene.run("checkpoint take herbarium before -q").expect("take", 0, "", "");
    let same = "files diff herbarium --checkpoint before";
    scene.run(same).expect("nothing happened", 0, "no file came, went, or changed", "");
    scene.run(&format!("{same} --contents")).expect("nothing at all", 0, "the same files, with the same content", "");
    let told = scene.json(same);
    assert_eq!((&told["added"], &told["removed"], &told["changed"]), (&[0; 0].into(), &[0; 0].into(), &[0; 0].into()));
    // The content of one file, where it lies: neither its size nor its time tells of that.
    let listed = scene.json("diff herbarium --checkpoint before --files");
    assert_eq!((&listed["bytes"], &listed["files"]["other"]["impact_count"]), (&0.into(), &0.into()), "{listed}");
    let disk = std::fs::read(scene.path("herbarium/history/0001-before/records.vhdx")).unwrap();
    let text = disk.windows(16).position(|bytes| bytes == b"Caltha palustris");
    assert!(text.is_some());
    std::fs::write(scene.path("sown"), "Caltha ?????????").unwrap();
    let raw = scene.run("copy herbarium flat.raw -q");
    raw.expect("copy", 0, "", "");
    let flat = std::fs::read(scene.path("flat.raw")).unwrap();
    let at = flat.windows(16).position(|bytes| bytes == b"Caltha palustris").unwrap();
    scene.run(&format!("bytes write herbarium --at {at} -i sown -q")).expect("write", 0, "", "");
    scene.run(same).expect("not by size and time", 0, "no file came, went, or changed", "");
    let changed = scene.run(&format!("{same} --contents"));
    changed.expect("by content", 0, "/HF-0001.txt  (content)\n  0 added (0 B), 0 removed (0 B), 1 changed", "");
    let told = scene.json(&format!("{same} --contents"));
    let entry = &told["changed"][0];
    assert_eq!((&entry["path"], &entry["by"]), (&"/HF-0001.txt".into(), &serde_json::json!(["content"])), "{told}");
    scene.run("diff herbarium --checkpoint before --files").expect("ranges", 0, "in both that is: one file (", "");
    let told = scene.json("diff herbarium --checkpoint before --files");
    let hit = &told["files"]["one"]["impact"][0];
    assert_eq!(
        (&hit["what"], &hit["path"], &hit["volume"]),
        (&"file".into(), &"/HF-0001.txt".into(), &1.into()),
        "{told}"
    );
    // What two disks have that never had anything in common.
    scene.run("make other.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("files diff herbarium other.vhdx").expect("nothing in it", 2, "", "has no volumes");
    scene.run("prepare other.vhdx --volume 8M,fs=fat -q").expect("prepare", 0, "", "");
    let told = scene.json("files diff herbarium other.vhdx");
    assert_eq!(told["removed"].as_array().unwrap().len(), 4, "{told}");
    scene.run("files diff other.vhdx nothing.vhdx").expect("no disk", 1, "", "No such file");
    scene.run("files diff other.vhdx herbarium --volume 2").expect("no files there", 2, "", "there is no volume 2");
}
