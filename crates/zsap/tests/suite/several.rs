//! Commands that take several paths: one that fails takes no other with it.

use std::os::unix::fs::FileExt;

use serde_json::json;

use crate::scene::Scene;

#[test]
fn one_bad_path_takes_no_other_with_it() {
    let scene = Scene::new();
    scene.run("make fen-base.vhdx 64M -q");
    scene.run("derive fen-base.vhdx a.vhdx b.vhdx c.vhdx -q");
    // What it reads through goes first, and is refused; the children go.
    let rows = [
        ("remove fen-base.vhdx a.vhdx nowhere.vhdx b.vhdx", 4, "removed a.vhdx\nremoved b.vhdx\n", "2 of 4 failed"),
        ("remove a.vhdx c.vhdx --plan", 1, "1. remove c.vhdx", "cannot open a.vhdx"),
        ("show nowhere.vhdx c.vhdx", 1, "disk        64 MiB", "error: 1 of 2 could not be read"),
        ("check nowhere.vhdx c.vhdx", 1, "c.vhdx: healthy", "error: 1 of 2 could not be looked at"),
        ("check nowhere.vhdx c.vhdx -q", 1, "", "error: nowhere.vhdx was not checked"),
        ("pin nowhere.vhdx fen-base.vhdx", 1, "pinned fen-base.vhdx", "1 of 2 failed"),
        ("pin nowhere.vhdx fen-base.vhdx --verify", 2, "fen-base.vhdx is what was pinned", "1 of 2 failed"),
        ("unpin nowhere.vhdx fen-base.vhdx", 1, "unpinned fen-base.vhdx", "1 of 2 failed"),
        ("remove", 2, "", "required arguments were not provided"),
    ];
    for (typed, status, out, err) in rows {
        scene.run(typed).expect(typed, status, out, err);
    }
    // What a script reads: each answer as it is alone, and those that failed with their reasons.
    scene.run("derive fen-base.vhdx d.vhdx e.vhdx -q");
    let told = scene.run("remove d.vhdx nowhere.vhdx e.vhdx --json");
    let document: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    assert_eq!((told.status, told.err.as_str()), (1, ""));
    let removed: Vec<_> = document["answers"].as_array().unwrap().iter().map(|one| &one["removed"]["typed"]).collect();
    assert_eq!(removed, ["d.vhdx", "e.vhdx"]);
    assert_eq!(document["failed"][0]["path"]["typed"], "nowhere.vhdx");
    assert_eq!(document["failed"][0]["kind"], "host");
    let plans = scene.json("pin fen-base.vhdx c.vhdx --plan");
    assert_eq!(plans["answers"][1]["operation"], "pin");
    assert_eq!(plans["failed"], json!([]));
}

/// Of two paths the second is the parent, unless it is plainly another child; of more all are children.
#[test]
fn children_find_their_parents_together() {
    let scene = Scene::new();
    scene.run("make fen-base.vhdx 64M -q");
    scene.run("derive fen-base.vhdx a.vhdx b.vhdx c.vhdx -q");
    scene.run("derive c.vhdx on-c.vhdx -q");
    let lose = |to: &str| std::fs::rename(scene.path("fen-base.vhdx"), scene.path(to)).unwrap();
    lose("one.vhdx");
    scene.run("relink a.vhdx one.vhdx").expect("a parent", 0, "a.vhdx has one.vhdx as its parent now", "");
    scene.run("relink on-c.vhdx c.vhdx").expect("a parent that is a child", 1, "", "parent was not found");
    scene.run("relink b.vhdx c.vhdx").expect("two children", 0, "c.vhdx has one.vhdx as its parent now", "");
    scene.run("relink on-c.vhdx c.vhdx").expect("the right one", 0, "on-c.vhdx finds its parent c.vhdx where", "");
    std::fs::rename(scene.path("one.vhdx"), scene.path("two.vhdx")).unwrap();
    let told = scene.run("relink a.vhdx nowhere.vhdx b.vhdx c.vhdx --parent two.vhdx --json");
    let document: serde_json::Value = serde_json::from_str(&told.out).unwrap();
    assert_eq!(document["answers"].as_array().unwrap().len(), 3, "{document:#}");
    assert_eq!(document["failed"].as_array().unwrap().len(), 1);
    scene.run("make other.vhdx 64M -q");
    scene.run("relink a.vhdx other.vhdx").expect("another disk", 4, "", "is not the parent that a.vhdx recorded");
}

/// What is the same in many places is told once, with a count; the worst comes first, and a command at the end.
#[test]
fn findings_of_one_cause_are_told_together() {
    let scene = Scene::new();
    scene.run("make torn.vhdx 2G -q");
    let (table, torn) = (3u64 << 20, std::fs::OpenOptions::new().write(true).open(scene.path("torn.vhdx")).unwrap());
    let write = |at: u64, entry: u64| torn.write_all_at(&entry.to_le_bytes(), at).unwrap();
    for block in 0..40u64 {
        write(table + 8 * (2 * block + 1), ((900_000 + block) << 20) | 6);
    }
    for block in 0..5u64 {
        write(table + 16 * block, 0x38);
    }
    let told = scene.run("check torn.vhdx").out;
    assert!(told.lines().count() < 12, "{told}");
    assert!(told.contains("vhdx-block-outside  torn.vhdx, block allocation table: 40 times"), "{told}");
    assert!(told.contains("together 80 MiB of the disk in 40 ranges are lost"), "{told}");
    assert!(told.trim_end().lines().last().unwrap().starts_with("  next: `zsap repair torn.vhdx"), "{told}");
    assert_eq!(scene.run("check torn.vhdx -v").out.matches("vhdx-block-outside").count(), 40);
    assert_eq!(scene.json("check torn.vhdx")["findings"].as_array().unwrap().len(), 45);
    scene.run("check torn.vhdx -q").expect("quiet", 3, "", "error: torn.vhdx is damaged: 45 findings");
}
