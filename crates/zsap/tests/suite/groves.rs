//! Machines and their checkpoints, as they are typed; and killed at any moment.

use std::process::Command;
use std::time::{Duration, Instant};

use crate::scene::Scene;
use crate::volumes::{self, fill, tool};

/// A life of a machine: what is typed, the status, and parts of what is said.
const LIFE: &[(&str, i32, &str, &str)] = &[
    ("grove new herbarium --machine herbarium", 0, "is the grove of the machine herbarium", ""),
    ("make herbarium/system.vhdx 1G -q", 0, "", ""),
    ("make records.vhd 1G -q", 0, "", ""),
    ("make herbarium/swap.raw 8M -q", 0, "", ""),
    ("grove add herbarium herbarium/system.vhdx", 0, "has the disk system, tracked", ""),
    ("grove add herbarium records.vhd", 2, "", "does not lie in the machine's folder"),
    ("grove add herbarium records.vhd --move", 0, "has the disk records, tracked", ""),
    ("grove add herbarium herbarium/swap.raw", 4, "", "a raw disk, which knows no layers"),
    ("grove add herbarium herbarium/swap.raw --role throwaway", 0, "swap, throwaway", "a guest that opens"),
    ("bytes write herbarium --disk swap --at 0 -i seeds.txt", 4, "", "never written to"),
    ("grove list herbarium", 0, "records.vhd  vhd", ""),
    ("bytes write herbarium --disk system --at 1M -i seeds.txt -q", 0, "", ""),
    ("bytes write herbarium --at 1M -i seeds.txt", 2, "", "name one of its disks: system, records, swap"),
    ("checkpoint take herbarium before-upgrade --note=first --plan", 0, "plan for checkpoint take", ""),
    ("checkpoint take herbarium before-upgrade --note=first", 0, "took the checkpoint before-upgrade", ""),
    ("checkpoint take herbarium before-upgrade", 2, "", "there is a checkpoint before-upgrade already"),
    ("checkpoint take herbarium .hidden", 2, "", "it begins with a dot"),
    ("bytes write herbarium --disk system --at 5M -i seeds.txt -q", 0, "", ""),
    ("diff herbarium --disk system --checkpoint before-upgrade --contents", 0, "at byte", ""),
    ("bytes read herbarium --disk system --checkpoint before-upgrade --at 5M --len 4 -o piece", 0, "piece", ""),
    ("show herbarium --disk system --checkpoint before-upgrade", 0, "0001-before-upgrade/system.vhdx", ""),
    ("checkpoint revert herbarium before-upgrade", 2, "", "--keep-as"),
    ("checkpoint revert herbarium before-upgrade --keep-as failed", 0, "back at the checkpoint", ""),
    ("checkpoint list herbarium", 0, "├─ failed", ""),
    ("checkpoint list records", 1, "", "No such file"),
    ("copy herbarium --disk system --checkpoint failed failed.raw -q", 0, "", ""),
    ("derive herbarium --disk system germination.vhdx", 2, "", "name a checkpoint"),
    ("derive herbarium --disk system --checkpoint failed germination.vhdx", 0, "grew germination.vhdx", ""),
    ("checkpoint forget herbarium failed --plan", 0, "plan for checkpoint forget", ""),
    ("remove germination.vhdx -q", 0, "", ""),
    ("grove copy herbarium twin", 0, "3 disks with 2 checkpoints", ""),
    ("grove copy herbarium flat --flat --checkpoint failed", 0, "2 disks with 0 checkpoints", ""),
    ("grove copy herbarium flat --flat", 4, "", "already exists"),
    ("grove copy herbarium other --checkpoint failed", 2, "", "--flat"),
    ("grove remove twin", 2, "", "say --yes"),
    ("grove remove twin --yes", 0, "removed twin", ""),
    ("show twin", 1, "", "No such file"),
    ("merge herbarium/system.vhdx", 4, "", "zsap checkpoint forget"),
    ("checkpoint rename herbarium failed broken", 0, "failed is broken now", ""),
    ("checkpoint note herbarium broken --protect", 0, "protected", ""),
    ("checkpoint forget herbarium broken", 4, "", "is protected"),
    ("checkpoint forget herbarium --older-than 1h", 0, "no checkpoint of herbarium was meant", ""),
    ("checkpoint forget herbarium --older-than soon", 2, "", "such as 14d"),
    ("checkpoint note herbarium broken --unprotect", 0, "broken", ""),
    ("checkpoint forget herbarium --keep 0", 0, "forgot before-upgrade, broken", ""),
    ("checkpoint list herbarium", 0, "none yet", ""),
    ("grove release herbarium records", 0, "records is no disk of herbarium any more", ""),
    ("grove rebuild herbarium", 0, "the old one is kept as", "the roles of the disks cannot be told"),
    ("grove rebuild nowhere", 1, "", "No such file"),
];

#[test]
fn a_machine_from_its_making_to_its_end() {
    for json in [false, true] {
        let scene = Scene::new();
        for (typed, status, out, err) in LIFE {
            if !json {
                scene.run(typed).expect(typed, *status, out, err);
            } else if !typed.contains(" -o ") {
                // Each answer is held against its schema.
                let outcome = scene.run(&format!("{typed} --json"));
                assert_eq!(outcome.status, *status, "{typed}: {}", outcome.err);
            } else {
                scene.run(typed).expect(typed, *status, out, "");
            }
        }
    }
}

/// An owner that only an administrator may give: without that the disk's new file would be another user's.
#[test]
fn what_a_new_file_does_not_get_refuses_the_checkpoint() {
    let scene = Scene::new();
    let has_rights = Command::new("id").arg("-u").output().is_ok_and(|told| told.stdout.starts_with(b"0\n"));
    if !has_rights || Command::new("setpriv").arg("--help").output().is_err() {
        eprintln!("skipped: only an administrator can give a file away, and setpriv takes that right");
        return;
    }
    scene.run("grove new herbarium --machine herbarium -q").expect("new", 0, "", "");
    scene.run("make herbarium/system.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("grove add herbarium herbarium/system.vhdx -q").expect("add", 0, "", "");
    std::os::unix::fs::chown(scene.path("herbarium/system.vhdx"), Some(7), Some(7)).unwrap();
    let take = |force: &str| {
        let mut command = Command::new("setpriv");
        command.args(["--bounding-set", "-chown", "--inh-caps", "-chown", env!("CARGO_BIN_EXE_zsap")]);
        command.args(["checkpoint", "take", "herbarium", "one"]).args(force.split_whitespace());
        let output = command.current_dir(scene.path("")).output().unwrap();
        let told = String::from_utf8(output.stderr).unwrap();
        (output.status.code(), told.split_whitespace().collect::<Vec<_>>().join(" "))
    };
    // `Refusal::Attributes` in the library.
    let (status, told) = take("");
    assert_eq!(status, Some(4), "{told}");
    assert!(told.contains("the owner 7:7") && told.contains("--force=attributes"), "{told}");
    scene.run("checkpoint list herbarium").expect("list", 0, "none yet", "");
    assert_eq!(take("--force=attributes").0, Some(0));
    // Whoever may, hands it on.
    std::os::unix::fs::chown(scene.path("herbarium/system.vhdx"), Some(7), Some(7)).unwrap();
    scene.run("checkpoint take herbarium two").expect("two", 0, "took", "");
    let found = std::fs::metadata(scene.path("herbarium/system.vhdx")).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::uid(&found), 7);
}

const STATES: [&str; 4] = ["s0.raw", "s1.raw", "s2.raw", "s3.raw"];
const DISKS: [&str; 2] = ["system.vhdx", "records.vhd"];

/// Which state each disk is in, now and at each checkpoint.
#[derive(Clone, Default)]
struct States {
    present: [usize; 2],
    checkpoints: std::collections::BTreeMap<String, [usize; 2]>,
}

impl States {
    /// After something was done; what is typed for it comes with that.
    fn after(&self, round: usize) -> (String, Self) {
        let (mut after, names): (Self, Vec<&String>) = (self.clone(), self.checkpoints.keys().collect());
        let name = names.get(round % names.len().max(1)).map(|name| (*name).clone());
        let new = format!("c{round}");
        let typed = match (round % 5, name) {
            (1, Some(name)) => {
                after.checkpoints.insert(new.clone(), after.present);
                after.present = after.checkpoints[&name];
                format!("checkpoint revert machine {name} --keep-as {new}")
            }
            (2, Some(name)) => {
                after.present = after.checkpoints[&name];
                format!("checkpoint revert machine {name} --discard")
            }
            (3, Some(name)) => {
                after.checkpoints.remove(&name);
                format!("checkpoint forget machine {name}")
            }
            _ => {
                after.checkpoints.insert(new.clone(), after.present);
                format!("checkpoint take machine {new}")
            }
        };
        (typed, after)
    }

    fn judge(&self, scene: &Scene, when: &str) {
        let list = scene.json("checkpoint list machine");
        let names: Vec<&str> =
            list["checkpoints"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
        assert_eq!(names.len(), self.checkpoints.len(), "{when}: {names:?}");
        let all = self.checkpoints.iter().map(|(name, states)| (Some(name), states));
        for (name, states) in all.chain([(None, &self.present)]) {
            for (disk, state) in DISKS.iter().zip(states) {
                let label = disk.split('.').next().unwrap();
                let at = name.map_or_else(String::new, |name| format!(" --checkpoint {name}"));
                scene.run(&format!("copy machine --disk {label}{at} found.raw -q")).expect(when, 0, "", "");
                tool(scene, &format!("cmp {} found.raw", STATES[*state]));
                tool(scene, "e2fsck -fn found.raw");
                std::fs::remove_file(scene.path("found.raw")).unwrap();
            }
        }
        for disk in DISKS {
            scene.run(&format!("check machine/{disk}")).expect(when, 0, "healthy", "");
        }
    }
}

#[test]
fn a_killed_command_leaves_all_disks_before_or_after_it() {
    if !volumes::can_be_made() {
        return;
    }
    let rounds = std::env::var("ZSAP_GROVE_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(15usize);
    let scene = Scene::new();
    volumes::make(&scene, &STATES, 48, 12);
    scene.run("grove new machine --machine machine -q").expect("new", 0, "", "");
    for disk in DISKS {
        scene.run(&format!("copy s0.raw machine/{disk} -q")).expect("copy", 0, "", "");
        scene.run(&format!("grove add machine machine/{disk} -q")).expect("add", 0, "", "");
    }
    let (mut states, mut cut, mut longest) = (States::default(), 0, [Duration::from_millis(60); 5]);
    for round in 0..rounds {
        // The guest works on: a disk comes to its next state.
        let (disk, before) = (round % 2, states.present[round % 2]);
        let next = (before + 1 + round % 2) % STATES.len();
        fill(&scene, &format!("machine/{}", DISKS[disk]), STATES[next], STATES[before]);
        states.present[disk] = next;
        let (typed, after) = states.after(round);
        let mut running = scene.start(&typed);
        let journal = scene.path("machine/grove.journal");
        // Before anything is written down is one of the moments, too.
        let waits = !round.is_multiple_of(8);
        while waits && !journal.exists() && running.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_micros(50));
        }
        // The golden ratio spreads the moments evenly, however many rounds there are.
        let (started, moment) = (Instant::now(), (round as f64 * 0.618_034).fract());
        let limit = longest[round % 5];
        while started.elapsed() < limit.mul_f64(moment) && running.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_micros(100));
        }
        let was_running = running.try_wait().unwrap().is_none();
        _ = running.kill();
        running.wait().unwrap();
        if waits && !was_running {
            longest[round % 5] = limit.min(started.elapsed() + Duration::from_millis(1));
        }
        let when = format!("{typed}, round {round}");
        if scene.path("machine/grove.journal").exists() {
            cut += 1;
            scene.run("status machine").expect(&when, 5, "is not finished", "");
            let resumed = scene.run("resume machine");
            assert_eq!(resumed.status, 0, "{when}: {}", resumed.err);
        }
        // The state that is there is the old one or the new one.
        let list = scene.json("checkpoint list machine");
        let names: Vec<&str> =
            list["checkpoints"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
        let is = |states: &States| names.len() == states.checkpoints.len();
        states = match (is(&states), is(&after)) {
            (false, true) => after,
            (true, false) => states,
            // Going back may leave the names as they are: the disks tell.
            _ => {
                let is_same = |(disk, state): (&&str, &usize)| {
                    let typed = format!("diff machine/{disk} {} --contents", STATES[*state]);
                    scene.run(&typed).out.contains("the same")
                };
                if DISKS.iter().zip(&states.present).all(is_same) { states } else { after }
            }
        };
        states.judge(&scene, &when);
    }
    println!("{cut} of {rounds} were cut short");
    assert!(cut * 4 > rounds, "only {cut} of {rounds} were cut short");
}
