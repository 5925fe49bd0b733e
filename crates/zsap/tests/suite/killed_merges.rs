//! Real merges of a real ext4 volume, killed at any moment: the chain stays readable, and the same command finishes.

use std::time::{Duration, Instant};

use crate::scene::Scene;
use crate::volumes::{self, fill, tool};

/// The same volume before its guest worked, in between, and now.
const VOLUMES: [&str; 3] = ["before.raw", "between.raw", "now.raw"];

#[test]
fn a_killed_merge_stays_readable_and_is_carried_on() {
    if !volumes::can_be_made() {
        return;
    }
    let rounds = std::env::var("ZSAP_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(12u32);
    let scene = Scene::new();
    volumes::make(&scene, &VOLUMES, 400, 40);
    for ending in ["vhdx", "vhd"] {
        let name = |stem: &str| format!("{stem}.{ending}");
        scene.run(&format!("copy before.raw {} -q", name("base"))).expect("copy", 0, "", "");
        scene.run(&format!("derive {} {} -q", name("base"), name("layer"))).expect("derive", 0, "", "");
        fill(&scene, &name("layer"), "between.raw", "before.raw");
        scene.run(&format!("derive {} {} -q", name("layer"), name("live"))).expect("derive", 0, "", "");
        fill(&scene, &name("live"), "now.raw", "between.raw");
        for stem in ["base", "layer", "live"] {
            // Beside them they would be children of each other.
            tool(&scene, "mkdir -p kept");
            tool(&scene, &format!("cp -a --sparse=always {0} kept/{0}", name(stem)));
        }
    }
    let mut longest = Duration::from_millis(200);
    let mut cut = 0;
    for round in 0..rounds {
        let ending = ["vhdx", "vhd"][round as usize % 2];
        for stem in ["base", "layer", "live"] {
            tool(&scene, &format!("cp -a --sparse=always kept/{stem}.{ending} {stem}.{ending}"));
        }
        let ways = ["", " --keep-name parent", " --into base.E", " --into base.E --keep-name parent"];
        let way = ways[round as usize / 2 % 4].replace(".E", &format!(".{ending}"));
        let merge = format!("merge live.{ending}{way}");
        let started = Instant::now();
        let mut merging = scene.start(&merge);
        // The golden ratio spreads the moments evenly, however many rounds there are.
        let moment = (f64::from(round) * 0.618_034).fract();
        while started.elapsed() < longest.mul_f64(moment) && merging.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        let was_running = merging.try_wait().unwrap().is_none();
        _ = merging.kill();
        merging.wait().unwrap();
        if !was_running && round > 3 {
            longest = longest.min(started.elapsed());
        }
        let result = match way.contains("parent") {
            true if way.contains("base") => format!("base.{ending}"),
            true => format!("layer.{ending}"),
            false => format!("live.{ending}"),
        };
        let journal = scene.path(&format!("live.{ending}.zsap.journal"));
        let there = |name: String| if scene.path(&name).exists() { name } else { result.clone() };
        let same = scene.run(&format!("diff {} now.raw --contents", there(format!("live.{ending}"))));
        same.expect(&format!("{merge}, round {round}"), 0, "the same, as a guest sees them", "");
        if journal.exists() {
            cut += 1;
            scene.run("status").expect("status", 5, "is not finished", "");
        }
        if journal.exists() || scene.path(&format!("layer.{ending}")).exists() && result != format!("layer.{ending}") {
            scene.run(&merge).expect(&format!("{merge} again, round {round}"), 0, "merged into", "");
        }
        scene.run(&format!("copy {} again.raw -q", there(format!("live.{ending}")))).expect("copy", 0, "", "");
        tool(&scene, "cmp now.raw again.raw");
        tool(&scene, "e2fsck -fn again.raw");
        scene.run(&format!("check {result}")).expect("check", 0, "healthy", "");
        std::fs::remove_file(scene.path("again.raw")).unwrap();
        assert!(!scene.files().iter().any(|name| name.ends_with(".zsap.journal")));
    }
    assert!(cut * 3 > rounds, "only {cut} of {rounds} merges were cut short");
}
