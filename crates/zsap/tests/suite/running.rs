//! Checkpoints of a machine that runs: its disks are served, others write to them, and the images change under them.

use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use zestful_sapling::chain::{Chain, Disk, OpenOptions};
use zestful_sapling::grove::Grove;

use crate::client::Client;
use crate::scene::{Mounted, Scene};
use crate::served::Server;
use crate::shown::{can_mount, tool};

const CHECKPOINTS: usize = 20;

/// A machine of these disks in the folder `herbarium`.
fn machine(scene: &Scene, disks: &[(&str, &str)]) {
    scene.run("grove new herbarium --machine herbarium -q").expect("new", 0, "", "");
    for (name, size) in disks {
        scene.run(&format!("make herbarium/{name} {size} -q")).expect("make", 0, "", "");
        scene.run(&format!("grove add herbarium herbarium/{name} -q")).expect("add", 0, "", "");
    }
}

/// A disk of a server as a file of this host, by a client of another origin.
struct Linked {
    child: Child,
    folder: PathBuf,
}

impl Linked {
    fn new(scene: &Scene, server: &Server, disk: &str) -> Option<Self> {
        let folder = scene.path("linked");
        std::fs::create_dir(&folder).unwrap();
        let uri = format!("nbd+unix:///{disk}?socket={}", server.socket.display());
        let Ok(child) = Command::new("nbdfuse").arg(&folder).arg(uri).spawn() else {
            eprintln!("skipped: there is no nbdfuse here");
            return None;
        };
        let linked = Self { child, folder };
        scene.wait("the linked disk", || linked.file().exists());
        Some(linked)
    }

    fn file(&self) -> PathBuf {
        self.folder.join("nbd")
    }
}

impl Drop for Linked {
    fn drop(&mut self) {
        _ = Command::new("umount").args(["-l", "-q"]).arg(&self.folder).status();
        _ = self.child.wait();
    }
}

/// However a test ends, its threads do, too.
struct Raised<'a>(&'a AtomicBool);

impl Drop for Raised<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Release);
    }
}

fn number_of(path: &Path) -> u64 {
    let mut found = [0; 512];
    Chain::open(path, &OpenOptions::new()).unwrap().read_at(&mut found, 0).unwrap();
    u64::from_le_bytes(found[..8].try_into().unwrap())
}

fn record(number: u64) -> Vec<u8> {
    (0..20_000 + number % 5000).map(|at| ((at * (number + 3)) % 251) as u8).collect()
}

/// A file system as a loss of power leaves it: its journal is replayed, and then it is clean. What was synced is there.
fn judge_volume(scene: &Scene, raw: &Path, synced: u64) {
    let raw = raw.display();
    let replayed = Command::new("/sbin/e2fsck").args(["-p", &raw.to_string()]).output().unwrap();
    assert!(replayed.status.code().is_some_and(|code| code <= 1), "{}", String::from_utf8_lossy(&replayed.stdout));
    tool(&format!("e2fsck -fn {raw}"), "");
    if synced > 0 {
        let out = scene.path("piece");
        _ = std::fs::remove_file(&out);
        let dump = format!("dump HF-{synced:05} {}", out.display());
        let told = Command::new("/sbin/debugfs").args(["-R", &dump, &raw.to_string()]).output().unwrap();
        assert!(std::fs::read(&out).is_ok_and(|found| found == record(synced)), "HF-{synced:05} is lost: {told:?}");
    }
}

/// One disk holds a file system that files are written into, two get a rising number in turn, and another program
/// writes to a fourth one and verifies it. Each of the checkpoints is one moment; each is copied meanwhile.
#[test]
fn checkpoints_of_a_served_machine_are_moments_that_a_guest_could_have_stopped_at() {
    let has_fio = Command::new("fio").arg("--enghelp=nbd").output().is_ok_and(|found| found.status.success());
    if !can_mount() || !has_fio {
        return;
    }
    let scene = Scene::new();
    machine(&scene, &[("system.vhdx", "160M"), ("a.vhdx", "64M"), ("b.vhd", "64M"), ("data.vhd", "128M")]);
    let server = Server::start(&scene, "herbarium --all-disks --writable");
    let Some(linked) = Linked::new(&scene, &server, "system") else { return };
    tool(&format!("mkfs.ext4 -q -F {}", linked.file().display()), "");
    let place = scene.path("m");
    std::fs::create_dir(&place).unwrap();
    tool(&format!("mount -o loop {} {}", linked.file().display(), place.display()), "");
    let mounted = Mounted::at(place.clone());
    let mut fio = Command::new("fio")
        .args(["--name=data", "--ioengine=nbd", "--rw=randrw", "--bsrange=4k-64k", "--size=64m", "--iodepth=16"])
        .args(["--verify=crc32c", "--do_verify=1", "--verify_fatal=1", "--verify_state_save=0", "--fsync=32"])
        .args(["--time_based=1", "--verify_backlog=256", "--runtime=15"])
        .arg(format!("--uri=nbd+unix:///data?socket={}", server.socket.display()))
        .current_dir(scene.path(""))
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let (over, synced, told) = (AtomicBool::new(false), AtomicU64::new(0), AtomicU64::new(0));
    let mut waited = 0;
    std::thread::scope(|scope| {
        scope.spawn(|| {
            for number in 1.. {
                let file = std::fs::File::create(place.join(format!("HF-{number:05}"))).unwrap();
                file.write_all_at(&record(number), 0).unwrap();
                if number % 4 == 0 {
                    file.sync_all().unwrap();
                    synced.store(number, Ordering::Release);
                }
                if number > 1000 {
                    std::fs::remove_file(place.join(format!("HF-{:05}", number - 1000))).unwrap();
                }
                if over.load(Ordering::Acquire) {
                    return;
                }
                std::thread::sleep(Duration::from_millis(2));
            }
        });
        scope.spawn(|| {
            let mut clients = ["a", "b"].map(|disk| Client::with_disk(&server.socket, disk, true, &[]));
            for number in 1u64.. {
                let mut sector = vec![0; 512];
                sector[..8].copy_from_slice(&number.to_le_bytes());
                for client in &mut clients {
                    client.pwrite(0, &sector);
                    // Elsewhere, too, so that tables change.
                    client.pwrite((number * 37 % 500 + 1) * 65536, &sector);
                }
                if number % 50 == 0 {
                    clients[0].flush();
                }
                told.store(number, Ordering::Release);
                if over.load(Ordering::Acquire) {
                    return;
                }
            }
        });
        let _at_the_end = Raised(&over);
        let mut last = 0;
        for number in 0..CHECKPOINTS {
            scene.wait("a few more numbers", || told.load(Ordering::Acquire) > last + 5);
            let (before, safe) = (told.load(Ordering::Acquire), synced.load(Ordering::Acquire));
            let taken = scene.json(&format!("checkpoint take herbarium moment-{number}"));
            waited = waited.max(taken["paused_milliseconds"].as_u64().unwrap());
            last = told.load(Ordering::Acquire) + 1;
            let grove = Grove::open(&scene.path("herbarium")).unwrap();
            let name = format!("moment-{number}");
            let read = |disk| number_of(&grove.place(Some(disk), Some(&name)).unwrap().path);
            let (a, b) = (read("a"), read("b"));
            assert!((a == b || a == b + 1) && (before..=last).contains(&a), "{name}: {a}, {b}, {before} to {last}");
            let copy = format!("copy herbarium --disk system --checkpoint {name} {name}.raw -q");
            scene.run(&copy).expect(&copy, 0, "", "");
            if number % 5 == 0 {
                let raw = scene.path(&format!("{name}.raw"));
                std::fs::copy(&raw, scene.path("judged.raw")).unwrap();
                judge_volume(&scene, &scene.path("judged.raw"), safe);
            }
        }
    });
    let verified = fio.wait().unwrap();
    assert!(verified.success(), "{verified}");
    drop((mounted, linked));
    assert_eq!(server.end("-TERM").0, 0);
    println!("requests waited for {waited} ms at most");
    for number in 0..CHECKPOINTS {
        let name = format!("moment-{number}");
        let same = format!("diff {name}.raw herbarium/history/{:04}-{name}/system.vhdx --contents", number + 1);
        scene.run(&same).expect(&same, 0, "the same, as a guest sees them", "");
        std::fs::remove_file(scene.path(&format!("{name}.raw"))).unwrap();
    }
    scene.run("status herbarium -v --ignore attention").expect("status", 0, "reads through 21 layers", "");
    scene.run("checkpoint forget herbarium --keep 0 -q").expect("forget", 0, "", "");
    scene.run("copy herbarium --disk system last.raw -q").expect("copy", 0, "", "");
    judge_volume(&scene, &scene.path("last.raw"), synced.load(Ordering::Acquire));
}

/// What is typed while a machine is served, the status, and parts of what is said.
const SERVED: &[(&str, i32, &str, &str)] = &[
    ("checkpoint take herbarium first --plan", 0, "wait meanwhile", ""),
    ("checkpoint take herbarium first --pause-at-most 0", 4, "", "allow a longer pause"),
    ("checkpoint take herbarium first", 0, "its requests waited for", ""),
    ("checkpoint take herbarium first", 2, "", "there is a checkpoint first already"),
    ("checkpoint take herbarium a/b", 2, "", "is no name for a checkpoint"),
    ("checkpoint revert herbarium first --discard", 4, "", "being used by process"),
    ("checkpoint take herbarium second --before false --after true", 1, "", "ended with exit status: 1"),
    ("checkpoint take herbarium second --before /no/such", 1, "", "cannot run /no/such"),
    ("checkpoint take herbarium second --before 'true", 2, "", "quotation mark"),
    ("checkpoint take herbarium second --before true --after true", 0, "took the checkpoint second", ""),
    ("checkpoint forget herbarium second", 4, "", "being used by process"),
    ("copy herbarium --disk system --checkpoint first night.vhdx -q", 0, "", ""),
    ("checkpoint list herbarium", 0, "second", ""),
    ("status herbarium", 0, "healthy", ""),
];

#[test]
fn a_served_machine_takes_checkpoints_and_refuses_what_would_harm_it() {
    let scene = Scene::new();
    machine(&scene, &[("system.vhdx", "64M"), ("records.vhd", "64M")]);
    scene.run("make herbarium/swap.raw 8M -q").expect("make", 0, "", "");
    scene.run("grove add herbarium herbarium/swap.raw --role throwaway -q").expect("add", 0, "", "a guest");
    let swap = std::fs::read(scene.path("herbarium/swap.raw")).unwrap();
    for json in [false, true] {
        let server = Server::start(&scene, "herbarium --all-disks --writable --scratch .");
        let mut client = Client::with_disk(&server.socket, "swap", true, &[]);
        client.pwrite(0, &[7; 512]);
        for (typed, status, out, err) in SERVED {
            let outcome = match json {
                true => scene.run(&format!("{typed} --json")),
                false => scene.run(typed),
            };
            assert_eq!(outcome.status, *status, "{typed}: {} {}", outcome.out, outcome.err);
            if !json {
                outcome.expect(typed, *status, out, err);
            }
        }
        // Checkpoints are served beside the disks, as soon as they are there.
        let past = Client::with_disk(&server.socket, "system@second", true, &[]);
        assert_eq!(past.size, 64 << 20);
        drop((client, past));
        assert_eq!(server.end("-TERM").0, 0);
        scene.run("checkpoint forget herbarium --keep 0 -q").expect("forget", 0, "", "");
        std::fs::remove_file(scene.path("night.vhdx")).unwrap();
    }
    assert_eq!(std::fs::read(scene.path("herbarium/swap.raw")).unwrap(), swap);
    // Not all of them in one process: no moment that all of them could keep.
    let one = Server::start(&scene, "herbarium --disk system --writable");
    scene.run("checkpoint take herbarium third").expect("one", 4, "", "does not have these: records");
    let other = scene.start("serve herbarium --disk records --writable --socket other.sock");
    scene.wait("the other server", || scene.path("other.sock").exists());
    scene.run("checkpoint take herbarium third").expect("two", 4, "", "in 2 processes");
    drop(one);
    scene.interrupt(&other);
    let ended = other.wait_with_output().unwrap();
    assert!(ended.status.success());
    for (typed, err) in [
        ("serve herbarium --writable", "--all-disks"),
        ("serve herbarium --all-disks --disk system", "cannot be used with"),
        ("serve herbarium --checkpoint none", "has no checkpoint none"),
        ("serve night --all-disks", "is not the folder of a machine"),
    ] {
        let outcome = scene.run(typed);
        assert!(outcome.status != 0 && outcome.err.contains(err), "{typed}: {}", outcome.err);
    }
    scene.run("checkpoint take herbarium third").expect("at rest", 0, "what it writes from now on", "");
}

/// A command that quieted the guest was killed: that the other one is owed is told, and nobody runs it.
#[test]
fn what_is_owed_to_a_guest_is_told_and_never_run_by_itself() {
    let scene = Scene::new();
    machine(&scene, &[("system.vhdx", "64M")]);
    let mark = scene.path("let-go");
    let hooks = format!("--before sleep\t60 --after touch\t{}", mark.display());
    let mut taking = scene.start(&format!("checkpoint take herbarium first {hooks}"));
    let owed = scene.path("herbarium/grove.owed.json");
    scene.wait("the record", || owed.exists());
    let said = std::fs::read_to_string(&owed).unwrap();
    assert!(!said.contains("touch") && said.contains("first"), "{said}");
    // As long as somebody is at it, nothing is wrong, and nobody else may.
    scene.run("status herbarium").expect("meanwhile", 0, "healthy", "");
    scene.run("checkpoint take herbarium second --after true").expect("meanwhile", 4, "", "being used by");
    taking.kill().unwrap();
    taking.wait().unwrap();
    scene.run("status herbarium").expect("killed", 5, "was to run after the checkpoint first has not run", "");
    assert!(!mark.exists());
    // What is taken with commands of its own has the guest go on.
    let next = format!("checkpoint take herbarium second --after touch\t{}", mark.display());
    scene.run(&next).expect(&next, 0, "took the checkpoint second", "");
    assert!(mark.exists() && !owed.exists());
    // Too long, interrupted, or failing: the second one runs.
    for (hooks, status, err) in [
        ("--before sleep\t60 --hook-timeout 1", 1, "did not end in time"),
        ("--before sh\t-c\t\"exit\t3\"", 1, "exit status: 3"),
    ] {
        std::fs::remove_file(&mark).unwrap();
        let typed = format!("checkpoint take herbarium third {hooks} --after touch\t{}", mark.display());
        scene.run(&typed).expect(&typed, status, "", err);
        assert!(mark.exists() && !owed.exists());
    }
    std::fs::remove_file(&mark).unwrap();
    let taking = scene.start(&format!("checkpoint take herbarium third {hooks}"));
    scene.wait("the record", || owed.exists());
    std::thread::sleep(Duration::from_millis(200));
    scene.interrupt(&taking);
    assert!(!taking.wait_with_output().unwrap().status.success());
    assert!(mark.exists() && !owed.exists());
    // The checkpoint is there, and what comes after it fails: that stays owed until it is given up.
    let fails = scene.run("checkpoint take herbarium third --after false");
    fails.expect("fails", 1, "took the checkpoint third", "false");
    scene.run("status herbarium").expect("owed", 5, "after the checkpoint third", "");
    scene.run("abandon herbarium").expect("abandon", 0, "nothing is owed", "");
    scene.run("status herbarium").expect("over", 0, "healthy", "");
}

/// The server is killed at any moment of a checkpoint, under load: what was flushed is there, each checkpoint that is
/// there is one moment, and the next command sees to the rest. `ZSAP_RUNNING_KILLS` says how often.
#[test]
fn a_server_that_is_killed_in_the_middle_of_a_checkpoint_loses_nothing() {
    let kills: u64 = std::env::var("ZSAP_RUNNING_KILLS").map_or(10, |kills| kills.parse().unwrap());
    let scene = Scene::new();
    machine(&scene, &[("a.vhdx", "64M"), ("b.vhd", "64M")]);
    // The number that was written last, and the one that both disks have: they may differ, unless it was flushed.
    let (mut taken, mut number, mut kept) = (0, 0u64, 0u64);
    for round in 0..kills {
        let server = Server::start(&scene, "herbarium --all-disks --writable");
        let mut clients = ["a", "b"].map(|disk| Client::with_disk(&server.socket, disk, true, &[]));
        let flushed = AtomicU64::new(kept);
        let pid = server.child.id().to_string();
        let load = || {
            for step in number + 1.. {
                let mut sector = vec![0; 512];
                sector[..8].copy_from_slice(&step.to_le_bytes());
                for client in &mut clients {
                    client.pwrite(0, &sector);
                    client.pwrite((step * 37 % 500 + 1) * 65536, &sector);
                }
                if step % 3 == 0 {
                    clients.iter_mut().for_each(Client::flush);
                    flushed.store(step, Ordering::Release);
                }
            }
        };
        let mut taking = scene.start(&format!("checkpoint take herbarium round-{round}"));
        std::thread::scope(|scope| {
            scope.spawn(|| {
                std::thread::sleep(Duration::from_micros(15_000 + round * 7919 % 40_000));
                Command::new("kill").args(["-9", &pid]).status().unwrap();
            });
            // Until the server is gone.
            let ended = std::panic::catch_unwind(std::panic::AssertUnwindSafe(load));
            assert!(ended.is_err());
        });
        drop((clients, server));
        let told = taking.wait().unwrap().success();
        let least = flushed.load(Ordering::Acquire);
        let found = ["a.vhdx", "b.vhd"].map(|disk| number_of(&scene.path("herbarium").join(disk)));
        assert!(found.iter().all(|found| *found >= least), "round {round}: {found:?} of {least}");
        number = found[0].max(found[1]);
        kept = found[0].min(found[1]);
        scene.run(&format!("checkpoint take herbarium probe-{round} -q")).expect("probe", 0, "", "");
        let grove = Grove::open(&scene.path("herbarium")).unwrap();
        let name = format!("round-{round}");
        assert!(!told || grove.checkpoint(&name).is_ok(), "round {round}: what was told to be there is gone");
        if grove.checkpoint(&name).is_ok() {
            let [a, b] = ["a", "b"].map(|disk| number_of(&grove.place(Some(disk), Some(&name)).unwrap().path));
            assert!(a == b || a == b + 1, "round {round}: {a} and {b}");
            taken += 1;
        }
        scene.run("checkpoint forget herbarium --keep 1 -q").expect("forget", 0, "", "");
        scene.run("check herbarium/a.vhdx herbarium/b.vhd -q").expect("check", 0, "", "");
    }
    println!("{taken} of {kills} checkpoints were there");
}
