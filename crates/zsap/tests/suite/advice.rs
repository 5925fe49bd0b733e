//! What scripts are told to run next can be run, and leads on.

use serde_json::Value;

use crate::scene::Scene;

/// The argument list of a `next`, behind the program's name.
fn arguments(next: &Value) -> String {
    let words: Vec<&str> = next.as_array().unwrap().iter().map(|word| word.as_str().unwrap()).collect();
    assert_eq!(words[0], "zsap");
    assert!(words.iter().all(|word| !word.contains(' ')), "{words:?}");
    words[1..].join(" ")
}

fn follow(scene: &Scene, typed: &str, status: i32) -> i32 {
    let error = scene.error(typed, status);
    let next = arguments(&error["next"]);
    scene.run(&next).status
}

#[test]
fn what_is_told_next_leads_on() {
    let scene = Scene::new();
    for typed in [
        "make fen-base.vhdx 64M -q",
        "derive fen-base.vhdx germination-01.vhdx -q",
        "derive fen-base.vhdx germination-02.vhdx -q",
        "make moor.vhd 64M -q",
        "copy moor.vhd moor.vhdx -q",
    ] {
        scene.run(typed).expect(typed, 0, "", "");
    }
    // What is frozen is not written to: a child grows from it, under a name that is free.
    let mut mode = std::fs::metadata(scene.path("moor.vhd")).unwrap().permissions();
    mode.set_readonly(true);
    std::fs::set_permissions(scene.path("moor.vhd"), mode).unwrap();
    assert_eq!(follow(&scene, "bytes write moor.vhd --at 0 -i seeds.txt", 4), 0);
    assert!(scene.path("moor-child-1.vhd").exists());
    scene.run("pin moor.vhdx -q").expect("pin", 0, "", "");
    assert_eq!(follow(&scene, "bytes write moor.vhdx --at 0 -i seeds.txt", 4), 0);
    assert!(scene.path("moor-child-1.vhdx").exists());
    // A child is no help to who wants the base itself changed, and no script takes a pin away.
    scene.run("remove moor.vhdx").expect("pinned", 4, "", "next: `zsap unpin moor.vhdx`");
    assert_eq!(scene.error("identity moor.vhdx --fresh", 4)["next"], Value::Null);
    // What goes over a refusal is told to people, and to no script.
    let typed = "copy moor.vhd moor.img --format vhdx";
    scene.run(typed).expect("an ending", 4, "", "next: --force=ending goes on all the same");
    assert_eq!(scene.error(typed, 4)["next"], Value::Null);
    // Two of one identity, and one of them gets another.
    std::fs::copy(scene.path("germination-01.vhdx"), scene.path("twin.vhdx")).unwrap();
    let status = scene.json("status");
    let twin = status["problems"].as_array().unwrap().iter().find(|problem| problem["code"] == "twin").unwrap();
    scene.run(&arguments(&twin["next"])).expect("twin", 0, "has an identity of its own", "");
    // A base that went into the folder above is found there.
    std::fs::create_dir(scene.path("below")).unwrap();
    std::fs::rename(scene.path("germination-02.vhdx"), scene.path("below/germination-02.vhdx")).unwrap();
    let status = scene.json("status below");
    let lost = &status["problems"][0];
    assert_eq!((&lost["code"], &lost["severity"]), (&"parent-missing".into(), &"broken".into()));
    scene.run(&arguments(&lost["next"])).expect("lost", 0, "as its parent now", "");
    assert_eq!(scene.json("status below")["problems"], Value::Array(vec![]));
    // What is damaged is checked.
    scene.spoil("below/germination-02.vhdx", 0);
    let shown = scene.run("show below/germination-02.vhdx --json");
    let error: Value = serde_json::from_str(&shown.err).unwrap();
    let check = arguments(&error["error"]["next"]);
    assert_eq!(scene.run(&check).status, 3, "{check}");
    assert_eq!(scene.error("show nothing.vhdx", 1)["next"], Value::Null);
}
