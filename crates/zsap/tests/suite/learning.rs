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
