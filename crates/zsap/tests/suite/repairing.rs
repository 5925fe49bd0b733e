//! Damage is checked, mended, taken back and saved: the real command, on hosts that are full, failing or read-only.

use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use crate::devices::Loop;
use crate::scene::{Mounted, Scene};

/// A base with data, its second header torn.
fn damaged(scene: &Scene, name: &str) {
    scene.run(&format!("make {name} 64M -q")).expect("make", 0, "", "");
    scene.run(&format!("bytes write {name} --at 5M -i seeds.txt -q")).expect("write", 0, "", "");
    scene.spoil(name, 128 << 10);
}

#[test]
fn from_the_check_to_the_repair_and_back() {
    let scene = Scene::new();
    damaged(&scene, "fen-base.vhdx");
    let before = std::fs::read(scene.path("fen-base.vhdx")).unwrap();
    let same = || std::fs::read(scene.path("fen-base.vhdx")).unwrap() == before;
    let next = "next: `zsap repair fen-base.vhdx --plan`";
    scene.run("check fen-base.vhdx").expect("it says what to type", 3, next, "");
    let told = scene.json("check fen-base.vhdx");
    assert_eq!(told["next"], serde_json::json!(["zsap", "repair", "fen-base.vhdx", "--plan"]), "{told}");
    assert_eq!((&told["ok"], &told["findings"][0]["repair"]), (&false.into(), &"safe".into()));
    scene.run("repair fen-base.vhdx --plan").expect("plan", 0, "next: `zsap repair fen-base.vhdx --yes` does it", "");
    assert_eq!(scene.json("repair fen-base.vhdx --plan")["repairs"][0]["code"], "vhdx-header");
    let nobody = "nothing was changed: nobody said yes to the plan";
    scene.run("repair fen-base.vhdx").expect("nobody is asked", 4, "safe vhdx-header", nobody);
    scene.error("repair fen-base.vhdx", 4);
    scene.run("repair fen-base.vhdx --lossy=vhdx-header --yes").expect(
        "it loses nothing",
        2,
        "",
        "nothing of it is mended with a loss",
    );
    scene.run("repair fen-base.vhdx --lossy=vhdx-header --undo").expect("both", 2, "", "cannot be used with");
    scene.run("repair fen-base.vhdx --undo --yes").expect("nothing to undo", 2, "", "no undo file stands beside");
    assert!(same() && scene.files() == ["fen-base.vhdx", "seeds.txt"]);
    let mended = scene.run("repair fen-base.vhdx --yes");
    mended.expect("mended", 0, "it is whole again", "");
    assert!(mended.out.contains("next: `zsap repair fen-base.vhdx --undo` takes it back"), "{}", mended.out);
    scene.run("check fen-base.vhdx").expect("sound", 0, "healthy", "");
    scene.run("repair fen-base.vhdx --yes").expect("once more", 0, "there was nothing to mend", "");
    assert_eq!(scene.files(), ["fen-base.vhdx", "fen-base.vhdx.zsap.undo", "seeds.txt"]);
    // The small file is none of the images.
    scene.run("status").expect("it is no image", 0, "1 image in 1 family", "");
    scene.run("repair fen-base.vhdx --undo").expect(
        "nobody is asked",
        4,
        "put back what the repair",
        "nobody said yes",
    );
    scene.run("repair fen-base.vhdx --undo --yes").expect("back", 0, "bit for bit what it was", "");
    assert!(same() && scene.files() == ["fen-base.vhdx", "seeds.txt"]);
    // Once the guest went on there is no way back.
    scene.run("repair fen-base.vhdx --yes -q").expect("again", 0, "", "");
    scene.run("bytes write fen-base.vhdx --at 0 -i seeds.txt -q").expect("the guest goes on", 0, "", "");
    scene.run("repair fen-base.vhdx --undo --yes").expect("too late", 4, "", "was written to since the repair");
    scene.run("remove fen-base.vhdx -q").expect("remove", 0, "", "");
    assert_eq!(scene.files(), ["seeds.txt"]);
}

#[test]
fn what_is_given_up_is_named() {
    let scene = Scene::new();
    damaged(&scene, "fen-base.vhdx");
    let file = std::fs::File::options().write(true).open(scene.path("fen-base.vhdx")).unwrap();
    let whole = file.metadata().unwrap().len();
    file.set_len(whole - (1 << 20)).unwrap();
    drop(file);
    let part = scene.run("repair fen-base.vhdx --yes");
    part.expect("the safe part", 3, "mended a part of fen-base.vhdx: it is still damaged", "");
    let lossy = "`zsap repair fen-base.vhdx --lossy=vhdx-block-outside --plan` shows what that gives up";
    assert!(part.out.contains(lossy) && part.out.contains("1 MiB of the disk are lost"), "{}", part.out);
    let plan = scene.json("repair fen-base.vhdx --lossy=vhdx-block-outside --plan");
    assert_eq!(plan["content"]["lost"][0]["length"], 1 << 20, "{plan}");
    // The same words everywhere.
    for typed in [
        "check fen-base.vhdx",
        "repair fen-base.vhdx --lossy=vhdx-block-outside --plan",
        "salvage fen-base.vhdx s.vhdx",
    ] {
        let told = scene.run(typed);
        let flat = told.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(flat.contains("1 MiB of the disk are lost (at byte "), "{typed}: {}", told.out);
    }
    let list = std::fs::read_to_string(scene.path("s.vhdx.zsap.salvage.json")).unwrap();
    assert!(list.contains("\"lost\""), "{list}");
    scene.run("repair fen-base.vhdx --lossy=vhdx-block-outside --yes").expect("all of it", 0, "it is whole again", "");
    scene.run("repair fen-base.vhdx --undo --yes").expect("back", 0, "1 repair before that can be taken back", "");
    scene.run("repair fen-base.vhdx --undo --yes").expect("and back", 0, "vhdx-header", "");
    // A salvaged disk whose source got no better stays as it is.
    scene.run("salvage fen-base.vhdx s.vhdx").expect("once more", 3, "took up what was missing", "");
    assert_eq!(scene.json("salvage fen-base.vhdx other.vhdx")["content"]["lost"][0]["length"], 1 << 20);
}

#[test]
fn a_folder_is_checked_at_once_and_says_what_to_do() {
    let scene = Scene::new();
    scene.run("make fen-base.vhdx 1G -q").expect("make", 0, "", "");
    for number in 1..=20 {
        scene.run(&format!("derive fen-base.vhdx germination-{number:02}.vhdx -q")).expect("derive", 0, "", "");
    }
    scene.run("check .").expect("sound", 0, "21 images: healthy", "");
    scene.spoil("fen-base.vhdx", 64 << 10);
    let found = scene.run("check .");
    found.expect("one is damaged", 3, "next: `zsap repair fen-base.vhdx --plan`", "");
    assert_eq!(found.out.matches("the signature `head` is missing").count(), 1, "told once: {}", found.out);
    let told = scene.json("check . germination-01.vhdx");
    assert_eq!((told["findings"].as_array().unwrap().len(), told["images"].as_array().unwrap().len()), (1, 22));
    // Whoever is at an image keeps nobody from the others.
    let held = std::fs::File::open(scene.path("germination-03.vhdx")).unwrap();
    held.lock().unwrap();
    scene.run("check .").expect("one is in use", 3, "germination-03.vhdx: in use, not checked", "");
    scene.run("check germination-03.vhdx").expect("it was named", 4, "", "is being written to by process");
    drop(held);
    std::fs::write(scene.path("records.vhdx.partial-0123abcd"), "").unwrap();
    scene.run("check .").expect("left over", 3, "records.vhdx.partial-0123abcd was never finished", "");
    scene.run("check . nothing.vhdx").expect("one is missing", 3, "nothing.vhdx: not checked", "");
    std::fs::remove_file(scene.path("fen-base.vhdx")).unwrap();
    scene.run("check germination-07.vhdx").expect(
        "no parent",
        3,
        "next: `zsap relink germination-07.vhdx --search",
        "",
    );
    let past = scene.run("salvage germination-07.vhdx saved.vhdx");
    past.expect("and no salvage", 1, "", "goes on past it: what it held is missing");
    scene.run("salvage germination-07.vhdx saved.vhdx --without fen-base.vhdx").expect(
        "on past",
        3,
        "went on past",
        "",
    );
    // The catalogue of a machine.
    std::fs::create_dir(scene.path("herbarium")).unwrap();
    scene.run("make herbarium/system.vhdx 1G -q").expect("make", 0, "", "");
    scene.run("grove new herbarium --machine herbarium -q").expect("grove", 0, "", "");
    scene.run("grove add herbarium herbarium/system.vhdx -q").expect("add", 0, "", "");
    scene.run("repair herbarium --yes").expect("whole", 2, "", "the catalogue of herbarium is whole");
    std::fs::write(scene.path("herbarium/grove.json"), "{").unwrap();
    scene.run("check herbarium").expect("catalogue", 3, "it cannot be understood", "");
    scene.run("repair herbarium").expect("nobody is asked", 4, "", "nobody said yes");
    scene.run("repair herbarium --yes").expect("made anew", 0, "made the catalogue of", "the roles");
    scene.run("check herbarium").expect("sound again", 0, "healthy", "");
}

#[test]
fn a_host_without_room_or_permission_changes_nothing() {
    let scene = Scene::new();
    let Some(_small) = scene.small_file_system() else { return };
    scene.run("make small/fen-base.vhdx 64M -q").expect("make", 0, "", "");
    scene.spoil("small/fen-base.vhdx", 128 << 10);
    let before = std::fs::read(scene.path("small/fen-base.vhdx")).unwrap();
    // Not a byte is left for the undo file.
    scene.fill_up("small/fill");
    let full = scene.run("repair small/fen-base.vhdx --yes");
    assert!([1, 4].contains(&full.status), "{}{}", full.out, full.err);
    assert!(std::fs::read(scene.path("small/fen-base.vhdx")).unwrap() == before);
    scene.run("salvage small/fen-base.vhdx small/saved.vhdx").expect("no room", 4, "", "the host has");
    std::fs::remove_file(scene.path("small/fill")).unwrap();
    scene.run("repair small/fen-base.vhdx --yes").expect("room again", 0, "it is whole again", "");
    scene.run("repair small/fen-base.vhdx --undo --yes -q").expect("back", 0, "", "");
    assert!(std::fs::read(scene.path("small/fen-base.vhdx")).unwrap() == before);
    // A file system that nobody may write to.
    let remount = Command::new("mount").args(["-o", "remount,ro"]).arg(scene.path("small")).status().unwrap();
    assert!(remount.success());
    let read_only = scene.run("repair small/fen-base.vhdx --yes");
    read_only.expect("read-only", 1, "", "Read-only file system");
    scene.run("check small/fen-base.vhdx").expect("it can be checked", 3, "vhdx-header", "");
    scene.run("salvage small/fen-base.vhdx saved.vhdx").expect("and saved", 0, "nothing is missing", "");
    let mode = std::fs::metadata(scene.path("saved.vhdx")).unwrap().permissions().mode();
    assert_eq!(mode & 0o200, 0o200);
}

/// A disk whose second half the host cannot read.
#[test]
fn a_disk_that_fails_is_read_as_far_as_it_goes() {
    let scene = Scene::new();
    let content: Vec<u8> = (0..8u32 << 20).map(|at| (at >> 12) as u8 | 1).collect();
    std::fs::write(scene.path("disk"), &content).unwrap();
    let Some(failing) = Loop::over(&scene, "disk", &[]) else { return };
    let file = std::fs::File::options().write(true).open(scene.path("disk")).unwrap();
    file.set_len(5 << 20).unwrap();
    let device = &failing.device;
    let told = scene.json(&format!("check {device} --data --format raw"));
    assert_eq!(told["findings"][0]["code"], "data-unreadable", "{told}");
    assert_eq!(told["images"][0]["content"]["lost"][0]["offset"], 5 << 20, "{told}");
    scene.run(&format!("check {device} --format raw")).expect("quick", 0, "healthy", "");
    let saved = scene.json(&format!("salvage {device} saved.raw --source-format raw"));
    assert_eq!(
        (&saved["content"]["lost"][0]["length"], &saved["taken_up"]),
        (&(3 << 20).into(), &false.into()),
        "{saved}"
    );
    let found = std::fs::read(scene.path("saved.raw")).unwrap();
    assert!(found[..5 << 20] == content[..5 << 20] && found[5 << 20..].iter().all(|byte| *byte == 0));
    // Part of it can be read again: only the rest is taken up.
    std::os::unix::fs::FileExt::write_at(&file, &content[5 << 20..7 << 20], 5 << 20).unwrap();
    let more = scene.json(&format!("salvage {device} saved.raw --source-format raw"));
    assert_eq!((&more["content"]["lost"][0]["length"], &more["taken_up"]), (&(1 << 20).into(), &true.into()), "{more}");
    assert_eq!(more["bytes_written"], 3 << 20);
    std::os::unix::fs::FileExt::write_at(&file, &content[7 << 20..], 7 << 20).unwrap();
    scene.run(&format!("salvage {device} saved.raw --source-format raw")).expect(
        "all",
        0,
        "nothing is missing any more",
        "",
    );
    assert!(std::fs::read(scene.path("saved.raw")).unwrap() == content);
    assert!(!scene.path("saved.raw.zsap.salvage.json").exists());
}

/// A volume whose disk fails below an image.
#[test]
fn an_image_on_a_failing_disk_is_saved() {
    let scene = Scene::new();
    let volume = std::fs::File::create(scene.path("volume")).unwrap();
    volume.set_len(64 << 20).unwrap();
    let made = Command::new("mkfs.ext4").args(["-q", "-F", "-b", "4096"]).arg(scene.path("volume")).status();
    if !made.is_ok_and(|status| status.success()) {
        eprintln!("skipped: there is no mkfs.ext4");
        return;
    }
    std::fs::create_dir(scene.path("disk")).unwrap();
    let Some(failing) = Loop::over(&scene, "volume", &[]) else { return };
    let mount = |options: &str| {
        let mounted =
            Command::new("mount").args(["-o", options, &failing.device]).arg(scene.path("disk")).status().unwrap();
        mounted.success().then(|| Mounted::at(scene.path("disk")))
    };
    let Some(mounted) = mount("rw") else { return };
    std::fs::write(scene.path("data"), vec![7u8; 30 << 20]).unwrap();
    scene.run("copy data disk/records.vhd --source-format raw -q").expect("copy", 0, "", "");
    drop(mounted);
    let Some(mounted) = mount("ro,norecovery") else { return };
    // What lies behind this cannot be read any more.
    volume.set_len(24 << 20).unwrap();
    let saved = scene.run("salvage disk/records.vhd saved.raw --json");
    if saved.status == 3 {
        let told: serde_json::Value = serde_json::from_str(&saved.out).unwrap();
        let missing: u64 = ["lost", "doubtful"]
            .iter()
            .flat_map(|fate| told["content"][fate].as_array().unwrap().clone())
            .map(|range| range["length"].as_u64().unwrap())
            .sum();
        assert!(missing > 1 << 20 && missing < 30 << 20, "{told}");
        let found = std::fs::read(scene.path("saved.raw")).unwrap();
        let zeros = found.iter().filter(|byte| **byte == 0).count() as u64;
        assert!(found.iter().all(|byte| [0, 7].contains(byte)) && zeros <= missing + (1 << 20), "{zeros} {missing}");
    } else {
        assert_eq!(saved.status, 1, "{}{}", saved.out, saved.err);
    }
    drop(mounted);
}

/// What two images lost is told of each, though the rule that is broken is the same.
#[test]
fn losses_of_several_images_are_not_told_as_one() {
    let scene = Scene::new();
    std::fs::write(scene.path("much"), vec![7; 8 << 20]).unwrap();
    for (name, lost) in [("records.vhdx", 0), ("sheets.vhdx", 0), ("herbarium.vhdx", 3)] {
        scene.run(&format!("make {name} 64M -q")).expect(name, 0, "", "");
        scene.run(&format!("bytes write {name} --at 0 -i much -q")).expect(name, 0, "", "");
        // An entry of the table points far behind the end of the file.
        scene.spoil(name, (3 << 20) + 8 * lost + 5);
    }
    let found = scene.run("check .");
    found.expect("three", 3, "records.vhdx and sheets.vhdx: BROKEN, all alike", "");
    found.expect("three", 3, "herbarium.vhdx: BROKEN (1 file looked at)", "");
    found.expect("three", 3, "3 images: BROKEN (3 broken)", "");
    assert_eq!(found.out.matches("of the disk are lost").count(), 2, "{}", found.out);
    assert_eq!(scene.run("check . -v").out.matches("lies outside the file").count(), 3);
}
