//! What scripts rely on: the recipes of docs/scripting.md, and lines that tell how far long work is.

use std::io::{BufRead, BufReader, Read};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Command;

use serde_json::Value;

use crate::documents::fits;
use crate::scene::Scene;

/// Each recipe's heading, what is typed, and what that prints.
fn recipes(text: &str) -> Vec<(&str, &str, &str)> {
    text.split("\n## ")
        .skip(1)
        .map(|section| {
            let heading = section.lines().next().unwrap();
            let block = |kind: &str| {
                let start = section.find(&format!("```{kind}\n")).unwrap_or_else(|| panic!("{heading}: no {kind}"));
                let rest = &section[start + kind.len() + 4..];
                &rest[..rest.find("```").unwrap()]
            };
            (heading, block("sh"), block("text"))
        })
        .collect()
}

#[test]
fn the_recipes_do_what_they_say() {
    if Command::new("jq").arg("--version").output().is_err() {
        eprintln!("skipped: no jq on this host");
        return;
    }
    let scene = Scene::new();
    for typed in [
        "make fen-base.vhdx 1G",
        "pin fen-base.vhdx",
        "derive fen-base.vhdx germination-01.vhdx germination-02.vhdx",
        "bytes write germination-02.vhdx --at 1M -i seeds.txt",
        "grove new herbarium --machine herbarium",
        "make herbarium/records.vhdx 1G",
        "grove add herbarium herbarium/records.vhdx",
        "checkpoint take herbarium spring",
        "checkpoint take herbarium before-upgrade",
        "make torn.vhdx 1G",
    ] {
        assert_eq!(scene.run(&format!("{typed} -q")).status, 0, "{typed}");
    }
    let torn = std::fs::OpenOptions::new().write(true).open(scene.path("torn.vhdx")).unwrap();
    torn.write_all_at(&((900_000u64 << 20) | 6).to_le_bytes(), 3 << 20).unwrap();
    drop(torn);
    let recipes = recipes(include_str!("../../../../docs/scripting.md"));
    assert_eq!(recipes.len(), 10);
    let binary = Path::new(env!("CARGO_BIN_EXE_zsap")).parent().unwrap();
    let path = format!("{}:{}", binary.display(), std::env::var("PATH").unwrap());
    for (heading, typed, printed) in recipes {
        let shell = Command::new("bash")
            .args(["-euo", "pipefail", "-c", typed])
            .current_dir(scene.path("."))
            .env("PATH", &path)
            .output()
            .unwrap();
        let (out, err) = (String::from_utf8(shell.stdout).unwrap(), String::from_utf8(shell.stderr).unwrap());
        assert!(shell.status.success(), "{heading}: {out}{err}");
        assert_eq!(out, printed, "{heading}: {err}");
    }
}

/// Lines while it works, and where it fails the reason behind them.
#[test]
fn long_work_tells_how_far_it_is() {
    let scene = Scene::new();
    std::fs::write(scene.path("sheets.raw"), vec![7; 6 << 20]).unwrap();
    let told = scene.run_behind(&["env"], "copy sheets.raw sheets.vhdx --json --progress --rate-limit 5M");
    assert_eq!(told.status, 0, "{}", told.err);
    let lines: Vec<Value> = told.err.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    lines.iter().for_each(|line| fits("progress", line));
    let done: Vec<u64> = lines.iter().map(|line| line["done"].as_u64().unwrap()).collect();
    assert!(done.len() >= 2 && done.is_sorted(), "{done:?}");
    assert_eq!(lines.last().unwrap()["done"], lines.last().unwrap()["total"]);
    fits("copy", &serde_json::from_str(&told.out).unwrap());

    let mut child = scene.start("copy sheets.raw again.vhdx --json --progress --rate-limit 1M");
    let (mut err, mut told) = (String::new(), BufReader::new(child.stderr.take().unwrap()));
    told.read_line(&mut err).unwrap();
    scene.interrupt(&child);
    told.read_to_string(&mut err).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(1));
    let (last, before) =
        err.lines().collect::<Vec<_>>().split_last().map(|(last, rest)| (*last, rest.to_vec())).unwrap();
    fits("error", &serde_json::from_str(last).unwrap());
    before.iter().for_each(|line| fits("progress", &serde_json::from_str(line).unwrap()));
    assert!(!scene.path("again.vhdx").exists());
}
