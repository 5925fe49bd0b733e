//! Two commands at once: one is stopped before each of its changes on the host, the other runs to its end or its
//! refusal, and the first goes on.

use std::process::Command;

use zestful_sapling::image::Format;
use zestful_sapling::storage::testing::HostRecorder;

use crate::acts::{ACTS, Act, Cast, Stage, is_orderly};

/// How one of a pair is run.
#[derive(Clone, Copy)]
enum Second {
    Here,
    AnotherProcess,
}

const FAMILY: &str = "ZSAP_ACT_FAMILY";
const NUMBER: &str = "ZSAP_ACT_NUMBER";

/// No test of its own: what [`Second::AnotherProcess`] runs.
#[test]
fn as_another_process() {
    let (Some(root), Ok(number)) = (std::env::var_os(FAMILY), std::env::var(NUMBER)) else { return };
    let (number, format): (usize, _) = match number.split_once(' ') {
        Some((number, "vhd")) => (number.parse().unwrap(), Format::Vhd),
        Some((number, _)) => (number.parse().unwrap(), Format::Vhdx),
        None => panic!("{number}"),
    };
    let ended = Cast { root: root.into(), format }.perform(ACTS[number]);
    assert!(is_orderly(&ended), "{ended:?}");
    // The status tells; a refusal is no failure of the test.
    println!("\nended {}", if ended.is_ok() { "well" } else { "refused" });
}

fn in_another_process(stage: &Stage, act: Act) -> bool {
    let number = ACTS.iter().position(|other| *other == act).unwrap();
    let output = Command::new(std::env::current_exe().unwrap())
        .args(["interleaved::as_another_process", "--exact", "--nocapture"])
        .env(FAMILY, &stage.cast.root)
        .env(NUMBER, format!("{number} {}", stage.cast.format))
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{told}{}", String::from_utf8_lossy(&output.stderr));
    told.contains("ended well")
}

/// Runs the first up to its change number `at`, the second, and the first to its end; whether the first came that far.
fn run(
    stage: &Stage,
    recorder: &HostRecorder,
    first: Act,
    second: Act,
    how: Second,
    at: usize,
) -> Option<(bool, bool)> {
    recorder.rewind().unwrap();
    let pause = recorder.pause_at(at);
    std::thread::scope(|scope| {
        let running = scope.spawn(|| stage.cast.perform(first));
        while !pause.is_reached() && !running.is_finished() {
            std::thread::sleep(std::time::Duration::from_micros(50));
        }
        if !pause.is_reached() {
            running.join().unwrap().unwrap_or_else(|error| panic!("{first:?} alone: {error}"));
            return None;
        }
        let when = format!("{} {first:?} stopped before change {at}, then {second:?}", stage.cast.format);
        let other = match how {
            Second::Here => {
                let ended = stage.cast.perform(second);
                assert!(is_orderly(&ended), "{when}: {ended:?}");
                ended.is_ok()
            }
            Second::AnotherProcess => in_another_process(stage, second),
        };
        drop(pause);
        let ended = running.join().unwrap();
        assert!(is_orderly(&ended), "{when}: {ended:?}");
        let done = [(first, ended.is_ok()), (second, other)];
        stage.judge(&done, &format!("{when}, {ended:?}"));
        stage.cast.finish(&when);
        stage.judge(&done, &format!("{when}, carried on"));
        Some((ended.is_ok(), other))
    })
}

fn interleave(every: usize, how: Second, seed: usize) -> (usize, usize, usize) {
    let (mut runs, mut both, mut refused) = (0, 0, 0);
    let mut number = seed;
    for format in [Format::Vhdx, Format::Vhd] {
        let stage = Stage::new(format);
        let recorder = HostRecorder::start(&stage.cast.root).unwrap();
        for first in ACTS {
            recorder.rewind().unwrap();
            stage.cast.perform(first).unwrap_or_else(|error| panic!("{first:?}: {error}"));
            let changes = recorder.asked();
            for second in ACTS {
                if !is_asked_for(first, second) {
                    continue;
                }
                for at in 0..changes {
                    number += 1;
                    if !number.is_multiple_of(every) {
                        continue;
                    }
                    if let Some((one, other)) = run(&stage, &recorder, first, second, how, at) {
                        runs += 1;
                        both += usize::from(one && other);
                        refused += usize::from(!one || !other);
                    }
                }
            }
        }
    }
    (runs, both, refused)
}

/// All of them take an evening.
fn every(share: usize) -> usize {
    if std::env::var_os("ZSAP_EVERY_PAIR").is_some() { 1 } else { share }
}

/// Those in which one act has a part, where `ZSAP_PAIRS_OF` names it, such as `CompactMid`.
fn is_asked_for(first: Act, second: Act) -> bool {
    let is_named = |name: String| [first, second].iter().any(|act| format!("{act:?}") == name);
    std::env::var("ZSAP_PAIRS_OF").ok().is_none_or(is_named)
}

#[test]
fn two_at_once_lose_nobodys_disk() {
    let (runs, both, refused) = interleave(every(47), Second::Here, 0);
    println!("{runs} runs, both went through in {both}");
    assert!(runs > 300 && both > 30 && refused > 100, "{runs} runs, {both} both, {refused} refused");
}

#[test]
fn two_processes_at_once_lose_nobodys_disk() {
    let (runs, both, refused) = interleave(every(1) * if every(2) == 1 { 23 } else { 373 }, Second::AnotherProcess, 11);
    println!("{runs} runs, both went through in {both}");
    assert!(runs > 30 && refused > 10, "{runs} runs, {both} both, {refused} refused");
}
