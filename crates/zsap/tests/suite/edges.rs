//! Odd names, odd places, and options whose effect is easily lost: the real command.

use std::ffi::OsStr;
use std::io::Write;
use std::os::unix::ffi::OsStrExt;

use crate::scene::Scene;

/// What does not fit is not written in part, whether its length is known before or not.
#[test]
fn bytes_that_do_not_fit_change_nothing() {
    let scene = Scene::new();
    scene.run("make a.vhdx 40M -q").expect("make", 0, "", "");
    std::fs::write(scene.path("long.bin"), vec![7; 21 << 20]).unwrap();
    scene.run("bytes write a.vhdx --at 20M -i long.bin").expect("file", 2, "", "reach past the end of a.vhdx");
    for (at, count, status) in [("20M", 21 << 20, 2), ("20M", 20 << 20, 0), ("0", 17 << 20, 0)] {
        let mut child = scene.start(&format!("bytes write a.vhdx --at {at}"));
        let mut pipe = child.stdin.take().unwrap();
        // It stops reading once it has too much.
        _ = pipe.write_all(&vec![9; count]);
        drop(pipe);
        assert_eq!(child.wait().unwrap().code(), Some(status), "{count} bytes");
        let last = scene.run("bytes read a.vhdx --at 20M --len 1").out;
        assert_eq!(last.as_bytes(), if status == 0 { b"\t" } else { b"\0" }, "{count} bytes");
    }
    // An input without an end is too long, and that is found out soon.
    scene.run("bytes write a.vhdx --at 0 -i /dev/zero").expect("endless", 2, "", "reach past the end");
    scene.run("bytes write a.vhdx --at 0 -i nothing.bin").expect("missing", 1, "", "cannot open nothing.bin");
}

/// One file with a name that is no Unicode does not take the others with it.
#[test]
fn names_that_are_no_unicode_are_told_as_far_as_they_are() {
    let scene = Scene::new();
    scene.run("make base.vhdx 1G -q").expect("make", 0, "", "");
    scene.run("derive base.vhdx child.vhdx -q").expect("derive", 0, "", "");
    let odd = scene.path("").join(OsStr::from_bytes(b"odd-\xff.vhdx"));
    std::fs::copy(scene.path("child.vhdx"), &odd).unwrap();
    std::fs::write(scene.path("").join(OsStr::from_bytes(b"broken-\xfe.vhdx")), b"nothing").unwrap();
    let told = |found: &str| found.contains("odd-\u{fffd}.vhdx");
    let list = scene.json("show .")["images"].clone();
    let unreadable = scene.json("show .")["problems"].to_string();
    assert_eq!(list.as_array().unwrap().len(), 3);
    assert!(told(&list.to_string()) && unreadable.contains("broken-\u{fffd}.vhdx"), "{list}{unreadable}");
    for typed in ["tree .", "children base.vhdx"] {
        let found = scene.json(typed).to_string();
        assert!(told(&found) && found.contains("child.vhdx"), "{typed}: {found}");
    }
    let status = scene.run("status --json");
    assert!(status.status == 3 && told(&status.out), "{}", status.out);
    // Nothing of the name is lost.
    let bytes = list.as_array().unwrap().iter().filter_map(|image| image["path"]["bytes"].as_str()).collect::<Vec<_>>();
    assert!(bytes.len() == 1 && bytes[0].ends_with("6f64642dff2e76686478"), "{bytes:?}");
    scene.run("merge child.vhdx").expect("its twin", 4, "", "has other children than");
}

/// What killed and broken work leaves is told by the first look.
#[test]
fn status_tells_what_is_missing_and_what_is_left() {
    let scene = Scene::new();
    scene.run("make a.raw 3M -q").expect("make", 0, "", "");
    scene.run("copy a.raw parts.raw --piece-size 1M -q").expect("pieces", 0, "", "");
    scene.run("status").expect("whole", 0, ": healthy", "");
    // As a kill leaves it between the pieces' names and the descriptor's.
    let descriptor = scene.path("parts.raw.pieces.json");
    std::fs::rename(&descriptor, scene.path("parts.raw.pieces.json.partial-0123abcd")).unwrap();
    for piece in ["parts.raw.000", "parts.raw.001", "parts.raw.002", "parts.raw.pieces.json.partial-0123abcd"] {
        scene.run("status -v").expect(piece, 5, &format!("{piece} was never finished"), "");
    }
    std::fs::rename(scene.path("parts.raw.pieces.json.partial-0123abcd"), descriptor).unwrap();
    scene.run("status").expect("back", 0, ": healthy", "");
    std::fs::remove_file(scene.path("parts.raw.001")).unwrap();
    scene.run("status").expect("a piece is gone", 3, "parts.raw.001", "");
    std::fs::write(scene.path("parts.raw.001"), vec![0; 1 << 20]).unwrap();
    std::os::unix::fs::symlink("gone.vhdx", scene.path("link.vhdx")).unwrap();
    scene.run("status --ignore attention").expect("a link, left alone", 0, "worth a look", "");
    scene.run("status").expect("a link", 5, "link.vhdx is a link to gone.vhdx, and nothing is there", "");
}

/// A disk that has its size and not its space is promised as a dynamic one is.
#[test]
fn sparse_disks_count_in_what_was_promised() {
    let scene = Scene::new();
    for (name, options) in
        [("a.raw", "--kind fixed --space sparse"), ("b.vhdx", "--kind fixed --space sparse"), ("c.vhd", "")]
    {
        scene.run(format!("make {name} 1G -q {options}").trim_end()).expect(name, 0, "", "");
    }
    scene.run("make d.raw 8M --kind fixed --space reserved -q").expect("reserved", 0, "", "");
    let status = scene.json("status");
    let worst = status["most_growth"].as_u64().unwrap();
    assert!((3 << 30) - (64 << 20) < worst && worst <= 3 << 30, "{worst}");
    let each: u64 =
        status["current"].as_array().unwrap().iter().map(|disk| disk["most_growth"].as_u64().unwrap()).sum();
    let shown: u64 = scene.json("show .")["images"]
        .as_array()
        .unwrap()
        .iter()
        .map(|disk| disk["most_growth"].as_u64().unwrap())
        .sum();
    assert_eq!((each, shown), (worst, worst));
    // A frozen layer is promised to nobody any more; whoever adds up says so.
    scene.run("derive c.vhd child.vhd -q").expect("derive", 0, "", "");
    scene.run("copy d.raw parts.raw --piece-size 4M -q").expect("pieces", 0, "", "");
    let totals = &scene.json("tree")["totals"];
    assert_eq!(totals["promised"].as_u64().unwrap(), (3 << 30) + (8 << 20));
    assert_eq!(totals["most_growth"], scene.json("status")["most_growth"]);
    let allocated: u64 = scene.json("show .")["images"]
        .as_array()
        .unwrap()
        .iter()
        .map(|disk| disk["allocated_size"].as_u64().unwrap())
        .sum();
    assert_eq!(totals["allocated"].as_u64().unwrap(), allocated);
    for typed in ["show .", "tree"] {
        scene.run(typed).expect(typed, 0, "3 GiB promised to guests", "");
    }
    scene.run("make large.vhdx 64T -q").expect("make", 0, "", "warning: the disk can grow to 64 TiB");
    let three = scene.run("derive large.vhdx e.vhdx f.vhdx g.vhdx --plan");
    three.expect("derive", 0, "the 3 disks together can grow to 192 TiB", "");
}

#[test]
fn limits_of_names_and_options_are_told() {
    let scene = Scene::new();
    let long = format!("{}.vhdx", "n".repeat(240 - 5));
    scene.run(&format!("make {long} 1G -q")).expect("long", 0, "", "");
    scene.run(&format!("derive {long} child.vhdx -q")).expect("its child", 0, "", "");
    scene.run(&format!("copy {long} {}.raw -q", "m".repeat(251))).expect("longest", 0, "", "");
    scene.run(&format!("copy {long} {}.raw -q", "m".repeat(252))).expect("too long", 1, "", "name too long");
    scene.run("make a.vhdx 1G --rate-limit 0").expect("no rate", 2, "", "nothing would ever be done");
    scene.run("copy child.vhdx parts.vhdx --piece-size 1G").expect("pieces", 2, "", "pieces hold a raw disk");
    scene.run("copy child.vhdx parts.raw --piece-size 1G -q").expect("pieces", 0, "", "");
    assert!(scene.files().contains(&"parts.raw.pieces.json".to_owned()));
}

/// Options whose loss nothing else would show.
#[test]
fn options_do_what_they_say() {
    let scene = Scene::new();
    for (sectors, logical, physical) in [("512/512", 512, 512), ("512/4096", 512, 4096), ("4096/4096", 4096, 4096)] {
        let name = format!("s{logical}-{physical}.vhdx");
        scene.run(&format!("make {name} 1G --sectors {sectors} -q")).expect(sectors, 0, "", "");
        let report = scene.shown(&name);
        assert_eq!((&report["logical_sector"], &report["physical_sector"]), (&logical.into(), &physical.into()));
    }
    for (name, options, recorded) in [("near.vhdx", "", 1), ("far.vhdx", "--absolute", 2)] {
        scene.run(&format!("derive s512-512.vhdx {name} {options} -q").replace("  ", " ")).expect(name, 0, "", "");
        let shown = scene.run(&format!("show {name} -v"));
        let own = scene.path("s512-512.vhdx").canonicalize().unwrap().to_string_lossy().replace('/', "\\");
        assert_eq!(shown.out.split_whitespace().collect::<String>().contains(&own), recorded == 2, "{}", shown.out);
    }
    let exact = scene.run("show s512-512.vhdx --bytes");
    exact.expect("bytes", 0, "1073741824", "");
    assert!(!exact.out.contains("1 GiB"), "{}", exact.out);
    scene.run("make s512-512.vhdx 1G --log-file log.txt").expect("again", 4, "", "already exists");
    scene.run("show s512-512.vhdx --log-file log.txt").expect("show", 0, "1 GiB", "");
    let log = std::fs::read_to_string(scene.path("log.txt")).unwrap();
    assert!(log.contains("already exists") && log.contains("1 GiB") && log.contains("20"), "{log}");
    let error = scene.error("show nothing.vhdx", 1);
    assert_eq!(error["kind"], "host");
    assert!(error["message"].as_str().unwrap().starts_with("cannot open nothing.vhdx"), "{error}");
    assert!(error.as_object().unwrap().len() == 3 && error["next"].is_null());
}

/// A merge that is stopped in the middle of its data leaves its journal; who goes on with it is told why he may not.
#[test]
fn the_status_of_unfinished_work_is_that_of_its_cause() {
    let scene = Scene::new();
    std::fs::write(scene.path("data"), vec![7; 24 << 20]).unwrap();
    scene.run("make base.vhdx 1G -q").expect("make", 0, "", "");
    // More than the child holds, so that its data moves.
    for at in ["100M", "200M"] {
        scene.run(&format!("bytes write base.vhdx --at {at} -i data -q")).expect("write", 0, "", "");
    }
    scene.run("derive base.vhdx now.vhdx -q").expect("derive", 0, "", "");
    scene.run("bytes write now.vhdx --at 8M -i data -q").expect("write", 0, "", "");
    let merge = scene.start("merge now.vhdx --rate-limit 2M");
    scene.wait_for_file("now.vhdx.zsap.journal");
    std::thread::sleep(std::time::Duration::from_millis(300));
    scene.interrupt(&merge);
    let output = merge.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(1), "{output:?}");
    let told = String::from_utf8_lossy(&output.stderr).split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(told.contains("stopped on request") && told.contains("resume"), "{told}");
    scene.run("status").expect("status", 5, "next: `zsap resume", "");
    scene.run("bytes read now.vhdx --at 8M --len 1").expect("reads as before", 0, "\u{7}", "");
    let writer = std::fs::File::options().append(true).open(scene.path("base.vhdx")).unwrap();
    scene.run("resume now.vhdx").expect("held up", 4, "", "is open for writing in");
    scene.run("merge now.vhdx").expect("the same", 4, "", "is open for writing in");
    drop(writer);
    scene.run("resume now.vhdx").expect("resume", 0, "moved", "");
    scene.run("bytes read now.vhdx --at 8M --len 1").expect("reads as before", 0, "\u{7}", "");
    scene.run("status").expect("status", 0, ": healthy", "");
}

/// A full image that came back becomes a child; on a small file system, where there is only room for what differs.
#[test]
fn a_full_image_becomes_a_child_of_its_base() {
    let scene = Scene::new();
    std::fs::write(scene.path("data"), vec![7; 12 << 20]).unwrap();
    scene.run("make fen-base.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("bytes write fen-base.vhdx --at 1M -i data -q").expect("write", 0, "", "");
    scene.run("copy fen-base.vhdx full.raw -q").expect("copy", 0, "", "");
    scene.run("bytes write full.raw --at 2M -i seeds.txt -q").expect("write", 0, "", "");
    for wrong in ["--kind fixed", "--depth chain", "--identity keep", "--format raw"] {
        let typed = format!("copy full.raw germination-01.vhdx --onto fen-base.vhdx {wrong}");
        scene.run(&typed).expect(&typed, 2, "", "cannot be used with");
    }
    scene.run("copy full.raw b.vhdx --absolute").expect("absolute", 2, "", "--onto <BASE>");
    let plan = scene.json("copy full.raw germination-01.vhdx --onto fen-base.vhdx --plan");
    assert_eq!(plan["bytes_read"], 24 << 20, "{plan}");
    let done = scene.json("copy full.raw germination-01.vhdx --onto fen-base.vhdx --verify");
    assert_eq!((&done["bytes_written"], &done["bytes_saved"]), (&4096.into(), &((12 << 20) - 4096).into()), "{done}");
    assert_eq!((&done["newly_frozen"], &done["verified"]), (&true.into(), &true.into()));
    scene.run("diff full.raw germination-01.vhdx --contents").expect("diff", 0, "same", "");
    scene.run("status").expect("status", 0, ": healthy", "");
    let Some(_small) = scene.small_file_system() else { return };
    let copied = scene.run("copy full.raw small/germination-02.vhdx --onto fen-base.vhdx");
    copied.expect("little room", 0, "4 KiB differ and were written", "if all of it differs");
    // Where even that has no room, nothing is left and nobody is recorded.
    std::fs::write(scene.path("other.raw"), vec![9; 64 << 20]).unwrap();
    let full = scene.run("copy other.raw small/germination-03.vhdx --onto fen-base.vhdx");
    full.expect("full", 1, "", "No space left");
    assert!(!scene.path("small/germination-03.vhdx").exists());
    let names: Vec<_> = std::fs::read_dir(scene.path("small")).unwrap().map(|one| one.unwrap().file_name()).collect();
    assert_eq!(names, ["germination-02.vhdx"]);
    scene.run("children fen-base.vhdx").expect("children", 0, "germination-02.vhdx", "");
}
