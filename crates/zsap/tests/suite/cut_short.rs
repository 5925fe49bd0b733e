//! Commands that are interrupted or killed, and what is left.

use crate::scene::Scene;

/// An interrupt in the middle of a copy leaves nothing behind, and says so.
#[test]
fn an_interrupt_leaves_nothing_half_made() {
    let scene = Scene::new();
    std::fs::write(scene.path("big.raw"), vec![7; 64 << 20]).unwrap();
    scene.run("copy big.raw base.vhdx -q").expect("copy", 0, "", "");
    scene.run("derive base.vhdx child.vhdx -q").expect("derive", 0, "", "");
    let work = [
        "copy big.raw copy.vhdx",
        "copy big.raw copy.vhd --kind fixed",
        "copy big.raw copy.raw",
        "make new.raw 64M --space written",
        "make new.vhdx 64M --kind fixed --space written",
        "make new.vhdx --filled-from child.vhdx",
        "copy child.vhdx copy --piece-size 8M",
        "copy child.vhdx copy --depth chain",
    ];
    for typed in work {
        let child = scene.start(&format!("{typed} --rate-limit 2M"));
        scene.wait_for_file("partial");
        scene.interrupt(&child);
        let output = child.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(1));
        assert!(String::from_utf8_lossy(&output.stderr).contains("stopped on request"), "{output:?}");
        assert_eq!(scene.files(), ["base.vhdx", "big.raw", "child.vhdx", "seeds.txt"]);
    }
}

/// An interrupted merge is told everywhere, guards its images, and is carried on or given up.
#[test]
fn an_interrupted_merge_is_told_and_carried_on() {
    let scene = Scene::new();
    std::fs::write(scene.path("big.raw"), vec![7; 24 << 20]).unwrap();
    for (ending, ends) in [("vhdx", "resume ."), ("vhd", "abandon now.vhd")] {
        let name = |stem: &str| format!("{stem}.{ending}");
        scene.run(&format!("make {} 64M -q", name("base"))).expect("make", 0, "", "");
        scene.run(&format!("bytes write {} --at 30M -i big.raw -q", name("base"))).expect("write", 0, "", "");
        scene.run(&format!("derive {} {} -q", name("base"), name("now"))).expect("derive", 0, "", "");
        scene.run(&format!("bytes write {} --at 0 -i big.raw -q", name("now"))).expect("write", 0, "", "");
        let merging = scene.start(&format!("merge {} --rate-limit 2M", name("now")));
        scene.wait_for_file("zsap.journal");
        std::thread::sleep(std::time::Duration::from_millis(300));
        let words = format!("process {} (zsap merge {} --rate-limit 2M), since 20", merging.id(), name("now"));
        let status = scene.run("status");
        status.expect("status", 0, &words, "");
        status.expect("status", 0, "is at it now", "");
        scene.interrupt(&merging);
        let output = merging.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).split_whitespace().collect::<Vec<_>>().join(" ");
        assert_eq!(output.status.code(), Some(1), "{told}");
        assert!(told.contains("is not finished, and it reads as before"), "{told}");
        for (typed, status) in [("status", 5), ("tree", 0), (&*format!("show {}", name("now")), 0)] {
            scene.run(typed).expect(typed, status, "is not finished; it reads as before", "");
        }
        for typed in ["bytes write X --at 0 -i seeds.txt", "remove X", "derive X other.E", "identity X --fresh"] {
            let typed = typed.replace('X', &name("now")).replace(".E", &format!(".{ending}"));
            scene.run(&typed).expect(&typed, 4, "", "takes part in a merge that was begun and is not finished");
        }
        scene.run(&format!("bytes read {} --at 23M --len 4", name("now"))).expect("reads", 0, "\u{7}\u{7}", "");
        scene.run(ends).expect(ends, 0, name("now").as_str(), "");
        scene.run("status").expect("status", 0, ": healthy", "");
        scene.run(&format!("merge {} -q", name("now"))).expect(
            "again",
            if ending == "vhd" { 0 } else { 2 },
            "",
            if ending == "vhd" { "" } else { "has no parent" },
        );
        scene.run(&format!("bytes read {} --at 23M --len 4", name("now"))).expect("reads", 0, "\u{7}\u{7}", "");
        scene.run(&format!("check {}", name("now"))).expect("check", 0, "healthy", "");
        assert!(!scene.path(&name("base")).exists());
    }
}

/// A writer that is killed leaves an image that is whole and still takes writes, and its lock goes with it.
#[test]
fn a_killed_writer_leaves_a_sound_image() {
    let scene = Scene::new();
    std::fs::write(scene.path("big.raw"), vec![7; 48 << 20]).unwrap();
    for ending in ["vhdx", "vhd"] {
        scene.run(&format!("make base.{ending} 64M -q")).expect("make", 0, "", "");
        scene.run(&format!("bytes write base.{ending} --at 1M -i seeds.txt -q")).expect("write", 0, "", "");
        scene.run(&format!("derive base.{ending} child.{ending} -q")).expect("derive", 0, "", "");
        for pause in [0, 3, 7, 12, 20, 35] {
            let mut writer = scene.start(&format!("bytes write child.{ending} --at 8M -i big.raw --wait 9"));
            scene.wait_until_locked_or_done(&format!("child.{ending}"), &mut writer);
            std::thread::sleep(std::time::Duration::from_millis(pause));
            // It may have finished already, which is as good.
            _ = writer.kill();
            writer.wait().unwrap();
            scene.run(&format!("check child.{ending}")).expect("check", 0, "healthy", "");
            let read = format!("bytes read child.{ending} --at 1M --len 18");
            scene.run(&read).expect("the base shows through", 0, "Caltha palustris\n", "");
        }
        scene.run(&format!("bytes write child.{ending} --at 0 -i seeds.txt -q")).expect("write", 0, "", "");
        scene.run(&format!("check child.{ending}")).expect("check", 0, "healthy", "");
    }
}

/// A move that is killed leaves every child with a parent that it finds, and the same move carries on.
#[test]
fn a_killed_move_leaves_every_child_whole() {
    let scene = Scene::new();
    for folder in ["a", "b"] {
        std::fs::create_dir(scene.path(folder)).unwrap();
    }
    for ending in ["vhdx", "vhd"] {
        scene.run(&format!("make root.{ending} 64M -q")).expect("make", 0, "", "");
        scene.run(&format!("bytes write root.{ending} --at 1M -i seeds.txt -q")).expect("write", 0, "", "");
        scene.run(&format!("derive root.{ending} a/layer.{ending} -q")).expect("derive", 0, "", "");
        let children: Vec<String> = (0..6).map(|number| format!("child-{number}.{ending}")).collect();
        scene.run(&format!("derive a/layer.{ending} {} -q", children.join(" "))).expect("derive", 0, "", "");
        let (mut from, mut to) = ("a", "b");
        for pause in (0..24).map(|n| n * 2) {
            let typed = format!("move {from}/layer.{ending} {to}/layer.{ending} --search .");
            let mut mover = scene.start(&typed);
            std::thread::sleep(std::time::Duration::from_millis(pause));
            _ = mover.kill();
            mover.wait().unwrap();
            for child in &children {
                let read = scene.run(&format!("bytes read {child} --at 1M --len 18"));
                read.expect(&format!("after {pause} ms"), 0, "Caltha palustris\n", "");
            }
            let is_left = |folder: &str, name: &str| scene.path(folder).join(format!("layer.{ending}{name}")).exists();
            if is_left(from, "") || is_left(from, ".zsap.journal") {
                // The same command carries on, also when the old name is gone.
                scene.run(&format!("{typed} -q")).expect("carry on", 0, "", "");
            }
            (from, to) = (to, from);
            let all = format!("check {}", children.join(" "));
            scene.run(&all).expect("whole", 0, "child-5", "");
        }
    }
}
