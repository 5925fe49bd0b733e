//! What is attached: how it is told, asked, and ended.

use std::io::{BufRead, Read, Write};
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::net::UnixStream;
use std::path::Path;

use serde_json::{Value, json};

use crate::scene::Scene;
use crate::shown::{Shown, attached, can_mount, tool};

/// One question at a control socket.
fn ask(socket: &Path, question: &str) -> Value {
    let mut stream = UnixStream::connect(socket).unwrap();
    stream.write_all(question.as_bytes()).unwrap();
    stream.write_all(b"\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    serde_json::from_str(&answer).unwrap_or_else(|error| panic!("{question}: {answer:?}: {error}"))
}

#[test]
fn what_is_attached_is_told_grows_and_ends() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("make other.vhdx 64M -q").expect("make", 0, "", "");
    assert_eq!(attached(&scene), Vec::<Value>::new());
    let mut server = scene.start("serve other.vhdx --json");
    let mut shown = Shown::start(&scene, "now.vhdx", "--writable --json");
    scene.wait("the server", || attached(&scene).len() == 2);
    let all = attached(&scene);
    let named = |name: &str| {
        let ends = |one: &&Value| one["path"]["absolute"].as_str().unwrap().ends_with(name);
        all.iter().find(ends).unwrap().clone()
    };
    let (files, served) = (named("now.vhdx"), named("other.vhdx"));
    assert_eq!((&files["mode"], &served["mode"]), (&json!("writable"), &json!("read_only")));
    assert_eq!((&files["place"]["how"], &served["place"]["how"]), (&json!("folder"), &json!("socket")));
    assert_eq!(files["process"], shown.child.id());
    assert_eq!(files["user"], 0);
    assert_eq!(std::fs::metadata(scene.runtime()).unwrap().permissions().mode() & 0o777, 0o700);

    // It grows under a loop device, which is told by name.
    let device = tool(&format!("losetup --find --show {}", shown.file("disk.raw")), "").trim().to_owned();
    assert_eq!(attached(&scene).iter().map(|one| one["users"].as_u64().unwrap()).sum::<u64>(), 1);
    let control = scene.runtime().join(format!("{}.control", shown.child.id()));
    let grown = ask(&control, &format!(r#"{{"protocol":1,"ask":"grow","size":{}}}"#, 100 << 20));
    assert_eq!(grown, json!({ "answer": "grown", "size": 100 << 20, "devices": [device] }));
    assert_eq!(std::fs::metadata(shown.file("disk.raw")).unwrap().len(), 100 << 20);
    let mut line = String::new();
    shown.out.read_line(&mut line).unwrap();
    let event: Value = serde_json::from_str(&line).unwrap();
    crate::documents::fits("event", &event);
    assert_eq!((&event["event"], &event["devices"]), (&json!("grown"), &json!([device])));
    tool(&format!("losetup -c {device}"), "");
    assert_eq!(tool(&format!("blockdev --getsize64 {device}"), "").trim(), (100 << 20).to_string());

    // Nonsense, another protocol, what cannot be, and somebody who says nothing.
    let silent = UnixStream::connect(&control).unwrap();
    for (question, told) in [
        ("nonsense", "no question"),
        (r#"{"protocol":9,"ask":"describe"}"#, "protocol 9"),
        (r#"{"protocol":1,"ask":"sing"}"#, "no question"),
        (r#"{"protocol":1,"ask":"grow","size":5}"#, "5"),
    ] {
        let answer = ask(&control, question);
        assert_eq!(answer["answer"], "failed", "{question}: {answer}");
        assert!(answer["message"].as_str().unwrap().contains(told), "{question}: {answer}");
    }
    assert_eq!(ask(&control, r#"{"protocol":1,"ask":"describe","later":[1,{"a":2}]}"#)["answer"], "description");

    let refused = scene.error("detach now.vhdx", 4);
    assert!(refused["message"].as_str().unwrap().contains(&format!("losetup -d {device}")), "{refused}");
    tool(&format!("losetup -d {device}"), "");
    drop(silent);
    scene.json("detach now.vhdx --wait 60");
    assert!(shown.child.wait().unwrap().success());
    scene.run("detach other.vhdx").expect("the server", 0, "nothing was written", "");
    assert!(server.wait().unwrap().success());
    scene.run("detach now.vhdx").expect("again", 2, "", "nothing of the name now.vhdx is attached");
    assert_eq!(scene.shown("now.vhdx")["virtual_size"], 100 << 20);
}

/// A signal waits for those who use the disk, and says so; one more takes it from them.
#[test]
fn a_signal_waits_for_those_who_use_it_and_a_second_does_not() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 64M -q").expect("make", 0, "", "");
    for again in [false, true] {
        let mut shown = Shown::start(&scene, "now.vhdx", "--writable");
        std::fs::write(shown.file("disk.raw"), vec![5; 1 << 20]).unwrap();
        let held = std::fs::File::open(shown.file("disk.raw")).unwrap();
        scene.interrupt(&shown.child);
        let mut told = String::new();
        while !told.contains("it ends as soon as nobody uses it") {
            told.clear();
            assert!(shown.out.read_line(&mut told).unwrap() > 0);
        }
        assert!(told.contains(&format!("process {}", std::process::id())), "{told}");
        if again {
            scene.interrupt(&shown.child);
        } else {
            drop(held);
        }
        assert_eq!(shown.child.wait().unwrap().code(), Some(if again { 130 } else { 0 }));
        assert_eq!(std::fs::read_dir(scene.path("fen")).unwrap().count(), 0, "no mount is left");
        scene.run("check now.vhdx").expect("check", 0, "healthy", "");
        scene.run("bytes read now.vhdx --at 1048575 --len 1").expect("kept", 0, "\u{5}", "");
    }
    // Whoever means it may take it away without signals.
    let mut shown = Shown::start(&scene, "now.vhdx", "--writable");
    let held = std::fs::File::open(shown.file("disk.raw")).unwrap();
    scene.run("detach fen").expect("held", 4, "", "let it end");
    scene.run("detach fen --force=in-use").expect("forced", 0, "durable", "");
    assert!(shown.child.wait().unwrap().success());
    drop(held);
}

#[test]
fn in_the_background_it_is_there_when_the_command_returns() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 16M -q").expect("make", 0, "", "");
    std::fs::create_dir(scene.path("fen")).unwrap();
    let told = scene.json("expose now.vhdx fen --writable --background");
    assert_eq!(told["files"][0]["size"], 16 << 20);
    std::fs::write(scene.path("fen/disk.raw"), "Caltha palustris").unwrap();
    scene.run("show now.vhdx").expect("held", 0, "zsap expose now.vhdx fen --writable", "");
    scene.run("detach fen").expect("detach", 0, "durable", "");
    scene.run("bytes read now.vhdx --at 0 --len 6").expect("kept", 0, "Caltha", "");
    scene.run("expose now.vhdx fen --background").expect("text", 0, "goes on until: zsap detach fen", "");
    scene.run("detach fen").expect("detach", 0, "nothing was written", "");
    scene.run("expose nothing.vhdx fen --background").expect("fails", 1, "", "cannot open nothing.vhdx");
}

/// Each of them names what it is.
#[test]
fn what_is_served_is_ended_by_its_address_and_its_socket() {
    let scene = Scene::new();
    scene.run("make now.vhdx 16M -q").expect("make", 0, "", "");
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    for (how, name) in [("--socket door".to_owned(), "door".to_owned()), (format!("--listen {free}"), free.to_string())]
    {
        let mut server = scene.start(&format!("serve now.vhdx {how}"));
        scene.wait("the server", || attached(&scene).len() == 1);
        scene.run("detach other.vhdx").expect("another", 2, "", "nothing of the name");
        scene.run(&format!("detach {name}")).expect(&name, 0, &format!("detached {name} from"), "");
        assert!(server.wait().unwrap().success());
        assert_eq!(attached(&scene), Vec::<Value>::new());
    }
    assert!(!scene.path("door").exists());
}

/// Several at the same moment: one of them has the folder, and hides nobody.
#[test]
fn a_folder_is_taken_by_one_of_several() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    std::fs::create_dir(scene.path("fen")).unwrap();
    let names: Vec<String> = (0..6).map(|number| format!("lot-{number}.raw")).collect();
    names.iter().for_each(|name| std::fs::write(scene.path(name), vec![1; 1 << 20]).unwrap());
    for _ in 0..4 {
        let all: Vec<_> = names.iter().map(|name| scene.start(&format!("expose {name} fen"))).collect();
        scene.wait("one of them", || attached(&scene).len() == 1);
        let folder = scene.path("fen").canonicalize().unwrap();
        let mut ended: Vec<i32> = Vec::new();
        let mut all = all;
        scene.wait("the others", || {
            all.retain_mut(|child| match child.try_wait().unwrap() {
                Some(status) => {
                    ended.push(status.code().unwrap());
                    false
                }
                None => true,
            });
            all.len() == 1
        });
        assert_eq!(ended, [4; 5]);
        let mounts = std::fs::read_to_string("/proc/self/mountinfo").unwrap();
        let count = mounts.lines().filter(|line| line.split(' ').nth(4) == folder.to_str()).count();
        assert_eq!(count, 1, "{mounts}");
        scene.run("detach fen --wait 60").expect("detach", 0, "detached fen from", "");
        assert!(all[0].wait().unwrap().success());
    }
}

#[test]
fn a_folder_for_sockets_that_another_user_made_is_not_ours() {
    if !can_mount() {
        return;
    }
    let scene = Scene::new();
    scene.run("make now.vhdx 16M -q").expect("make", 0, "", "");
    std::fs::create_dir(scene.runtime()).unwrap();
    chown(scene.runtime(), Some(65534), None).unwrap();
    scene.run("serve now.vhdx").expect("not ours", 4, "", "belongs to user 65534");
    // It is exposed all the same, and a signal ends it.
    let mut shown = Shown::start(&scene, "now.vhdx", "--json");
    scene.interrupt(&shown.child);
    let mut told = String::new();
    shown.out.read_to_string(&mut told).unwrap();
    assert!(shown.child.wait().unwrap().success());
    crate::documents::fits("event", &serde_json::from_str(told.lines().last().unwrap()).unwrap());
}
