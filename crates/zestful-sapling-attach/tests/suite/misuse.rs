//! Clients that talk nonsense, stall, die, flood, or come by the thousand: each is handled, told where it is worth it,
//! and without effect on the others.

use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::sync::Arc;
use std::time::{Duration, Instant};

use proptest::prelude::*;
use zestful_sapling::image::Format;
use zestful_sapling_attach::{Event, Limits};

use crate::client::*;
use crate::scene::{MIB, Scene, blank};

/// Kilobytes that this process holds in memory.
fn resident() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    line.split_whitespace().next().unwrap().parse().unwrap()
}

/// What a test of memory needs, which is counted for the whole process: it does its work in a process of its own.
/// Returns whether this is that process.
fn is_alone(test: &str) -> bool {
    const ALONE: &str = "ZSAP_TEST_ALONE";
    if std::env::var_os(ALONE).is_some() {
        return true;
    }
    let mut command = std::process::Command::new(std::env::current_exe().unwrap());
    let output = command.args(["--exact", test, "--nocapture"]).env(ALONE, "1").output().unwrap();
    let told = [output.stdout, output.stderr].concat();
    let told = String::from_utf8_lossy(&told);
    assert!(output.status.success() && told.contains("1 passed"), "{told}");
    false
}

/// Few clients, and less time than others get, but enough for one on a host that is busy with other things.
fn strict() -> Limits {
    let mut limits = Limits::default();
    limits.handshake = Duration::from_secs(3);
    limits.farewell = Duration::from_millis(500);
    limits.clients = 8;
    limits
}

/// The disk is there, and holds what it held.
fn assert_serves(scene: &Scene) {
    let mut client = Client::with_disk(&scene.socket, "", true, &[]);
    assert_eq!(client.pread(4096, 4096), [5; 4096]);
}

fn scene(limits: Limits) -> Scene {
    let scene = Scene::limited(Arc::new(blank(Format::Vhdx, 8 * MIB)), Format::Vhdx, limits);
    Client::with_disk(&scene.socket, "", true, &[]).pwrite(4096, &[5; 4096]);
    scene
}

#[test]
fn stalling_dying_and_flooding_harm_nobody() {
    if !is_alone("misuse::stalling_dying_and_flooding_harm_nobody") {
        return;
    }
    let scene = scene(strict());
    // One says nothing, one stops in the middle of an option: both are left in the end.
    let mut silent = UnixStream::connect(&scene.socket).unwrap();
    let mut slow = Client::greet(&scene.socket, 3);
    slow.write(b"IHAVE");
    // One dies in the middle of a write: nothing of it is done.
    let mut dying = Client::with_disk(&scene.socket, "", true, &[]);
    dying.send(0, WRITE, 1, 4096, 4096, &[9; 2000]);
    drop(dying);
    // One asks for much and never reads the replies.
    let mut greedy = Client::with_disk(&scene.socket, "", true, &[]);
    let before = resident();
    let flood = std::thread::spawn(move || {
        for number in 0..4000 {
            let mut bytes = 0x2560_9513_u32.to_be_bytes().to_vec();
            bytes.extend([0, 0, 0, 0]);
            bytes.extend(u64::to_be_bytes(number));
            bytes.extend([0; 8]);
            bytes.extend((8u32 << 20).to_be_bytes());
            if greedy.stream.write_all(&bytes).is_err() {
                break;
            }
        }
        greedy
    });
    assert_serves(&scene);
    std::thread::sleep(Duration::from_millis(500));
    assert_serves(&scene);
    let grown = resident().saturating_sub(before);
    assert!(grown < 100 << 10, "{grown} KiB for one client that reads nothing");
    assert!(slow.is_cut());
    assert!(matches!(silent.read_to_end(&mut Vec::new()), Ok(18) | Err(_)));
    let told = scene.told(2, |event| matches!(event, Event::TurnedAway { reason, .. } if reason.contains("too long")));
    assert!(told.iter().any(|event| matches!(event, Event::ClientWent { reason, .. } if reason.contains("middle"))));
    // The server ends though it takes no replies.
    let since = Instant::now();
    let mut scene = scene;
    scene.stop();
    assert!(since.elapsed() < Duration::from_secs(60), "{:?}", since.elapsed());
    drop(flood.join());
}

#[test]
fn thousands_come_and_go() {
    if !is_alone("misuse::thousands_come_and_go") {
        return;
    }
    let scene = scene(strict());
    let before = resident();
    let since = Instant::now();
    for number in 0..3000 {
        let mut stream = UnixStream::connect(&scene.socket).unwrap();
        if number % 3 == 0 {
            _ = stream.write_all(&[0, 0, 0, 3, 1, 2, 3]);
        }
    }
    // As many as there may be, and some more, who are turned away and told of once.
    let until = Instant::now() + Duration::from_secs(120);
    let mut staying: Vec<Client> = Vec::new();
    while staying.len() < 8 {
        assert!(Instant::now() < until);
        let mut stream = UnixStream::connect(&scene.socket).unwrap();
        let mut hello = [0; 18];
        if stream.read_exact(&mut hello).is_ok() {
            let mut client = Client { stream: Box::new(stream), structured: false, size: 0, flags: 0 };
            client.write(&3u32.to_be_bytes());
            client.go("", &[]);
            staying.push(client);
        }
    }
    scene.told(9, |event| matches!(event, Event::ClientCame { .. }));
    for _ in 0..50 {
        let mut one_more = UnixStream::connect(&scene.socket).unwrap();
        assert!(matches!(one_more.read(&mut [0; 18]), Ok(0) | Err(_)));
    }
    let full = |event: &Event| matches!(event, Event::TurnedAway { reason, .. } if reason.contains("8 clients"));
    let told = scene.told(1, full).iter().filter(|event| full(event)).count() as u64;
    assert!(told < 2 + since.elapsed().as_secs() / 10, "told {told} times");
    staying.iter_mut().for_each(|client| assert_eq!(client.pread(4096, 4096), [5; 4096]));
    assert!(resident().saturating_sub(before) < 40 << 10);
}

/// More silent connections than there may be: they go, and whoever wants something comes in at once.
#[test]
fn silence_keeps_nobody_out() {
    let mut limits = Limits::default();
    limits.handshake = Duration::from_secs(3600);
    let scene = Scene::limited(Arc::new(blank(Format::Vhdx, 8 * MIB)), Format::Vhdx, limits);
    let mut silent: Vec<_> = (0..200).map(|_| UnixStream::connect(&scene.socket).unwrap()).collect();
    Client::with_disk(&scene.socket, "", true, &[]).pwrite(0, &[1; 512]);
    // Those that were silent longest are gone, long before their time is over.
    let mut heard = Vec::new();
    silent[0].set_read_timeout(Some(Duration::from_secs(60))).unwrap();
    assert!(matches!(silent[0].read_to_end(&mut heard), Ok(0 | 18)), "{heard:?}");
}

#[test]
fn who_only_reads_changes_nothing() {
    use zestful_sapling::chain::{Chain, OpenOptions};
    use zestful_sapling::ops::{Make, Operation, Planned};
    use zestful_sapling_attach::{Backing, Export};
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("fen-base.vhd");
    Make::new(&path, 8 * MIB).plan().unwrap().run(&zestful_sapling::progress::Progress::new()).unwrap();
    let before = std::fs::read(&path).unwrap();
    let chain = Chain::open(&path, &OpenOptions::new()).unwrap();
    let export = Export::new("fen-base", "", Backing::ReadOnly(Arc::new(chain)));
    let scene = Scene::of(Arc::new(vec![Arc::new(export)]), None, Limits::default());
    let mut client = Client::with_disk(&scene.socket, "", false, &[]);
    assert_eq!(client.ask(0, WRITE, 0, 512, &[1; 512]).error, EPERM);
    assert_eq!(client.ask(0, TRIM, 0, 512, &[]).error, EPERM);
    assert_eq!(client.ask(0, WRITE_ZEROES, 0, 512, &[]).error, EPERM);
    client.flush();
    assert_eq!(client.pread(0, 512), [0; 512]);
    assert_eq!(std::fs::read(&path).unwrap(), before);
}

/// A full host: the client hears of it, the operator once, reads go on, and so does writing once there is room.
#[test]
fn a_full_host_is_told_and_got_over() {
    for format in [Format::Vhdx, Format::Vhd] {
        let storage = Arc::new(blank(format, 8 * MIB));
        let scene = Scene::writable(storage.clone(), format);
        let mut client = Client::with_disk(&scene.socket, "", true, &[]);
        client.pwrite(0, &[1; 4096]);
        client.flush();
        storage.set_no_room(Some(1));
        for _ in 0..20 {
            let reply = client.ask(0, WRITE, 2 * MIB, 4096, &[2; 4096]);
            assert_eq!(reply.error, ENOSPC, "{}", String::from_utf8_lossy(&reply.data));
        }
        assert_eq!(client.pread(0, 4096), [1; 4096]);
        storage.set_no_room(None);
        client.pwrite(2 * MIB, &[3; 4096]);
        client.flush();
        assert_eq!(client.pread(2 * MIB, 4096), [3; 4096]);
        let began = |event: &Event| matches!(event, Event::TroubleBegan { .. });
        let told = scene.told(1, |event| matches!(event, Event::TroubleOver { .. }));
        assert_eq!(told.iter().filter(|event| began(event)).count(), 1, "{told:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: 60,
        failure_persistence: None,
        rng_seed: proptest::test_runner::RngSeed::Fixed(7),
        ..ProptestConfig::default()
    })]

    /// Whatever comes, before the handshake, in it, or after it: the server lives and the disk is what it was.
    #[test]
    fn garbage_does_nothing(
        garbage in proptest::collection::vec(prop_oneof![2 => any::<u8>(), 1 => Just(0), 1 => Just(255)], 1..300),
        stage in 0..4,
    ) {
        static SCENE: std::sync::LazyLock<Scene> = std::sync::LazyLock::new(|| scene(Limits::default()));
        let scene = &*SCENE;
        let mut garbage = garbage;
        let mut client = match stage {
            0 => {
                let stream = UnixStream::connect(&scene.socket).unwrap();
                Client { stream: Box::new(stream), structured: false, size: 0, flags: 0 }
            }
            1 => Client::greet(&scene.socket, 3),
            2 => {
                // An option with a right head.
                let option = u32::from(garbage[0]) % 12;
                let head = [&b"IHAVEOPT"[..], &option.to_be_bytes(), &(garbage.len() as u32).to_be_bytes()].concat();
                garbage.splice(0..0, head);
                Client::greet(&scene.socket, 3)
            }
            _ => {
                // A request with a right head, that writes nothing where something is.
                let command = [0, 3, 5, 7, 99][garbage.len() % 5];
                let head = [&0x2560_9513_u32.to_be_bytes()[..], &[0, garbage[0], 0, command]];
                garbage.splice(0..0, head.concat());
                Client::with_disk(&scene.socket, "", true, &[])
            }
        };
        _ = client.stream.write_all(&garbage);
        drop(client);
        assert_serves(scene);
    }
}
