//! The README is true: its console blocks are one story, which is run here from its beginning to its end.
//!
//! `ZSAP_WRITE_DOCS=1 cargo test readme` writes what is answered now into it; read the difference before.

use std::path::Path;

use crate::scene::Scene;
use crate::snapshots::VOLATILE;

/// The folder that the README speaks of.
const PLACE: &str = "/srv/fen";

/// What is typed, each with what the README says is answered.
struct Step {
    typed: String,
    answer: String,
}

/// The blocks of a document, and the text between them.
fn parts(text: &str) -> (Vec<String>, Vec<Vec<Step>>) {
    let (mut between, mut blocks) = (vec![String::new()], Vec::new());
    let mut inside: Option<Vec<Step>> = None;
    for line in text.lines() {
        match (&mut inside, line) {
            (None, "```console") => inside = Some(Vec::new()),
            (None, _) => between.last_mut().unwrap().push_str(&format!("{line}\n")),
            (Some(_), "```") => {
                blocks.push(inside.take().unwrap());
                between.push(String::new());
            }
            (Some(steps), _) => match (line.strip_prefix("$ "), steps.last_mut()) {
                (Some(typed), _) => steps.push(Step { typed: typed.to_owned(), answer: String::new() }),
                (None, Some(step)) => step.answer.push_str(&format!("{line}\n")),
                (None, None) => panic!("a block begins with an answer: {line}"),
            },
        }
    }
    (between, blocks)
}

/// What a user reads who types this in the scene.
fn answer(scene: &Scene, typed: &str) -> String {
    let told = scene.shell(&format!("{{ {typed}\n}} 2>&1")).out;
    let place = scene.path("").canonicalize().unwrap();
    let told = told.replace(place.to_str().unwrap().trim_end_matches('/'), PLACE);
    // What this host lets us see of other processes is no part of the story.
    told.lines().filter(|line| !line.contains("could not be looked at")).map(|line| format!("{line}\n")).collect()
}

/// What must be the same: words and their order. Sizes, shares and times are those of a host and a moment.
fn essence(told: &str) -> Vec<String> {
    let mut text = told.to_owned();
    for (what, with) in VOLATILE {
        text = regex::Regex::new(what).unwrap().replace_all(&text, *with).into_owned();
    }
    text.split_whitespace().map(str::to_owned).collect()
}

#[test]
fn the_console_blocks_of_the_readme_are_true() {
    let place = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../README.md");
    let readme = std::fs::read_to_string(&place).unwrap();
    let (between, blocks) = parts(&readme);
    let scene = Scene::new();
    std::fs::remove_file(scene.path("seeds.txt")).unwrap();
    std::fs::create_dir(scene.path("seed-records")).unwrap();
    for number in 1..=3 {
        let text = format!("HF-000{number}  Caltha palustris  marsh marigold\n").repeat(number * 40);
        std::fs::write(scene.path(&format!("seed-records/HF-000{number}.txt")), text).unwrap();
    }
    let mut written = String::new();
    let mut count = 0;
    for (text, block) in between.iter().zip(&blocks) {
        written.push_str(&format!("{text}```console\n"));
        for step in block {
            let told = answer(&scene, &step.typed);
            count += 1;
            if std::env::var_os("ZSAP_WRITE_DOCS").is_none() {
                assert_eq!(essence(&told), essence(&step.answer), "$ {}\n{told}", step.typed);
            }
            written.push_str(&format!("$ {}\n{told}", step.typed));
        }
        written.push_str("```\n");
    }
    assert!(count > 20, "{count} commands");
    if std::env::var_os("ZSAP_WRITE_DOCS").is_some() {
        written.push_str(between.last().unwrap());
        std::fs::write(place, written).unwrap();
    }
}
