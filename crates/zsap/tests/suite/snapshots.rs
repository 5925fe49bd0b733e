//! What a user and a script read, whole: a change of any word is seen, and is either meant or a mistake.
//!
//! `INSTA_UPDATE=always cargo test snapshots` takes what is answered now for right; read the difference before.

use crate::scene::{Outcome, Scene};

/// What differs from run to run, and from host to host.
pub const VOLATILE: &[(&str, &str)] = &[
    (r"/[^ \n\x22]*/\.tmp\w+", "[FOLDER]"),
    (r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", "[ID]"),
    (r#""(created|modified|since|started)": "[^"]*""#, r#""$1": "[TIME]""#),
    (r"\d{4}-\d\d-\d\dT[0-9:.]+Z", "[TIME]"),
    (r"\d{4}-\d\d-\d\d \d\d:\d\d", "[TIME]"),
    (r"digest of the whole [0-9a-f]+", "digest of the whole [DIGEST]"),
    (r"just now|\d+ (s|seconds?) ago|\b\d+ s\b", "[AGE]"),
    // What the host sets aside depends on its file system.
    (r#""(allocated_size|allocated|host_free|most_growth|saved|grown|file_size)": \d+"#, r#""$1": "[SPACE]""#),
    (r"\d[\d.]* \w+ (are )?free", "[SPACE] free"),
    (r"\b\d[\d.]* (B|KiB|MiB)\b", "[SPACE]"),
    (r"<?\d[\d.]* %", "[SHARE]"),
    // Where the host tells in how many pieces it keeps a file.
    (r"; the host keeps the file in (one piece|\d+ pieces)", ""),
    (r#""host_pieces": (null|\d+)"#, r#""host_pieces": "[PIECES]""#),
    // What this host lets us see of other processes.
    (r#""not_seen": (null|"[^"]*")"#, r#""not_seen": "[SEEN]""#),
    (r#"(?m)^.*could not be looked at.*\n"#, ""),
    (r"\[\s+\]", "[]"),
];

/// Messages break between words where the line ends, which depends on where the folder is; and columns are as wide as
/// what stands in them.
fn unwrapped(text: &str) -> String {
    let mut whole = String::new();
    for line in text.lines() {
        let rest = line.trim_start_matches(' ');
        match line.len() - rest.len() >= 4 && rest.starts_with(|c: char| c.is_alphanumeric() || "[`/(".contains(c)) {
            true => whole.push(' '),
            false => whole.push('\n'),
        }
        whole.push_str(if whole.ends_with(' ') { rest } else { line });
    }
    while whole.contains("   ") {
        whole = whole.replace("   ", "  ");
    }
    let whole = whole.trim_start_matches('\n');
    if whole.is_empty() { String::new() } else { format!("{whole}\n") }
}

/// Steps, and answers that are kept: a name, and what is typed.
const STORY: &[(Option<&str>, &str)] = &[
    (Some("make"), "make fen-base.vhdx 1G"),
    (Some("derive"), "derive fen-base.vhdx germination-01.vhdx germination-02.vhdx"),
    (None, "bytes write germination-01.vhdx --at 5M -i seeds.txt -q"),
    (None, "derive germination-02.vhdx after.vhdx -q"),
    (Some("show"), "show germination-01.vhdx"),
    (Some("show-folder"), "show ."),
    (Some("show-json"), "show germination-01.vhdx --json"),
    (Some("tree"), "tree"),
    (Some("tree-json"), "tree --json"),
    (Some("status"), "status"),
    (Some("status-json"), "status --json"),
    (Some("children"), "children fen-base.vhdx"),
    (Some("diff"), "diff fen-base.vhdx germination-01.vhdx"),
    (Some("check"), "check germination-01.vhdx"),
    (Some("refused"), "bytes write fen-base.vhdx --at 0 -i seeds.txt"),
    (Some("merge-plan"), "merge after.vhdx --plan"),
    (Some("merge-plan-json"), "merge after.vhdx --plan --json"),
    (Some("merge"), "merge after.vhdx"),
    (Some("pin"), "pin fen-base.vhdx"),
    (Some("pin-verify"), "pin fen-base.vhdx --verify"),
    (Some("pinned"), "identity fen-base.vhdx --fresh"),
    (Some("pinned-json"), "identity fen-base.vhdx --fresh --json"),
    (Some("remove"), "remove germination-01.vhdx"),
    (None, "make records.vhdx 64M -q"),
    (Some("prepare-plan"), "prepare records.vhdx --volume 8M,fs=fat,label=boot --volume rest --plan"),
    (Some("prepare"), "prepare records.vhdx --volume 8M,fs=fat,label=boot --volume rest"),
    (Some("prepare-again"), "prepare records.vhdx --volume rest"),
    (Some("show-volumes"), "show records.vhdx"),
    (Some("files-list"), "files list records.vhdx"),
    (Some("files-list-json"), "files list records.vhdx --json"),
    (Some("files-nowhere"), "files get records.vhdx /seeds.txt taken"),
    (Some("files-volume"), "files list records.vhdx --volume 7"),
    (Some("resize-plan"), "resize records.vhdx --by +1M --extend-partition --plan"),
    (Some("resize-cut"), "resize records.vhdx --to 32M"),
    (Some("resize"), "resize records.vhdx --to 1G"),
    (Some("resize-json"), "resize records.vhdx --extend-partition --json"),
    (Some("resize-base"), "resize fen-base.vhdx --to 128G"),
    (None, "remove records.vhdx -q"),
    (Some("help"), "--help"),
];

#[test]
fn answers_are_as_they_were() {
    let scene = Scene::new();
    let mut settings = insta::Settings::clone_current();
    settings.set_prepend_module_to_snapshot(false);
    settings.set_omit_expression(true);
    VOLATILE.iter().for_each(|(what, with)| settings.add_filter(what, *with));
    let _bound = settings.bind_to_scope();
    for (name, typed) in STORY {
        let outcome = scene.run(typed);
        let Some(name) = name else {
            outcome.expect(typed, 0, "", "");
            continue;
        };
        insta::assert_snapshot!(*name, told(typed, &outcome));
    }
    // What is damaged is told by a check, and by the first look.
    scene.spoil("after.vhdx", 64 << 10);
    for (name, typed) in [("damaged", "check after.vhdx"), ("damaged-status", "status")] {
        insta::assert_snapshot!(name, told(typed, &scene.run(typed)));
    }
}

pub fn told(typed: &str, outcome: &Outcome) -> String {
    let is_text = !typed.contains("--json");
    let text = |text: &str| if is_text { unwrapped(text) } else { text.to_owned() };
    let err: String =
        text(&outcome.err).lines().filter(|line| !line.is_empty()).map(|line| format!("! {line}\n")).collect();
    format!("$ zsap {typed}\n{}{err}status {}\n", text(&outcome.out), outcome.status)
}
