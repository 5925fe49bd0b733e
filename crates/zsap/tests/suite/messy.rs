//! A folder of thirty images in which much is wrong: what is told of it fits a screen, adds up, and leads on.

use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use crate::scene::Scene;
use crate::snapshots::{VOLATILE, told};

/// Lines of a screen.
const SCREEN: usize = 40;
/// What is looked with, and the exit status that it ends with.
const LOOKS: [(&str, i32); 4] = [("status", 3), ("tree", 0), ("show .", 0), ("check .", 3)];

/// What is made with the command itself; the rest is done by hand.
const MADE: &str = "
    make fen/fen-base.vhdx 4T
    derive fen/fen-base.vhdx fen/germination-01.vhdx fen/germination-02.vhdx fen/germination-03.vhdx
    derive fen/fen-base.vhdx fen/germination-04.vhdx
    derive fen/germination-04.vhdx fen/germination-04-frost.vhdx
    derive fen/germination-04-frost.vhdx fen/germination-04-thaw.vhdx
    bytes write fen/germination-01.vhdx --at 5M -i seeds.txt
    pin fen/fen-base.vhdx
    make fen/moss-base.vhdx 2T
    bytes write fen/moss-base.vhdx --at 0 -i seeds.txt
    derive fen/moss-base.vhdx fen/moss-01.vhdx fen/moss-02.vhdx fen/moss-03.vhdx annex/moss-04.vhdx
    pin fen/moss-base.vhdx
    make fen/sedge-base.vhdx 8G
    derive fen/sedge-base.vhdx fen/sedge-01.vhdx fen/sedge-02.vhdx fen/sedge-03.vhdx
    make fen/records.vhdx 4G
    bytes write fen/records.vhdx --at 0 -i seeds.txt
    make fen/torn.vhdx 4G
    make fen/herbarium.vhd 32G
    derive fen/herbarium.vhd fen/herbarium-trial.vhd
    make fen/nursery.vhdx 12G
    derive fen/nursery.vhdx fen/nursery-01.vhdx fen/nursery-02.vhdx
    make fen/orchard.vhdx 2G
    make fen/ledger.raw 64M
    make fen/scratch.img 32M
    make fen/caltha.raw 16M
    make plain.raw 9M
    copy plain.raw fen/archive.raw --piece-size 4M
    copy plain.raw fen/atlas.raw --piece-size 4M";

fn messy() -> Scene {
    let scene = Scene::new();
    std::fs::create_dir_all(scene.path("fen")).unwrap();
    std::fs::create_dir_all(scene.path("annex")).unwrap();
    // A merge that is cut short; damaged files beside it would stop it from beginning.
    std::fs::write(scene.path("much"), vec![7; 12 << 20]).unwrap();
    for typed in [
        "make fen/survey.vhdx 8G",
        "bytes write fen/survey.vhdx --at 1G -i much",
        "derive fen/survey.vhdx fen/survey-spring.vhdx",
        "bytes write fen/survey-spring.vhdx --at 2G -i much",
    ] {
        scene.run(&format!("{typed} -q")).expect(typed, 0, "", "");
    }
    let mut merging = scene.start("merge fen/survey-spring.vhdx --rate-limit 2M");
    let journal = |name: &str| scene.path(&format!("fen/{name}.vhdx.zsap.journal"));
    scene.wait("a journal", || journal("survey-spring").exists() && journal("survey").exists());
    merging.kill().unwrap();
    merging.wait().unwrap();
    for typed in MADE.lines().map(str::trim).filter(|typed| !typed.is_empty()) {
        assert_eq!(scene.run(&format!("{typed} -q")).status, 0, "{typed}");
    }
    let end = scene.path("fen/moss-base.vhdx").metadata().unwrap().len();
    scene.spoil("fen/moss-base.vhdx", end - 1000);
    scene.spoil("fen/records.vhdx", (3 << 20) + 5);
    std::fs::remove_file(scene.path("fen/sedge-base.vhdx")).unwrap();
    std::fs::remove_file(scene.path("fen/atlas.raw.001")).unwrap();
    std::fs::copy(scene.path("fen/fen-base.vhdx"), scene.path("fen/fen-base-copy.vhdx")).unwrap();
    std::fs::File::options().write(true).open(scene.path("fen/torn.vhdx")).unwrap().set_len(90_000).unwrap();
    let unicode = std::ffi::OsStr::from_bytes(b"caltha-\xFF.raw");
    std::fs::rename(scene.path("fen/caltha.raw"), scene.path("fen").join(unicode)).unwrap();
    scene
}

#[test]
fn a_messy_folder_fits_a_screen_adds_up_and_leads_on() {
    let scene = messy();
    let mut settings = insta::Settings::clone_current();
    settings.set_prepend_module_to_snapshot(false);
    settings.set_omit_expression(true);
    VOLATILE.iter().for_each(|(what, with)| settings.add_filter(what, *with));
    let _bound = settings.bind_to_scope();
    let mut led = std::collections::BTreeSet::new();
    for columns in [80, 100] {
        for (look, status) in LOOKS {
            let outcome = scene.run_at(columns, "fen", look);
            let case = format!("{look} at {columns} columns:\n{}", outcome.out);
            assert_eq!(outcome.status, status, "{case}");
            // What the sandbox of a test lets us see of other processes is no matter of the folder.
            let lines: Vec<&str> = outcome.out.lines().collect();
            let about_others = lines.iter().filter(|line| line.contains("could not be looked at")).count() * 2;
            assert!(lines.len() <= SCREEN + about_others, "{} lines: {case}", lines.len());
            // The first line names the folder.
            let is_whole = |line: &&&str| line.starts_with('/');
            let wide = lines.iter().find(|line| !is_whole(line) && line.chars().count() > columns);
            assert_eq!(wide, None, "{case}");
            let next = lines.iter().rev().find_map(|line| line.split_once("next: `zsap ")).expect(&case).1;
            led.insert(next.split_once('`').unwrap().0.to_owned());
            let name = format!("messy-{}-{columns}", look.split(' ').next().unwrap());
            insta::assert_snapshot!(name, told(look, &outcome));
        }
    }
    // What is told to be typed next is understood, and is not refused.
    for typed in led {
        let outcome = scene.run_at(100, "fen", &typed);
        assert!(![2, 4].contains(&outcome.status), "{typed}: {}", outcome.err);
        assert!(typed.chars().all(|c| !c.is_uppercase()), "{typed} has a placeholder");
    }
}

#[test]
fn all_looks_at_a_folder_count_the_same() {
    let scene = messy();
    for (folder, options, images) in [("fen", "", 30), (".", "", 1), (".", " --recursive", 32), ("annex", "", 1)] {
        let totals = |look: &str| scene.json(&format!("{look} {folder}{options}"))["totals"].clone();
        let all = [totals("status"), totals("tree"), totals("show")];
        assert!(all.iter().all(|one| *one == all[0]), "{folder}{options}: {all:#?}");
        assert_eq!(all[0]["images"], images, "{folder}{options}");
        let held = held_in(&scene.path(folder), !options.is_empty());
        assert_eq!(all[0]["allocated"], held, "{folder}{options}");
    }
    assert_eq!(scene.json("status fen")["totals"]["unreadable"], 3);
}

/// A machine's folder that cannot be looked at is told, and takes no other with it.
#[test]
fn one_bad_folder_takes_no_other_with_it() {
    let scene = Scene::new();
    scene.run("make fen/records.vhdx 64M -q").expect("no folder yet", 1, "", "fen");
    for folder in ["fen", "odd/grove.json"] {
        std::fs::create_dir_all(scene.path(folder)).unwrap();
    }
    scene.run("make fen/records.vhdx 64M -q").expect("make", 0, "", "");
    for look in ["status . -r", "tree . -r", "show . -r"] {
        let told = scene.json(look);
        assert_eq!(told["totals"]["images"], 1, "{look}: {told:#}");
    }
    scene.run("status . -r").expect("the odd one", 3, "cannot open odd/grove.json", "");
}

/// What the images of a folder take on the host, by what the host says of the files.
fn held_in(folder: &Path, below: bool) -> u64 {
    let mut held = 0;
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let is_image = [".vhdx", ".vhd", ".raw", ".img", ".pieces.json"].iter().any(|ending| name.ends_with(ending));
        // Of a disk in pieces that is whole the pieces count, and of one that is not its descriptor is all there is.
        let is_piece = name.starts_with("archive.raw.0");
        let is_descriptor_of_whole = name == "archive.raw.pieces.json";
        if path.is_dir() {
            held += if below { held_in(&path, below) } else { 0 };
        } else if (is_image || is_piece) && !is_descriptor_of_whole {
            held += path.metadata().unwrap().blocks() * 512;
        }
    }
    held
}
