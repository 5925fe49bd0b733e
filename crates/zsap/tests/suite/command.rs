//! The real command, one line a case.

use crate::scene::Scene;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::sync::Arc;
use zestful_sapling::Error;
use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::error::ParentProblemKind;

use serde_json::{Value, json};

/// Words typed, exit status, and what standard output and standard error must hold.
type Row<'a> = (&'a str, i32, &'a str, &'a str);

#[test]
fn commands_do_what_they_say() {
    let scene = Scene::new();
    let rows: [Row; 39] = [
        ("make fen-base.vhdx 2G", 0, "made fen-base.vhdx\n  2 GiB disk, vhdx dynamic, blocks of 2 MiB", ""),
        ("make fen-base.vhdx 2G", 4, "", "error: fen-base.vhdx already exists and is never overwritten"),
        ("make a.vhdx 2X", 2, "", "`2X` is not a size"),
        ("make a.vhdx 0", 2, "", "a disk of 0 bytes cannot be made"),
        ("make nowhere/a.vhdx 1G", 1, "", "cannot look into nowhere: No such file"),
        ("make plan-only.vhdx 1G --plan", 0, "plan for make: nothing was changed\n  1. make plan-only.vhdx", ""),
        ("show plan-only.vhdx", 1, "", "cannot open plan-only.vhdx: No such file"),
        ("derive fen-base.vhdx germination-01.vhdx germination-02.vhdx", 0, "froze fen-base.vhdx", ""),
        ("bytes write germination-01.vhdx --at 1G -i seeds.txt", 0, "wrote 18 B at byte 1073741824", ""),
        ("bytes write fen-base.vhdx --at 0 -i seeds.txt", 4, "", "fen-base.vhdx is the parent of germination-01.vhdx,"),
        ("bytes read germination-01.vhdx --at 1G --len 18", 0, "Caltha palustris\n", ""),
        ("bytes read germination-01.vhdx --at 2G --len 1", 2, "", "reach past the end"),
        ("bytes read germination-01.vhdx --at 1G --len 17 -o out.txt", 0, "wrote 17 B to out.txt", ""),
        ("bytes read germination-01.vhdx --at 1G --len 17 -o out.txt", 1, "", "cannot create out.txt: File exists"),
        ("show germination-01.vhdx", 0, "parent      ok: ", ""),
        ("show .", 0, "germination-01.vhdx  healthy  vhdx    differencing  2 GiB", ""),
        ("tree", 0, "├─ germination-01.vhdx      1  current", ""),
        ("check germination-01.vhdx germination-02.vhdx", 0, "germination-02.vhdx: healthy (2 files looked at)", ""),
        ("copy germination-01.vhdx flat.raw", 0, "2 GiB disk, raw fixed; 512 B of data written", ""),
        ("copy flat.raw again.vhdx -q", 0, "", ""),
        ("bytes read again.vhdx --at 1G --len 18", 0, "Caltha palustris\n", ""),
        ("copy germination-01.vhdx old-base.vhd", 0, "2 GiB disk, vhd dynamic", ""),
        ("derive old-base.vhd old-child.vhd", 0, "grew old-child.vhd", ""),
        ("derive old-base.vhd wrong.vhdx", 2, "", "a child of a vhd image is a vhd image"),
        ("bytes read old-child.vhd --at 1G --len 18", 0, "Caltha palustris\n", ""),
        ("check old-child.vhd", 0, "old-child.vhd: healthy (2 files looked at)", ""),
        ("copy seeds.txt b.vhdx", 2, "", "seeds.txt carries no signature of an image format"),
        ("children fen-base.vhdx", 0, "2 children; looked into .; elsewhere there may be others", ""),
        ("remove fen-base.vhdx", 4, "", "is the parent of germination-01.vhdx,"),
        ("relink germination-01.vhdx", 0, "where it is recorded; nothing was changed", ""),
        ("move fen-base.vhdx oak.vhdx --plan", 0, "2. record the new place in germination-01.vhdx", ""),
        ("move fen-base.vhdx oak.vhdx", 0, "  told germination-02.vhdx", ""),
        ("show germination-02.vhdx", 0, "recorded as .\\oak.vhdx", ""),
        ("move oak.vhdx nowhere/oak.vhdx", 2, "", "nowhere is no folder that is there"),
        ("relink germination-01.vhdx again.vhdx", 4, "", "is not the parent that germination-01.vhdx recorded"),
        ("relink again.vhdx oak.vhdx", 2, "", "again.vhdx has no parent"),
        ("remove germination-02.vhdx", 0, "removed germination-02.vhdx", ""),
        ("bytes read germination-01.vhdx --at 1G --len 18", 0, "Caltha palustris\n", ""),
        ("move oak.vhdx fen-base.vhdx -q", 0, "", ""),
    ];
    for (typed, status, out, err) in rows {
        scene.run(typed).expect(typed, status, out, err);
    }
    let names = "again.vhdx fen-base.vhdx flat.raw germination-01.vhdx old-base.vhd old-child.vhd out.txt seeds.txt";
    assert_eq!(scene.files().join(" "), names);
}

#[test]
fn copies_of_every_sort_do_what_they_say() {
    let scene = Scene::new();
    let rows: [Row; 27] = [
        ("make fen-base.vhdx 64M -q", 0, "", ""),
        ("bytes write fen-base.vhdx --at 9M -i seeds.txt -q", 0, "", ""),
        ("derive fen-base.vhdx now.vhdx -q", 0, "", ""),
        ("bytes write now.vhdx --at 40M -i seeds.txt -q", 0, "", ""),
        ("make full.vhd --filled-from now.vhdx", 0, "64 MiB disk, vhd dynamic, blocks of 2 MiB; ", ""),
        ("make larger.vhdx 96M --filled-from now.vhdx --kind fixed", 0, "96 MiB disk, vhdx fixed", ""),
        ("make smaller.vhdx 32M --filled-from now.vhdx", 2, "", "cannot hold the 67108864 of its source"),
        ("make nothing.vhdx", 2, "", "<SIZE>"),
        ("bytes read larger.vhdx --at 40M --len 18", 0, "Caltha palustris\n", ""),
        ("copy now.vhdx twin --depth chain --verify", 0, "  base     fen-base.vhdx: vhdx dynamic", ""),
        ("copy now.vhdx twin --depth chain", 4, "", "twin already exists"),
        ("copy now.vhdx twin2 --depth chain --kind fixed", 2, "", "each layer stays as it is"),
        ("show twin/now.vhdx", 0, "recorded as .\\fen-base.vhdx", ""),
        ("bytes read twin/now.vhdx --at 9M --len 18", 0, "Caltha palustris\n", ""),
        ("copy now.vhdx kept.vhdx --identity keep", 0, "made kept.vhdx", "will answer to one identity"),
        ("identity kept.vhdx", 2, "", "--fresh"),
        ("identity kept.vhdx --fresh", 0, "kept.vhdx has an identity of its own now", ""),
        ("identity fen-base.vhdx --fresh", 4, "", "fen-base.vhdx is the parent of now.vhdx"),
        ("copy now.vhdx records.raw --piece-size 24M --verify", 0, "made records.raw.pieces.json", ""),
        ("copy now.vhdx records.raw --piece-size 24M", 4, "", "records.raw.pieces.json already exists"),
        ("copy now.vhdx a.raw --piece-size 1000", 2, "", "a piece is a multiple of 4096 bytes"),
        ("show records.raw.pieces.json", 0, "raw, fixed, in pieces", ""),
        ("show .", 0, "records.raw.pieces.json", ""),
        ("bytes read records.raw.pieces.json --at 40M --len 18", 0, "Caltha palustris\n", ""),
        ("bytes write records.raw.pieces.json --at 0 -i seeds.txt", 4, "", "whose digests would no longer hold"),
        ("copy now.vhdx odd.vhdx --format vhd", 4, "", "--force=ending"),
        ("copy now.vhdx odd.vhdx --format vhd --force=ending -q", 0, "", ""),
    ];
    for (typed, status, out, err) in rows {
        scene.run(typed).expect(typed, status, out, err);
    }
    scene.run("show odd.vhdx").expect("odd", 4, "", "but it begins or ends like a vhd image");
    scene.run("show odd.vhdx --format vhd").expect("odd", 4, "", "the name of odd.vhdx says vhdx, vhd was asked for");
    scene.run("show odd.vhdx --format vhd --force=ending").expect("odd", 0, "vhd, dynamic", "");
    scene.spoil("records.raw.001", 5);
    scene.run("check records.raw.pieces.json --data").expect("piece", 3, "the piece records.raw.001 was changed", "");
    scene.run("copy records.raw.pieces.json b.vhdx").expect("piece", 1, "", "the piece records.raw.001 was changed");
    std::fs::remove_file(scene.path("records.raw.002")).unwrap();
    scene.run("show records.raw.pieces.json").expect("piece", 1, "", "the piece records.raw.002 is missing");
    let partial: Vec<String> = scene.files().into_iter().filter(|name| name.contains("partial")).collect();
    assert_eq!(partial, Vec::<String>::new());
}

#[test]
fn json_is_one_document_with_the_promised_keys() {
    let scene = Scene::new();
    scene.run("make fen-base.vhdx 1G -q").expect("make", 0, "", "");
    scene.run("derive fen-base.vhdx germination-01.vhdx -q").expect("derive", 0, "", "");
    let keys = |value: &Value, keys: &str| {
        for key in keys.split(' ') {
            assert!(value.get(key).is_some(), "{key} is missing in {value}");
        }
    };
    let show = scene.shown("germination-01.vhdx");
    keys(&show, "path format kind virtual_size file_size allocated_size block_size logical_sector physical_sector");
    keys(&show, "identity data_identity parent depth in_use blocks log host_free");
    keys(&show["parent"], "identity recorded_paths found_path state");
    assert_eq!((&show["parent"]["state"], &show["virtual_size"]), (&"ok".into(), &(1u64 << 30).into()));
    assert_eq!(scene.shown("fen-base.vhdx")["parent"], Value::Null);
    let tree = scene.json("tree");
    let absolute = std::fs::canonicalize(scene.path("")).unwrap().join("germination-01.vhdx");
    let path = json!({ "absolute": absolute, "typed": "./germination-01.vhdx", "bytes": null });
    assert_eq!(tree["roots"][0]["children"][0]["path"], path);
    assert_eq!(tree["problems"], Value::Array(vec![]));
    let plan = scene.json("copy germination-01.vhdx flat.raw --plan");
    keys(&plan, "operation steps files bytes_read bytes_written peak_extra_space warnings");
    keys(&plan["files"], "create change rename remove");
    let check = scene.json("check germination-01.vhdx");
    assert_eq!((&check["state"], &check["findings"]), (&"healthy".into(), &Value::Array(vec![])));
    assert_eq!(scene.json("bytes read germination-01.vhdx --at 0 --len 2")["hex"], "0000");
    // What is to be warned of stands in the document, and nowhere else.
    let warned = scene.json("make huge.vhdx 60T")["warnings"].to_string();
    assert!(warned.contains("the disk can grow to 60 TiB"), "{warned}");
    assert_eq!(scene.error("show nothing.vhdx", 1)["kind"], "host");
    assert_eq!(scene.error("show", 2)["kind"], "usage");
}

#[test]
fn damage_is_told_with_status_three_and_a_lost_parent_in_words() {
    let scene = Scene::new();
    scene.run("make fen-base.vhdx 1G -q").expect("make", 0, "", "");
    scene.run("derive fen-base.vhdx germination-01.vhdx -q").expect("derive", 0, "", "");
    // One that is not there does not take the others with it, and is not forgotten either.
    let both = scene.run("check nothing.vhdx germination-01.vhdx");
    both.expect("one is missing", 1, "nothing.vhdx: not checked", "1 of 2 could not be looked at");
    assert!(both.out.contains("germination-01.vhdx: healthy"), "{}", both.out);
    scene.spoil("germination-01.vhdx", 64 << 10);
    scene.run("check nothing.vhdx germination-01.vhdx").expect("damage says more", 3, "vhdx-header", "");
    scene.run("check germination-01.vhdx").expect(
        "check",
        3,
        "vhdx-header  germination-01.vhdx, header 1 at byte 65536",
        "",
    );
    let check = scene.run("check germination-01.vhdx --json");
    let finding = &serde_json::from_str::<Value>(&check.out).unwrap()["findings"][0];
    assert_eq!((&finding["severity"], &finding["repair"]), (&"error".into(), &"safe".into()));
    scene.run("show germination-01.vhdx").expect(
        "one header is enough",
        0,
        "damage      germination-01.vhdx: header 1",
        "",
    );
    std::fs::rename(scene.path("fen-base.vhdx"), scene.path("moved.vhdx")).unwrap();
    let lost = "problem     germination-01.vhdx: its parent was not found; recorded as .\\fen-base.vhdx";
    scene.run("show germination-01.vhdx").expect("lost", 0, lost, "");
    scene.run("tree").expect("lost", 0, "BROKEN", "");
    scene.run("copy germination-01.vhdx a.raw").expect("lost", 1, "", "its parent was not found");
    scene.run("check germination-01.vhdx").expect("lost", 3, "parent-missing", "");
    scene.spoil("moved.vhdx", 0);
    scene.run("show moved.vhdx").expect("no image", 1, "", "the signature `vhdxfile` is missing");
}

/// A process that writes is named, waited for, and not disturbed by a look.
#[test]
fn an_image_in_use_is_refused_with_its_user() {
    let scene = Scene::new();
    scene.run("make records.vhdx 64M -q").expect("make", 0, "", "");
    std::fs::write(scene.path("big.bin"), vec![7; 60 << 20]).unwrap();
    let mut writer = scene.start("bytes write records.vhdx --at 0 -i big.bin --rate-limit 2M --wait 9");
    scene.wait_until_locked("records.vhdx");
    let words = "zsap bytes write records.vhdx --at 0 -i big.bin --rate-limit 2M --wait 9";
    let told = format!("records.vhdx is being used by process {} ({words}), since 20", writer.id());
    scene.run("bytes write records.vhdx --at 0 -i seeds.txt").expect("in use", 4, "", &told);
    scene.run("show records.vhdx").expect("a look", 0, &format!("in use by process {}", writer.id()), "");
    let waiting = scene.start("copy records.vhdx late.raw --wait 20");
    scene.interrupt(&writer);
    assert_eq!(writer.wait().unwrap().code(), Some(1));
    assert!(waiting.wait_with_output().unwrap().status.success());
}

/// Layers are merged, put onto another base, pinned; every refusal names its reason and the way on.
#[test]
fn layers_are_merged_transplanted_and_pinned() {
    let scene = Scene::new();
    let rows: [Row; 36] = [
        ("make fen-base.vhdx 64M -q", 0, "", ""),
        ("bytes write fen-base.vhdx --at 9M -i seeds.txt -q", 0, "", ""),
        ("derive fen-base.vhdx germination-01.vhdx germination-02.vhdx -q", 0, "", ""),
        ("bytes write germination-01.vhdx --at 20M -i seeds.txt -q", 0, "", ""),
        ("derive germination-01.vhdx after-sowing.vhdx -q", 0, "", ""),
        ("bytes write after-sowing.vhdx --at 40M -i seeds.txt -q", 0, "", ""),
        ("pin fen-base.vhdx --plan", 0, "mark fen-base.vhdx read-only", ""),
        ("pin fen-base.vhdx", 0, "1 piece of 4 MiB that hold data", ""),
        ("pin fen-base.vhdx", 2, "", "is pinned already"),
        ("pin fen-base.vhdx --verify", 0, "is what was pinned", ""),
        ("pin germination-02.vhdx --verify", 2, "", "is not pinned"),
        ("show fen-base.vhdx", 0, "pinned, never to change", ""),
        ("tree", 0, "base, pinned", ""),
        ("status", 0, ": healthy", ""),
        ("status", 0, "3 layers; oldest frozen layer", ""),
        ("bytes write fen-base.vhdx --at 0 -i seeds.txt", 4, "", "is pinned, never to change"),
        ("merge after-sowing.vhdx --into fen-base.vhdx", 4, "", "is pinned, never to change"),
        ("unpin fen-base.vhdx --plan", 0, "forget the digests", ""),
        ("unpin fen-base.vhdx", 0, "it stays read-only on this host, as parents are", ""),
        ("unpin fen-base.vhdx", 2, "", "is not pinned"),
        ("merge after-sowing.vhdx --into fen-base.vhdx", 4, "", "has other children than"),
        ("merge fen-base.vhdx", 2, "", "has no parent to be merged with"),
        (
            "merge after-sowing.vhdx --into germination-02.vhdx",
            2,
            "",
            "is no ancestor of after-sowing.vhdx; its chain is",
        ),
        ("merge after-sowing.vhdx --plan", 0, "into the child: 512 B to move", ""),
        ("merge after-sowing.vhdx", 0, "merged into", ""),
        ("bytes read after-sowing.vhdx --at 20M --len 18", 0, "Caltha palustris\n", ""),
        ("show germination-01.vhdx", 1, "", "No such file"),
        ("make new-base.vhdx 64M -q", 0, "", ""),
        ("bytes write new-base.vhdx --at 30M -i seeds.txt -q", 0, "", ""),
        ("transplant after-sowing.vhdx after-sowing.vhdx", 1, "", "leads back to"),
        ("transplant after-sowing.vhdx fen-base.vhdx", 2, "", "is the parent of after-sowing.vhdx already"),
        ("transplant after-sowing.vhdx new-base.vhdx", 0, "after-sowing.vhdx grows from", ""),
        ("bytes read after-sowing.vhdx --at 9M --len 18", 0, "Caltha palustris\n", ""),
        ("merge after-sowing.vhdx --keep-name parent -q", 0, "", ""),
        ("resume .", 2, "", "nothing is under way"),
        ("abandon fen-base.vhdx", 2, "", "nothing is under way"),
    ];
    for (typed, status, out, err) in rows {
        scene.run(typed).expect(typed, status, out, err);
    }
    assert_eq!(scene.files(), ["fen-base.vhdx", "germination-02.vhdx", "new-base.vhdx", "seeds.txt"]);
    scene.run("bytes read new-base.vhdx --at 9M --len 18").expect("the result", 0, "Caltha palustris\n", "");
    scene.run("bytes write new-base.vhdx --at 0 -i seeds.txt -q").expect("it is current now", 0, "", "");
    let plan = scene.json("merge germination-02.vhdx --plan");
    assert_eq!((&plan["operation"], plan["ways"].as_array().unwrap().len()), (&"merge".into(), 2));
    // The base changes behind its child's back.
    scene.run("pin fen-base.vhdx -q").expect("pin", 0, "", "");
    scene.spoil("fen-base.vhdx", 5 << 20);
    scene.run("pin fen-base.vhdx --verify").expect("changed", 3, "germination-02.vhdx reads 4 MiB of these", "");
    scene.run("check fen-base.vhdx --data").expect("changed", 3, "are no longer what was pinned", "");
    scene.run("check germination-02.vhdx").expect("touched", 3, "was written to behind its children's back", "");
}

/// The base was renamed by hand: who says so, and the ways back.
#[test]
fn a_renamed_base_is_told_and_found_again() {
    let scene = Scene::new();
    scene.run("make fen-base.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("bytes write fen-base.vhdx --at 1M -i seeds.txt -q").expect("write", 0, "", "");
    scene.run("derive fen-base.vhdx one.vhdx two.vhdx three.vhdx -q").expect("derive", 0, "", "");
    std::fs::rename(scene.path("fen-base.vhdx"), scene.path("old.vhdx")).unwrap();
    let told = "its parent was not found; recorded as .\\fen-base.vhdx";
    scene.run("show one.vhdx").expect("show", 0, told, "");
    scene.run("tree").expect("tree", 0, "3 images do not find their parent: one.vhdx,", "");
    scene.run("tree -v").expect("tree", 0, told, "");
    scene.run("copy one.vhdx flat.raw").expect("copy", 1, "", "find it by its identity");
    scene.run("children old.vhdx").expect("lost", 0, "lost        two.vhdx: does not find it", "");
    scene.run("remove old.vhdx").expect("needed", 4, "", "is the parent of one.vhdx, three.vhdx, two.vhdx");
    scene.run("relink one.vhdx").expect("relink", 0, "one.vhdx has old.vhdx as its parent now", "");
    scene.run("move old.vhdx fen-base.vhdx").expect("move", 0, "told three.vhdx", "");
    for child in ["one.vhdx", "two.vhdx", "three.vhdx"] {
        let read = scene.run(&format!("bytes read {child} --at 1M --len 18"));
        read.expect(child, 0, "Caltha palustris\n", "");
    }
    // Changed behind their backs: no command takes it for their parent any more.
    scene.make_writable("fen-base.vhdx");
    scene.run("bytes write fen-base.vhdx --at 0 -i seeds.txt").expect("needed", 4, "", "is the parent of");
    std::fs::create_dir(scene.path("alone")).unwrap();
    std::fs::rename(scene.path("fen-base.vhdx"), scene.path("alone/fen-base.vhdx")).unwrap();
    scene.run("bytes write alone/fen-base.vhdx --at 0 -i seeds.txt -q").expect("nobody looks there", 0, "", "");
    std::fs::rename(scene.path("alone/fen-base.vhdx"), scene.path("fen-base.vhdx")).unwrap();
    scene.run("show one.vhdx").expect("changed", 0, "is not the parent that this child was made from", "");
    scene.run("tree").expect("changed", 0, "BROKEN", "");
    scene.run("relink one.vhdx").expect("changed", 1, "", "the parent was changed since, or is another disk");
    scene.run("relink one.vhdx fen-base.vhdx").expect("changed", 4, "", "but changed since the child was made");
    let forced = scene.run("relink one.vhdx fen-base.vhdx --force=identity");
    forced.expect("forced", 0, "one.vhdx has fen-base.vhdx as its parent now", "warning: fen-base.vhdx is not");
    scene.run("bytes read one.vhdx --at 0 --len 18").expect("forced", 0, "Caltha palustris\n", "");
}

/// A full host and a read-only folder: said plainly, nothing left.
#[test]
fn a_full_host_is_told_with_both_figures() {
    let scene = Scene::new();
    scene.run("make huge.raw 10T -q").expect(
        "a claim",
        4,
        "",
        "huge.raw may need 10 TiB (10995116277760 bytes), but the host",
    );
    scene.run("make huge.raw 10T -q --space sparse").expect("a promise", 0, "", "warning: the disk can grow to 10 TiB");
    std::fs::remove_file(scene.path("huge.raw")).unwrap();
    let Some(small) = scene.small_file_system() else {
        eprintln!("skipped: no small file system can be mounted here");
        return;
    };
    std::fs::write(scene.path("big.raw"), vec![7; 16 << 20]).unwrap();
    for target in ["copy.vhdx", "copy.vhd", "copy.raw", "copy.vhd --kind fixed", "copy --piece-size 4M"] {
        scene.run(&format!("copy big.raw small/{target}")).expect("full", 4, "", ", but the host has");
    }
    scene.run("copy big.raw base.vhdx -q").expect("copy", 0, "", "");
    scene.run("copy base.vhdx small/copy --depth chain").expect("full", 4, "", ", but the host has");
    scene.run("make large.vhd 2040G -q").expect("make", 0, "", "warning: the disk can grow");
    scene.run("derive large.vhd small/a.vhd small/b.vhd small/c.vhd").expect("full", 4, "", ", but the host has");
    scene.run("make small/fixed.vhd 1G --kind fixed").expect(
        "full",
        4,
        "",
        "may need 1 GiB (1073742336 bytes), but the host has",
    );
    assert_eq!(std::fs::read_dir(scene.path("small")).unwrap().count(), 0, "something was left");
    scene.run("make small/a.vhdx 1G -q").expect("fits", 0, "", "warning: the disk can grow to 1 GiB, the host has");
    // Filled up behind our backs, in the middle: nothing is left of what was new.
    std::fs::remove_file(scene.path("small/a.vhdx")).unwrap();
    std::fs::write(scene.path("fits.raw"), vec![7; 3 << 20]).unwrap();
    scene.run("copy fits.raw fits.vhdx -q").expect("copy", 0, "", "");
    scene.run("derive fits.vhdx fits-child.vhdx -q").expect("derive", 0, "", "");
    for typed in [
        "copy fits.raw small/copy.vhdx",
        "copy fits.raw small/copy --piece-size 2M",
        "copy fits-child.vhdx small/copy --depth chain",
        "make small/new.raw 3M --kind fixed --space written",
    ] {
        let late = scene.start(&format!("{typed} --rate-limit 2M"));
        let begun = || std::fs::read_dir(scene.path("small")).unwrap().next().is_some();
        scene.wait("a file", begun);
        // More than there is in all: the copy may not have written anything yet.
        assert!(std::fs::write(scene.path("small/filler"), vec![1; 12 << 20]).is_err(), "it is full now");
        let output = late.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(1), "{typed}");
        assert!(String::from_utf8_lossy(&output.stderr).contains("No space"), "{typed}: {output:?}");
        std::fs::remove_file(scene.path("small/filler")).unwrap();
        assert_eq!(std::fs::read_dir(scene.path("small")).unwrap().count(), 0, "{typed} left something");
    }
    scene.run("make small/a.vhdx 1G -q").expect("fits", 0, "", "warning: the disk can grow to 1 GiB, the host has");
    // The same for a write into an image: it fails, the disk stays whole.
    let fill = scene.run("bytes write small/a.vhdx --at 0 -i big.raw");
    fill.expect("full", 1, "", "No space left on device");
    scene.run("check small/a.vhdx").expect("whole", 0, "small/a.vhdx: healthy", "");
    drop(small);
}

#[test]
fn output_into_a_closed_pipe_is_no_error() {
    let scene = Scene::new();
    scene.run("make a.vhdx 1G -q").expect("make", 0, "", "");
    let mut child = scene.start("bytes read a.vhdx --at 0 --len 1G");
    drop(child.stdout.take());
    assert!(child.wait().unwrap().success());
}

#[test]
fn the_demo_tells_its_story() {
    let scene = Scene::new();
    let demo = scene.run("demo world");
    // The one thing that is said beside the story.
    let told = "the disk records keeps its earlier size in its checkpoints";
    demo.expect("demo", 0, "> zsap derive fen-base.vhdx germination-01.vhdx", told);
    demo.expect("demo", 0, "refused: fen-base.vhdx is pinned, never to change", told);
    demo.expect("demo", 0, "(Its volume holds 61 files", told);
    demo.expect("demo", 0, "partition 1 has 5.99 GiB now, before 1 GiB", told);
    scene.run("demo world").expect("again", 1, "", "cannot create the folder world: File exists");
    let tree = scene.json("demo other");
    assert_eq!(tree["roots"].as_array().unwrap().len(), 2);
}

/// As deep as a chain may be, it is read, shown and checked; deeper, it is told, not tried.
#[test]
fn a_chain_that_is_too_deep_is_told() {
    use zestful_sapling::image::{Image, ParentRecord, vhd};
    use zestful_sapling::storage::{Access, FileStorage, StagedFile};
    let limits = std::fs::read_to_string("/proc/self/limits").unwrap();
    let open_files = limits.lines().find(|line| line.starts_with("Max open files")).unwrap();
    if open_files.split_whitespace().nth(4).unwrap().parse::<u64>().is_ok_and(|hard| hard < 4200) {
        eprintln!("skipped: the host lets nobody open so many files");
        return;
    }
    let scene = Scene::in_memory();
    for number in 0..4100u32 {
        let path = |number: u32| scene.path(&format!("layer-{number}.vhd"));
        let mut options = vhd::CreateOptions::new(1 << 20);
        if let Some(before) = number.checked_sub(1) {
            let parent =
                vhd::Vhd::open(Arc::new(FileStorage::open(&path(before), Access::ReadUnlocked).unwrap())).unwrap();
            let name = format!("layer-{before}.vhd");
            options = options.with_parent(ParentRecord {
                identity: parent.info().data_identity.unwrap(),
                also: None,
                time_stamp: parent.info().time_stamp,
                relative: format!(".\\{name}"),
                name,
                absolute: None,
            });
        }
        let file = StagedFile::create(&path(number)).unwrap();
        options.create_in(&*file.storage()).unwrap();
        file.publish().unwrap();
    }
    let told = "is deeper than 4096 layers";
    for (layer, status, out) in [(4000, 0, "layer-4000.vhd"), (4099, 0, told)] {
        scene.run(&format!("show layer-{layer}.vhd")).expect("show", status, out, "");
        let tree = scene.run_at(100, "", &format!("tree layer-{layer}.vhd"));
        tree.expect("tree", 0, if out == told { told } else { "layer-0.vhd" }, "");
        assert!(tree.out.lines().all(|line| line.chars().count() <= 100), "wider than a terminal");
        let checked = if status == 0 && out != told { 0 } else { 3 };
        let out = if checked == 0 { "healthy (4001 files looked at)" } else { told };
        let check = scene.run(&format!("check layer-{layer}.vhd"));
        check.expect("check", checked, out, "");
        assert_eq!(check.out.contains("chain-depth"), checked == 3, "{}", check.out);
    }
    scene.run("bytes read layer-4000.vhd --at 0 --len 1").expect("read", 0, "\0", "");
    scene.run("bytes read layer-4099.vhd --at 0 --len 1").expect("too deep", 1, "", told);
    // The command raises its limit of open files, too.
    let limit = getrlimit(Resource::Nofile);
    setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, ..limit }).unwrap();
    let options = OpenOptions::new().without_locks();
    let opened = Chain::open(&scene.path("layer-4099.vhd"), &options).map(|_| ());
    let Err(Error::Parent(problem)) = &opened else { panic!("{opened:?}") };
    assert!(matches!(problem.kind, ParentProblemKind::TooDeep { limit: 4096 }), "{problem}");
    scene.run("merge layer-4000.vhd --into layer-3990.vhd").expect("its child", 0, "merged into", "");
    scene.run("bytes read layer-4001.vhd --at 0 --len 1").expect("read", 0, "\0", "");
}
