//! `zsap compact` on real volumes, on bad input, beside who uses the disk, on a full host, and killed at any moment.

use std::fs::File;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::scene::Scene;
use crate::shown::{Shown, can_mount, tool};

const MIB: u64 = 1 << 20;

/// Bytes of no pattern that a host or an image could save.
fn noise(len: u64, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    let next = |_| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 56) as u8
    };
    (0..len).map(next).collect()
}

fn is_there(name: &str) -> bool {
    let path = std::env::var("PATH").unwrap_or_default() + ":/usr/sbin:/sbin";
    std::env::split_paths(&path).any(|folder| folder.join(name).exists())
}

fn taken(scene: &Scene, image: &str) -> u64 {
    scene.shown(image)["allocated_size"].as_u64().unwrap()
}

fn put(scene: &Scene, image: &str, at: u64, bytes: &[u8]) {
    std::fs::write(scene.path("piece"), bytes).unwrap();
    scene.run(&format!("bytes write {image} --at {at} -i piece -q")).expect("write", 0, "", "");
    std::fs::remove_file(scene.path("piece")).unwrap();
}

/// Files are written into real volumes, and most of them are deleted again.
#[test]
fn what_file_systems_mark_as_free_comes_back() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    std::fs::create_dir(scene.path("records")).unwrap();
    // One file is larger than what a reader has patience for without an answer.
    for (number, mib) in [70u64, 12, 9, 11, 10, 8, 9, 7].into_iter().enumerate() {
        std::fs::write(scene.path("records").join(format!("HF-{number}")), noise(mib * MIB, number as u64 + 3))
            .unwrap();
    }
    let (loader, secret) = (noise(300 << 10, 99), noise(6 * MIB, 98));
    std::fs::write(scene.path("secret"), &secret).unwrap();
    for (image, kind, needs) in [
        ("fen.vhdx", "ext4", "debugfs"),
        ("bog.vhd", "ext4", "debugfs"),
        ("reed.vhdx", "fat", "mdel"),
        ("moss.vhd", "fat", "mdel"),
        ("sedge.vhdx", "ntfs", "ntfs-3g"),
        ("rush.vhd", "ntfs", "ntfs-3g"),
    ] {
        if !is_there(needs) || !is_there("mkfs.ext4") {
            eprintln!("skipped: there is no {needs} here");
            continue;
        }
        scene.run(&format!("make {image} 260M -q")).expect(image, 0, "", "");
        let prepare = format!("prepare {image} --volume 220M,fs={kind} --volume rest -q");
        scene.run(&prepare).expect(image, 0, "", "");
        put(&scene, image, 17408, &loader);
        let secret_at = scene.shown(image)["volumes"][1]["offset"].as_u64().unwrap();
        put(&scene, image, secret_at, &secret);
        let shown = Shown::start(&scene, image, "--writable");
        let (part, records) = (shown.file("part1"), scene.path("records").display().to_string());
        let gone = [1, 2, 4, 5, 6];
        match kind {
            "ext4" => {
                let write = (0..8).map(|n| format!("write {records}/HF-{n} HF-{n}\n"));
                let remove = gone.iter().map(|n| format!("rm HF-{n}\n"));
                std::fs::write(scene.path("work"), write.chain(remove).collect::<String>()).unwrap();
                tool(&format!("debugfs -w -f {} {part}", scene.path("work").display()), "");
            }
            "fat" => {
                (0..8).for_each(|n| _ = tool(&format!("mcopy -i {part} {records}/HF-{n} ::"), ""));
                gone.iter().for_each(|n| _ = tool(&format!("mdel -i {part} ::HF-{n}"), ""));
            }
            _ => {
                let place = scene.path("m").display().to_string();
                _ = std::fs::create_dir(&place);
                tool(&format!("ntfs-3g {part} {place}"), "");
                (0..8).for_each(|n| _ = tool(&format!("cp {records}/HF-{n} {place}/"), ""));
                gone.iter().for_each(|n| _ = tool(&format!("rm {place}/HF-{n}"), ""));
                tool(&format!("umount {place}"), "");
            }
        }
        scene.run(&format!("compact {image}")).expect("while it is exposed", 4, "", "zsap expose");
        shown.detach();
        let before = taken(&scene, image);
        scene.run(&format!("compact {image} -q")).expect(image, 0, "", "");
        assert!(taken(&scene, image) > before - 20 * MIB, "{image}: nothing of it is zeros");
        let plan = scene.run(&format!("compact {image} --unused --plan"));
        plan.expect(image, 0, "that hold only what file systems mark as free", "");
        plan.expect(image, 0, "nothing that is known", "");
        let told = scene.run(&format!("compact {image} --unused"));
        told.expect(image, 0, "in blocks that file systems mark as free", "");
        let now = taken(&scene, image);
        // Blocks that hold something else as well stay.
        assert!(now < before - 36 * MIB, "{image}: {before} before, {now} now: {}", told.out);
        let again = scene.run(&format!("compact {image} --unused"));
        again.expect(image, 0, "holds no more than it needs: nothing was changed", "");
        scene.run(&format!("compact {image} --unused --holes-only -q")).expect(image, 0, "", "");
        assert!(taken(&scene, image) <= now, "{image}");
        scene.run(&format!("compact {image} --reorder -q")).expect(image, 0, "", "");
        scene.run(&format!("check {image} --data")).expect(image, 0, "healthy", "");
        assert_eq!(scene.shown(image)["scatter"]["backward"], 0, "{image}");
        for (at, bytes, what) in [(17408, &loader, "the loader"), (secret_at, &secret, "the unknown volume")] {
            scene
                .run(&format!("bytes read {image} --at {at} --len {} -o piece -q", bytes.len()))
                .expect(what, 0, "", "");
            assert!(std::fs::read(scene.path("piece")).unwrap() == *bytes, "{image}: {what}");
            std::fs::remove_file(scene.path("piece")).unwrap();
        }
        for number in [0, 3, 7] {
            scene.run(&format!("files get {image} /HF-{number} out --volume 1 -q")).expect(image, 0, "", "");
            tool(&format!("cmp {records}/HF-{number} {}/HF-{number}", scene.path("out").display()), "");
            std::fs::remove_dir_all(scene.path("out")).unwrap();
        }
        let shown = Shown::start(&scene, image, "");
        let part = shown.file("part1");
        match kind {
            "ext4" => _ = tool(&format!("e2fsck -fn {part}"), ""),
            "fat" => _ = tool(&format!("fsck.vfat -n {part}"), ""),
            _ => _ = tool(&format!("ntfsfix -n {part}"), ""),
        }
        shown.detach();
        std::fs::remove_file(scene.path(image)).unwrap();
    }
}

/// A family whose blocks stand in an order of their own, with zeros and leftovers among them.
fn family(scene: &Scene, ending: &str) {
    let (base, child) = (format!("base.{ending}"), format!("child.{ending}"));
    scene.run(&format!("make {base} 96M -q")).expect("make", 0, "", "");
    for (number, at) in [40u64, 8, 24, 0, 56, 16, 72, 32].into_iter().enumerate() {
        put(scene, &base, at * MIB, &noise(5 * MIB, number as u64 + 7));
    }
    put(scene, &base, 24 * MIB, &vec![0; 6 << 20]);
    scene.run(&format!("derive {base} {child} -q")).expect("derive", 0, "", "");
    for (number, at) in [60u64, 4, 44, 20].into_iter().enumerate() {
        put(scene, &child, at * MIB, &noise(7 * MIB, number as u64 + 31));
    }
    put(scene, &child, 44 * MIB, &vec![0; 7 << 20]);
    scene.run(&format!("copy {child} all.{ending}.raw -q")).expect("copy", 0, "", "");
    std::fs::create_dir(scene.path(&format!("kept-{ending}"))).unwrap();
    for name in [&base, &child] {
        tool(
            &format!(
                "cp -a --sparse=always {} {}",
                scene.path(name).display(),
                scene.path(&format!("kept-{ending}")).display()
            ),
            "",
        );
    }
}

#[test]
fn a_killed_compact_loses_nothing_and_is_done_again() {
    let rounds = std::env::var("ZSAP_COMPACT_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(12u32);
    let scene = Scene::new();
    ["vhdx", "vhd"].iter().for_each(|ending| family(&scene, ending));
    let (mut longest, mut cut) = (Duration::from_millis(200), 0);
    for round in 0..rounds {
        let ending = ["vhdx", "vhd"][round as usize % 2];
        let (base, child) = (format!("base.{ending}"), format!("child.{ending}"));
        for name in [&base, &child] {
            let kept = scene.path(&format!("kept-{ending}")).join(name);
            tool(&format!("cp -a --sparse=always {} {}", kept.display(), scene.path(name).display()), "");
        }
        let way = [
            format!("compact {child} --reorder"),
            format!("compact {base}"),
            format!("compact {child} --same-as-parent"),
            format!("compact {base} --reorder"),
            format!("compact {child} --holes-only"),
        ];
        let typed = &way[round as usize / 2 % way.len()];
        let case = format!("round {round}, {typed}");
        let started = Instant::now();
        let mut compacting = scene.start(typed);
        // The golden ratio spreads the moments evenly, however many rounds there are.
        let moment = (f64::from(round) * 0.618_034).fract();
        while started.elapsed() < longest.mul_f64(moment) && compacting.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_micros(200));
        }
        let was_running = compacting.try_wait().unwrap().is_none();
        _ = compacting.kill();
        compacting.wait().unwrap();
        cut += u32::from(was_running);
        if !was_running {
            longest = longest.min(started.elapsed());
        }
        let reads_the_same = || {
            let same = scene.run(&format!("diff {child} all.{ending}.raw --contents"));
            same.expect(&case, 0, "the same, as a guest sees them", "");
            scene.run(&format!("check {child} --data")).expect(&case, 0, "healthy", "");
        };
        reads_the_same();
        assert_eq!(scene.run(typed).status, 0, "{case}");
        reads_the_same();
        let left = scene.run(typed);
        left.expect(&case, 0, "nothing was changed", "");
    }
    println!("{rounds} rounds, {cut} killed at work");
    assert!(cut * 4 > rounds, "only {cut} of {rounds} were cut short");
}

/// Every refusal has its reason, and the way out where there is one.
#[test]
fn what_cannot_be_is_refused_with_the_reason() {
    let scene = Scene::new();
    family(&scene, "vhdx");
    scene.run("make fixed.vhd 16M --kind fixed -q").expect("make", 0, "", "");
    std::fs::write(scene.path("plain.raw"), vec![0; 16 << 20]).unwrap();
    std::fs::write(scene.path("piece"), noise(4096, 5)).unwrap();
    scene.run("bytes write plain.raw --at 1048576 -i piece -q").expect("write", 0, "", "");
    for (typed, status, out, err) in [
        ("compact missing.vhdx", 1, "", "missing.vhdx"),
        ("compact fixed.vhd", 4, "", "--force=reserved-space"),
        ("compact fixed.vhd --reorder", 2, "", "nothing in it can move"),
        ("compact base.vhdx --unused", 4, "", "is the parent of"),
        ("compact base.vhdx --same-as-parent", 4, "", "is the parent of"),
        ("compact fixed.vhd --same-as-parent", 2, "", "has no parent"),
        ("compact child.vhdx --reorder --holes-only", 2, "", "cannot be used with"),
        ("compact base.vhdx --plan", 0, "fill the gaps from the end of the file", ""),
        ("compact child.vhdx --reorder --plan", 0, "lay the blocks out in the order of the disk", ""),
        ("compact plain.raw --unused --plan", 0, "no volume is known on the disk", ""),
        ("compact plain.raw", 0, "as holes", ""),
        ("compact plain.raw", 0, "nothing was changed", ""),
        ("compact fixed.vhd --force=reserved-space", 0, "", ""),
        ("pin base.vhdx -q", 0, "", ""),
        ("compact base.vhdx", 4, "", "is pinned"),
        ("compact child.vhdx", 0, "is not", ""),
    ] {
        let told = scene.run(typed);
        let out = if out == "is not" { "of the host" } else { out };
        if out.is_empty() && status == 0 {
            assert_eq!(told.status, 0, "{typed}: {}", told.err);
            continue;
        }
        told.expect(typed, status, out, err);
    }
    // A program without locks that only reads.
    let reader = Command::new("sleep").arg("60").stdin(File::open(scene.path("child.vhdx")).unwrap()).spawn();
    let mut reader = reader.unwrap();
    scene.run("compact child.vhdx --reorder").expect("a reader", 4, "", "is open in");
    reader.kill().unwrap();
    reader.wait().unwrap();
    // In a folder where nothing can be made or removed nothing has to be.
    tool(&format!("chmod a-w {}", scene.path("").display()), "");
    let told = scene.run("compact child.vhdx --reorder");
    tool(&format!("chmod u+w {}", scene.path("").display()), "");
    told.expect("a read-only folder", 0, "of the host", "");
    let same = scene.run("diff child.vhdx all.vhdx.raw --contents");
    same.expect("the same", 0, "the same, as a guest sees them", "");
    let document = scene.error("compact base.vhdx --unused", 4);
    assert_eq!(document["kind"], "refused", "{document}");
}

/// A host that is full to the last byte gets its space back, and an interrupt leaves what was done.
#[test]
fn a_full_host_gets_its_space_back() {
    let scene = Scene::new();
    let Some(_small) = scene.small_file_system() else { return };
    for ending in ["vhdx", "vhd"] {
        let image = format!("small/full.{ending}");
        scene
            .run(&format!("make {image} 64M --block-size {} -q", if ending == "vhd" { "512K" } else { "1M" }))
            .expect("make", 0, "", "");
        put(&scene, &image, 0, &vec![0; 1 << 20]);
        put(&scene, &image, 8 << 20, &noise(MIB, 3));
        put(&scene, &image, 4 << 20, &noise(MIB, 4));
        scene.run(&format!("copy {image} before.raw -q")).expect("copy", 0, "", "");
        scene.fill_up("small/rest");
        scene.run(&format!("compact {image}")).expect("full", 0, "in blocks of zeros", "");
        scene.fill_up("small/more");
        let told = scene.run(&format!("compact {image} --reorder"));
        assert!([0, 1].contains(&told.status), "{}", told.err);
        std::fs::remove_file(scene.path("small/rest")).unwrap();
        std::fs::remove_file(scene.path("small/more")).unwrap();
        scene.run(&format!("compact {image} --reorder -q")).expect("room", 0, "", "");
        let same = scene.run(&format!("diff {image} before.raw --contents"));
        same.expect("the same", 0, "the same, as a guest sees them", "");
        scene.run(&format!("check {image} --data")).expect("check", 0, "healthy", "");
        std::fs::remove_file(scene.path("before.raw")).unwrap();
        std::fs::remove_file(scene.path(&image)).unwrap();
    }
    family(&scene, "vhdx");
    let compacting = scene.start("compact child.vhdx --reorder --rate-limit 4M");
    std::thread::sleep(Duration::from_secs(2));
    scene.interrupt(&compacting);
    let ended = compacting.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&ended.stderr);
    assert!(ended.status.code() == Some(1) && told.contains("stopped on request"), "{ended:?}");
    let same = scene.run("diff child.vhdx all.vhdx.raw --contents");
    same.expect("the same", 0, "the same, as a guest sees them", "");
    scene.run("check child.vhdx --data").expect("check", 0, "healthy", "");
}
