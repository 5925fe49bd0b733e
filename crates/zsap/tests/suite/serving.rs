//! `zsap serve`, with real clients, real kills, and a real full file system.

use std::io::{BufRead, BufReader};
use std::os::unix::fs::FileTypeExt;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use zestful_sapling::chain::{Chain, Disk, OpenOptions};

use crate::client::{Client, ENOSPC, FLUSH, WRITE};
use crate::scene::Scene;
use crate::served::Server;

fn python() -> Option<&'static str> {
    let python = "/usr/bin/python3";
    let found = Command::new(python).args(["-c", "import nbd"]).output();
    let there = found.is_ok_and(|found| found.status.success());
    if !there {
        eprintln!("skipped: there is no python3-libnbd here");
    }
    there.then_some(python)
}

fn speak(python: &str, arguments: &[&str]) {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/suite/client.py");
    let output = Command::new(python).arg(script).args(arguments).output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && output.stdout == b"done\n", "{told}");
}

#[test]
fn a_real_client_library_finds_all_that_the_protocol_promises() {
    let Some(python) = python() else { return };
    let scene = Scene::new();
    for ending in ["vhdx", "vhd"] {
        scene.run(&format!("make fen-base.{ending} 256M -q")).expect("make", 0, "", "");
        scene.run(&format!("derive fen-base.{ending} child.{ending} -q")).expect("derive", 0, "", "");
        for how in [format!("child.{ending} --writable"), format!("child.{ending} --throwaway --scratch .")] {
            let server = Server::start(&scene, &how);
            speak(python, &[&server.uri, "write"]);
            let (status, told) = server.end("-TERM");
            assert_eq!(status, 0, "{told}");
            assert!(told.contains("client 1 came for child") && told.contains("  ended; "), "{told}");
            assert!(!scene.path("served.sock").exists());
        }
        let server = Server::start(&scene, &format!("child.{ending}"));
        speak(python, &[&server.uri, "read"]);
        drop(server);
        scene.run(&format!("check child.{ending}")).expect("check", 0, "healthy", "");
    }
}

/// The same library under TLS, with the right certificates and the wrong ones.
#[test]
fn a_real_client_library_goes_under_tls() {
    use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
    let Some(python) = python() else { return };
    let scene = Scene::new();
    // A folder as the library wants it, for each authority.
    for name in ["ours", "others"] {
        let folder = scene.path(name);
        std::fs::create_dir(&folder).unwrap();
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let issuer = CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap();
        std::fs::write(folder.join("ca-cert.pem"), issuer.pem()).unwrap();
        for whose in ["server", "client"] {
            let key = KeyPair::generate().unwrap();
            let signed =
                CertificateParams::new(vec!["localhost".to_owned()]).unwrap().signed_by(&key, &issuer).unwrap();
            std::fs::write(folder.join(format!("{whose}-cert.pem")), signed.pem()).unwrap();
            std::fs::write(folder.join(format!("{whose}-key.pem")), key.serialize_pem()).unwrap();
        }
    }
    // A client of ours that trusts others, and one of others that trusts us.
    for (name, certificates, trusts) in [("strange", "others", "ours"), ("mistaken", "ours", "others")] {
        std::fs::create_dir(scene.path(name)).unwrap();
        std::fs::copy(scene.path(&format!("{trusts}/ca-cert.pem")), scene.path(&format!("{name}/ca-cert.pem")))
            .unwrap();
        for file in ["client-cert.pem", "client-key.pem"] {
            std::fs::copy(scene.path(&format!("{certificates}/{file}")), scene.path(&format!("{name}/{file}")))
                .unwrap();
        }
    }
    scene.run("make now.vhdx 256M -q").expect("make", 0, "", "");
    let typed = "serve now.vhdx --writable --listen 127.0.0.1:0 --tls-certificate ours/server-cert.pem --tls-key \
                 ours/server-key.pem --tls-clients ours/ca-cert.pem";
    let mut server = scene.start(typed);
    let mut uri = String::new();
    BufReader::new(server.stdout.as_mut().unwrap()).read_line(&mut uri).unwrap();
    let port = uri.trim().trim_start_matches("nbds://127.0.0.1:").split('/').next().unwrap().to_owned();
    let script = "import nbd, sys\nh = nbd.NBD()\nh.set_tls(nbd.TLS_REQUIRE)\nh.set_tls_certificates(sys.argv[1])\n\
                  h.set_tls_verify_peer(True)\nh.connect_tcp('localhost', sys.argv[2])\n\
                  h.pwrite(bytes(range(256)) * 4096, 0)\nh.flush()\n\
                  assert h.pread(1 << 20, 0) == bytes(range(256)) * 4096\nh.shutdown()";
    for (certificates, comes_in) in [("ours", true), ("strange", false), ("mistaken", false), ("ours", true)] {
        let folder = scene.path(certificates);
        let output = Command::new(python).args(["-c", script]).arg(folder).arg(&port).output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.success(), comes_in, "{certificates}: {told}");
    }
    Command::new("kill").arg(server.id().to_string()).status().unwrap();
    assert!(server.wait().unwrap().success());
}

/// A socket that a service manager made is taken, and the manager is told when clients may come.
#[test]
fn a_service_manager_hands_its_socket_over() {
    let manager = "import os, socket, sys\n\
                   told = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)\ntold.bind('told')\ntold.settimeout(20)\n\
                   made = socket.socket(socket.AF_UNIX)\nmade.bind('made')\nmade.listen(9)\n\
                   child = os.fork()\n\
                   if child == 0:\n    \
                       os.dup2(made.fileno(), 3)\n    \
                       os.environ.update(LISTEN_FDS='1', LISTEN_PID=str(os.getpid()))\n    \
                       os.environ['NOTIFY_SOCKET'] = os.path.abspath('told')\n    \
                       os.execv(sys.argv[1], ['zsap', 'serve', 'now.vhdx', '-q'])\n\
                   assert b'READY=1' in told.recv(100)\n\
                   client = socket.socket(socket.AF_UNIX)\nclient.connect('made')\n\
                   assert client.recv(8) == b'NBDMAGIC'\nclient.close()\n\
                   os.kill(child, 15)\nassert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0\n\
                   assert os.path.exists('made')";
    let scene = Scene::new();
    scene.run("make now.vhdx 16M -q").expect("make", 0, "", "");
    let python = Command::new("/usr/bin/python3")
        .args(["-c", manager, env!("CARGO_BIN_EXE_zsap")])
        .current_dir(scene.path(""))
        .output();
    let Ok(output) = python else {
        eprintln!("skipped: there is no python3 here");
        return;
    };
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

/// Random writes and flushes by another program, on a child, each verified; `ZSAP_SERVE_SECONDS` says how long.
#[test]
fn another_program_verifies_what_it_wrote() {
    if !Command::new("fio").arg("--enghelp=nbd").output().is_ok_and(|found| found.status.success()) {
        eprintln!("skipped: there is no fio with an nbd engine here");
        return;
    }
    let seconds = std::env::var("ZSAP_SERVE_SECONDS").unwrap_or("3".to_owned());
    let verify = |ending: &str| {
        let scene = Scene::new();
        scene.run(&format!("make fen-base.{ending} 256M -q")).expect("make", 0, "", "");
        scene.run(&format!("derive fen-base.{ending} child.{ending} -q")).expect("derive", 0, "", "");
        let server = Server::start(&scene, &format!("child.{ending} --writable"));
        let fio = Command::new("fio")
            .args(["--name=child", "--ioengine=nbd", "--rw=randrw", "--bsrange=4k-64k", "--size=128m", "--iodepth=16"])
            .args(["--verify=crc32c", "--do_verify=1", "--verify_fatal=1", "--verify_state_save=0", "--fsync=32"])
            .args(["--time_based=1", "--verify_backlog=256", &format!("--runtime={seconds}")])
            .arg(format!("--uri={}", server.uri))
            .current_dir(scene.path(""))
            .output()
            .unwrap();
        let told = String::from_utf8_lossy(&fio.stdout).into_owned() + &String::from_utf8_lossy(&fio.stderr);
        assert!(fio.status.success() && told.contains("err= 0"), "{told}");
        assert_eq!(server.end("-INT").0, 0);
        scene.run(&format!("check child.{ending}")).expect("check", 0, "healthy", "");
    };
    std::thread::scope(|scope| {
        scope.spawn(|| verify("vhdx"));
        verify("vhd");
    });
}

/// Killed under load, again and again: what a client saw flushed is there, no lock is left, and the next server begins
/// at once, at the same socket. `ZSAP_SERVE_KILLS` says how often for each format.
#[test]
fn a_killed_server_loses_nothing_that_was_flushed() {
    let kills: u8 = std::env::var("ZSAP_SERVE_KILLS").map_or(10, |kills| kills.parse().unwrap());
    for ending in ["vhdx", "vhd"] {
        let scene = Scene::new();
        scene.run(&format!("make fen-base.{ending} 64M -q")).expect("make", 0, "", "");
        scene.run(&format!("derive fen-base.{ending} child.{ending} -q")).expect("derive", 0, "", "");
        let image = scene.path(&format!("child.{ending}"));
        // What each of 64 places may hold: what was flushed, and what was written since.
        let mut places: Vec<Vec<u8>> = vec![vec![0]; 64];
        for round in 1..=kills {
            let server = Server::start(&scene, &format!("child.{ending} --writable"));
            let mut client = server.client();
            let pid = server.child.id().to_string();
            let wait = Duration::from_millis(u64::from(round) * 37 % 120);
            let killer = std::thread::spawn(move || {
                std::thread::sleep(wait);
                Command::new("kill").args(["-9", &pid]).status().unwrap();
            });
            // Until the server is gone.
            let load = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
                for step in 0u64.. {
                    let place = (step * 29 + u64::from(round)) % 64;
                    places[place as usize].push(round);
                    let payload = vec![round; 24 << 10];
                    client.send(0, WRITE, step, place << 20, payload.len() as u32, &payload);
                    assert_eq!(client.reply(0).error, 0);
                    if step % 5 == 0 {
                        let known: Vec<usize> = places.iter().map(|place| place.len() - 1).collect();
                        client.send(0, FLUSH, step, 0, 0, &[]);
                        assert_eq!(client.reply(0).error, 0);
                        places.iter_mut().zip(known).for_each(|(place, known)| _ = place.drain(..known));
                    }
                }
            }));
            assert!(load.is_err(), "the server was killed");
            killer.join().unwrap();
            drop(server);
            let findings = scene.json(&format!("check child.{ending}"));
            let errors = findings["findings"].as_array().unwrap();
            let errors: Vec<_> = errors.iter().filter(|finding| finding["severity"] == "error").collect();
            assert!(errors.is_empty(), "{errors:?}");
            let chain = Chain::open(&image, &OpenOptions::new()).unwrap();
            for (number, place) in places.iter_mut().enumerate() {
                let mut found = vec![0; 24 << 10];
                chain.read_at(&mut found, (number as u64) << 20).unwrap();
                let wrong = found.iter().find(|byte| !place.contains(byte));
                assert_eq!(wrong, None, "round {round}, place {number}: not one of {place:?}");
                // Sectors that are torn between two may stay so.
                place.retain(|byte| found.contains(byte));
            }
        }
    }
}

#[test]
fn a_full_file_system_under_a_client_is_got_over() {
    let scene = Scene::new();
    let Some(_small) = scene.small_file_system() else {
        eprintln!("skipped: no small file system can be mounted here");
        return;
    };
    for ending in ["vhdx", "vhd"] {
        scene.run(&format!("make small/disk.{ending} 64M -q")).expect("make", 0, "", "can grow to");
        std::fs::write(scene.path("small/ballast"), vec![7; 2 << 20]).unwrap();
        let server = Server::start(&scene, &format!("small/disk.{ending} --writable"));
        let mut client = server.client();
        client.pwrite(0, &[1; 4096]);
        client.flush();
        let write = |client: &mut Client, number: u64| client.ask(0, WRITE, number << 20, 1 << 20, &[2; 1 << 20]).error;
        let first = (1..40).find(|number| write(&mut client, *number) != 0).expect("it is full some time");
        assert_eq!(write(&mut client, first), ENOSPC);
        assert_eq!(client.pread(0, 4096), [1; 4096], "reading goes on");
        std::fs::remove_file(scene.path("small/ballast")).unwrap();
        assert_eq!(write(&mut client, first), 0, "once there is room");
        client.flush();
        assert_eq!(client.pread(first << 20, 4096), [2; 4096]);
        drop(client);
        let (status, told) = server.end("-TERM");
        assert_eq!(status, 0, "{told}");
        assert_eq!(told.matches("fail: ").count(), 1, "told once: {told}");
        assert!(told.contains("are done again"), "{told}");
        scene.run(&format!("check small/disk.{ending}")).expect("check", 0, "healthy", "");
        std::fs::remove_file(scene.path(&format!("small/disk.{ending}"))).unwrap();
    }
}

#[test]
fn what_is_served_is_told_and_left_alone_and_what_is_below_it_can_be_read() {
    let scene = Scene::new();
    scene.run("make fen-base.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("derive fen-base.vhdx now.vhdx -q").expect("derive", 0, "", "");
    let server = Server::start(&scene, "now.vhdx --writable");
    let mut client = server.client();
    client.pwrite(0, &[1; 4096]);
    let how = format!("process {} (zsap serve now.vhdx --writable", server.child.id());
    for command in ["show now.vhdx", "status", "tree"] {
        scene.run(command).expect(command, 0, &how, "");
    }
    scene.run("tree").expect("tree", 0, "current, in use", "");
    for command in [
        "merge now.vhdx",
        "move now.vhdx later.vhdx",
        "remove now.vhdx",
        "identity now.vhdx --fresh",
        "relink now.vhdx",
        "serve now.vhdx",
        "serve now.vhdx --writable",
        "bytes write now.vhdx --at 0 -i seeds.txt",
        "copy now.vhdx copy.vhdx",
    ] {
        scene.run(command).expect(command, 4, "", &how);
    }
    // A nightly copy of what is below goes on.
    scene.run("copy fen-base.vhdx copy.vhdx -q").expect("copy", 0, "", "");
    scene.run("check fen-base.vhdx").expect("check", 0, "healthy", "");
    scene.run("diff fen-base.vhdx copy.vhdx").expect("diff", 0, "same", "");
    scene.run("show fen-base.vhdx").expect("show", 0, "frozen", "");
    // Whoever waits gets it as soon as it is free.
    let waiting = scene.start("bytes read now.vhdx --at 0 --len 4 --wait 20");
    std::thread::sleep(Duration::from_millis(300));
    assert_eq!(server.end("-TERM").0, 0);
    let read = waiting.wait_with_output().unwrap();
    assert_eq!((read.status.code(), &read.stdout[..]), (Some(0), &[1, 1, 1, 1][..]));
    let reading = Server::start(&scene, "now.vhdx");
    scene.run("show now.vhdx").expect("show", 0, &format!("in use by process {}", reading.child.id()), "");
    scene.run("copy now.vhdx again.vhdx -q").expect("copy", 0, "", "");
    scene.run("remove now.vhdx").expect("remove", 4, "", "zsap serve now.vhdx");
}

#[test]
fn what_is_thrown_away_leaves_nothing() {
    let scene = Scene::new();
    std::fs::create_dir(scene.path("scratch")).unwrap();
    for name in ["disk.raw", "disk.vhd", "disk.vhdx"] {
        scene.run(&format!("make {name} 16M -q")).expect("make", 0, "", "");
        scene.run(&format!("pin {name} -q"));
        let before = std::fs::read(scene.path(name)).unwrap();
        for signal in ["-TERM", "-KILL"] {
            let server = Server::start(&scene, &format!("{name} --throwaway --scratch scratch"));
            let mut client = server.client();
            client.pwrite(512, &[9; 8192]);
            client.flush();
            assert_eq!(client.pread(0, 1024), [vec![0; 512], vec![9; 512]].concat());
            assert_eq!(std::fs::read_dir(scene.path("scratch")).unwrap().count(), 0, "it has no name");
            server.end(signal);
            assert_eq!(std::fs::read(scene.path(name)).unwrap(), before);
        }
    }
    scene.run("serve disk.vhdx --throwaway --scratch none").expect(
        "no folder",
        1,
        "",
        "cannot make a scratch file in none",
    );
}

#[test]
fn what_is_typed_wrongly_is_told_before_anybody_comes() {
    let scene = Scene::new();
    scene.run("make fen-base.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("derive fen-base.vhdx now.vhdx -q").expect("derive", 0, "", "");
    scene.run("make pinned.vhdx 64M -q").expect("make", 0, "", "");
    scene.run("pin pinned.vhdx -q").expect("pin", 0, "", "");
    std::fs::write(scene.path("taken"), "kept").unwrap();
    let table = [
        ("serve none.vhdx", 1, "none.vhdx"),
        ("serve seeds.txt", 2, "seeds.txt"),
        ("serve fen-base.vhdx --writable", 4, "is the parent of"),
        ("serve pinned.vhdx --writable", 4, "pinned"),
        ("serve . --writable", 2, "is a folder"),
        ("serve . --throwaway", 2, "is a folder"),
        ("serve now.vhdx --writable --throwaway", 2, "cannot be used with"),
        ("serve now.vhdx --scratch .", 2, "--throwaway"),
        ("serve now.vhdx --socket taken", 4, "is no socket, so it stays"),
        ("serve now.vhdx --socket none/s", 1, "none"),
        ("serve now.vhdx --listen 127.0.0.1:0 --writable", 4, "without TLS"),
        ("serve now.vhdx --listen 0.0.0.0:0", 4, "without TLS"),
        ("serve now.vhdx --listen [::]:0", 4, "without TLS"),
        ("serve now.vhdx --listen 127.0.0.1:0 --tls-certificate seeds.txt --tls-key seeds.txt", 1, "of no use for TLS"),
        ("serve now.vhdx --tls-key seeds.txt", 2, "--tls-certificate"),
        ("serve now.vhdx --socket-owner nobody-of-that-name", 2, "there is no user nobody-of-that-name"),
    ];
    for (typed, status, told) in table {
        scene.run(typed).expect(typed, status, "", told);
    }
    assert_eq!(std::fs::read(scene.path("taken")).unwrap(), b"kept");
    scene.run("serve now.vhdx --writable --plan").expect("a plan", 0, "serve now.vhdx for reading and writing", "");
    let server = Server::start(&scene, "now.vhdx");
    scene
        .run(&format!("serve fen-base.vhdx --socket {}", server.socket.display()))
        .expect("a socket", 4, "", "already");
    assert_eq!(scene.error("serve none.vhdx", 1)["kind"], "host");
    drop(server);
    let mut plain = scene.start("serve now.vhdx --listen 127.0.0.1:0 --writable --force=plain-network");
    let mut uri = String::new();
    BufReader::new(plain.stdout.as_mut().unwrap()).read_line(&mut uri).unwrap();
    assert!(uri.starts_with("nbd://127.0.0.1:"), "{uri}");
    Command::new("kill").arg(plain.id().to_string()).status().unwrap();
    assert!(plain.wait().unwrap().success());
}

#[test]
fn a_server_in_the_background_answers_when_the_command_returns() {
    let scene = Scene::new();
    scene.run("make now.vhdx 64M -q").expect("make", 0, "", "");
    let socket = scene.path("s");
    let started = scene.json(&format!("serve now.vhdx --writable --background --socket {}", socket.display()));
    let process = started["process"].as_u64().unwrap().to_string();
    assert!(started["uris"][0].as_str().unwrap().starts_with("nbd+unix:///now.vhdx?socket="));
    let mut client = Client::with_disk(&socket, "now.vhdx", true, &[]);
    client.pwrite(0, &[3; 512]);
    assert!(std::fs::metadata(&socket).unwrap().file_type().is_socket());
    scene.run("show now.vhdx").expect("show", 0, &format!("process {process} (zsap serve"), "");
    // Requests that are under way when the end is asked for are replied to.
    client.send(0, WRITE, 1, 1 << 20, 1 << 20, &[4; 1 << 20]);
    client.send(0, FLUSH, 2, 0, 0, &[]);
    let (one, two) = (client.reply(0), client.reply(0));
    assert_eq!((one.error, two.error), (0, 0));
    Command::new("kill").arg(&process).status().unwrap();
    assert!(client.is_cut());
    let start = Instant::now();
    while socket.exists() {
        assert!(start.elapsed() < Duration::from_secs(60));
        std::thread::sleep(Duration::from_millis(10));
    }
    scene.run("bytes read now.vhdx --at 1048576 --len 4 --wait 5").expect("durable", 0, "\u{4}\u{4}\u{4}\u{4}", "");
    scene.run("serve none.vhdx --background").expect("it cannot", 1, "", "none.vhdx");
    // Lines for scripts.
    let mut server = scene.start(&format!("serve now.vhdx --json --socket {}", socket.display()));
    let mut out = BufReader::new(server.stdout.take().unwrap());
    let mut line = String::new();
    let mut next = || {
        line.clear();
        out.read_line(&mut line).unwrap();
        let told = serde_json::from_str::<serde_json::Value>(&line).unwrap();
        crate::documents::fits("event", &told);
        told
    };
    let serving = next();
    assert_eq!((&serving["event"], &serving["schema_version"]), (&"serving".into(), &1.into()));
    drop(Client::with_disk(&socket, "", true, &[]));
    assert_eq!(next()["event"], "client_came");
    assert_eq!(next()["reason"], "it ended the connection");
    scene.interrupt(&server);
    assert_eq!(next()["event"], "ended");
    assert!(server.wait().unwrap().success());
}
