//! Help, tips, completions and the manual, as somebody meets them who is new here.

use std::process::Command;

use crate::scene::Scene;

#[test]
fn another_word_for_a_command_leads_to_it() {
    let scene = Scene::new();
    let rows = [
        ("create a.vhdx 1G", "there is no command `create`\n  next: `zsap make`: make a new disk"),
        ("files ls a.vhdx", "there is no command `ls`\n  next: `zsap files list`: list what"),
        ("merg a.vhdx", "there is no command `merg`\n  next: `zsap merge`: merge a child"),
        ("grove lists fen", "there is no command `lists`\n  next: `zsap grove list`: the machine's disks"),
        ("\u{1b}[2Jxyzzy a.vhdx", "unrecognized subcommand"),
    ];
    for (typed, told) in rows {
        let outcome = scene.run(typed);
        assert_eq!((outcome.status, outcome.out.as_str()), (2, ""), "{typed}");
        assert!(outcome.err.contains(told), "{typed}: {}", outcome.err);
        assert!(!outcome.err.contains('\u{1b}'), "{typed}");
    }
    assert!(scene.error("create a.vhdx 1G", 2)["message"].as_str().unwrap().contains("`zsap make`"));
}

#[test]
fn help_is_narrow_and_ends_with_examples() {
    let scene = Scene::new();
    scene.run("-h").expect("-h", 0, "Keep safe:\n  check ", "");
    for typed in ["-h", "merge -h", "files find -h", "serve -h"] {
        let told = scene.run(typed).out;
        let widest = told.lines().map(|line| line.chars().count()).max().unwrap();
        assert!(widest <= 100, "{typed}: {widest} columns\n{told}");
    }
    let short = scene.run("merge -h").out;
    assert!(short.contains("Examples:") && !short.contains("--log-file"), "{short}");
    assert!(scene.run("merge --help").out.contains("--log-file"));
    let words = scene.run("words").out;
    assert!(words.contains("checkpoint: what all tracked disks"), "{words}");
    assert_eq!(scene.run("help words").out.trim(), words.trim());
    assert!(scene.json("words")["words"].as_array().unwrap().len() >= 12);
}

/// The shell that the script is for takes it, and offers the commands.
#[test]
fn shells_complete_commands() {
    let scene = Scene::new();
    for shell in ["bash", "zsh", "fish", "elvish"] {
        let script = scene.run(&format!("completions {shell}")).out;
        assert!(script.contains("transplant") && script.contains("same-as-parent"), "{shell}");
        assert_eq!(
            scene.json(&format!("completions {shell}"))["script"].as_str().unwrap().trim_end(),
            script.trim_end()
        );
    }
    let script = scene.path("zsap.bash");
    std::fs::write(&script, scene.run("completions bash").out).unwrap();
    let asked = "source ./zsap.bash; COMP_WORDS=(zsap checkpoint f); COMP_CWORD=2; _zsap zsap f checkpoint; \
        echo \"${COMPREPLY[*]}\"";
    let shell = Command::new("bash").args(["-c", asked]).current_dir(script.parent().unwrap()).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&shell.stdout), "forget\n", "{}", String::from_utf8_lossy(&shell.stderr));
}

#[test]
fn the_manual_is_written_and_renewed() {
    let scene = Scene::new();
    scene.run("manual pages --plan").expect("plan", 0, "pages into pages", "");
    assert!(!scene.path("pages").exists());
    let told = scene.json("manual pages");
    let pages = told["pages"].as_array().unwrap();
    assert!(pages.len() > 50);
    for page in pages {
        let text = std::fs::read_to_string(scene.path("pages").join(page.as_str().unwrap())).unwrap();
        assert!(text.contains(".TH") && !text.contains("__"), "{page}");
    }
    std::fs::write(scene.path("pages/zsap-merge.1"), "of an older version").unwrap();
    std::fs::write(scene.path("pages/other.1"), "of another program").unwrap();
    scene.run("manual pages").expect("again", 0, "read one: man pages/zsap.1", "");
    assert!(std::fs::read_to_string(scene.path("pages/zsap-merge.1")).unwrap().contains(".TH"));
    assert_eq!(std::fs::read_to_string(scene.path("pages/other.1")).unwrap(), "of another program");
    scene.run("manual seeds.txt").expect("a file", 1, "", "cannot create the folder seeds.txt");
}

/// What is set once holds for all commands, what is typed wins, and nothing is read from where somebody works.
#[test]
fn settings_hold_until_something_else_is_typed() {
    let scene = Scene::new();
    let file = scene.runtime().with_file_name("zsap.toml");
    let bases = scene.path("bases");
    std::fs::create_dir(&bases).unwrap();
    std::fs::write(scene.path("zsap.toml"), "[new-disks]\nkind = \"dynamic\"\n").unwrap();
    let set = "color = \"always\"\n[new-disks]\nformat = \"vhd\"\nkind = \"fixed\"\n[attention]\nlayers = 1\n";
    let set = format!("search = [{:?}]\n{set}", bases.to_str().unwrap());
    std::fs::write(&file, set).unwrap();
    let told = scene.json("settings");
    let find = |name: &str| {
        let found = told["settings"].as_array().unwrap().iter().find(|set| set["name"] == name).unwrap();
        (found["value"].as_str().unwrap_or_default().to_owned(), !found["from"].is_null())
    };
    assert_eq!(find("new-disks.kind"), ("fixed".to_owned(), true));
    assert_eq!(find("attention.checkpoint-share"), ("20 %".to_owned(), false));
    assert!(scene.run("words").out.contains('\u{1b}') && !scene.run("words --color never").out.contains('\u{1b}'));
    let kind = |typed: &str, name: &str| {
        assert_eq!(scene.run(&format!("make {typed} -q --color never")).status, 0, "{typed}");
        let shown = scene.shown(name);
        (shown["format"].as_str().unwrap().to_owned(), shown["kind"].as_str().unwrap().to_owned())
    };
    assert_eq!(kind("a.vhdx 8M", "a.vhdx"), ("vhdx".to_owned(), "fixed".to_owned()));
    assert_eq!(kind("b.vhdx 8M --kind dynamic", "b.vhdx"), ("vhdx".to_owned(), "dynamic".to_owned()));
    assert_eq!(kind("c.raw 8M", "c.raw"), ("raw".to_owned(), "fixed".to_owned()));
    assert_eq!(kind("plain 8M", "plain"), ("vhd".to_owned(), "fixed".to_owned()));
    // A lost base is found where the settings say.
    scene.run("make fen-base.vhdx 8M -q --kind dynamic");
    scene.run("derive fen-base.vhdx child.vhdx -q");
    std::fs::rename(scene.path("fen-base.vhdx"), bases.join("old.vhdx")).unwrap();
    scene.run("relink child.vhdx --color never").expect("found", 0, "bases/old.vhdx as its parent now", "");
    // A file that cannot be gone by is told, and stops nothing.
    std::fs::write(&file, "force = [\"in-use\"]\n").unwrap();
    scene.run("make d.vhdx 8M").expect("left out", 0, "vhdx dynamic", "are left out: line 1: unknown field `force`");
    assert!(scene.json("show d.vhdx")["warnings"][0].as_str().unwrap().contains("left out"));
    scene.run("settings").expect("settings", 0, "left out: line 1", "");
}
