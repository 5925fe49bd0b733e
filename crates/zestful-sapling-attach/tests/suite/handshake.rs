//! Everything that comes before the first request.

use std::sync::Arc;

use zestful_sapling::chain::{Chain, OpenOptions};
use zestful_sapling::image::Format;
use zestful_sapling::ops::{Make, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling_attach::{Backing, Event, Export, FolderCatalogue, Limits};

use crate::client::{Client, contexts_of, go_of};
use crate::scene::{MIB, Scene, blank};

const UNSUPPORTED: u32 = (1 << 31) + 1;
const INVALID: u32 = (1 << 31) + 3;
const UNKNOWN: u32 = (1 << 31) + 6;
const TOO_BIG: u32 = (1 << 31) + 9;

#[test]
fn every_way_in_leads_to_the_disk() {
    let scene = Scene::writable(Arc::new(blank(Format::Vhdx, 8 * MIB)), Format::Vhdx);
    // The old way, with the zeros that came with it, and without.
    for (flags, zeros) in [(0, 124), (1, 124), (3, 0)] {
        let mut client = Client::greet(&scene.socket, flags);
        client.send_option(1, b"germination-01");
        let told = client.read(10 + zeros);
        assert_eq!(told[..8], (8 * MIB).to_be_bytes());
        assert!(told[10..].iter().all(|byte| *byte == 0));
        client.pwrite(0, &[7; 512]);
        assert_eq!(client.pread(0, 512), [7; 512]);
    }
    // The only disk needs no name.
    let mut client = Client::greet(&scene.socket, 3);
    let list = client.option(3, &[]);
    assert_eq!(list[0], (2, [&crate::client::text("germination-01")[..], b"a test"].concat()));
    assert_eq!(list[1], (1, vec![]));
    let infos = client.option(6, &go_of("", &[1, 2, 3]));
    let sizes = [0u32.to_be_bytes()[..2].to_vec(), vec![]].concat();
    assert!(infos.iter().any(|(kind, data)| *kind == 3 && data.starts_with(&sizes)));
    let block_size = infos.iter().find(|(_, data)| data.starts_with(&[0, 3])).unwrap();
    assert_eq!(block_size.1[2..], [512u32, 4096, 32 << 20].map(u32::to_be_bytes).concat());
    assert!(infos.iter().any(|(_, data)| data == b"\0\x01germination-01"));
    assert!(infos.iter().any(|(_, data)| data == b"\0\x02a test"));
    client.go("", &[]);
    assert_eq!((client.size, client.flags), (8 * MIB, 0b1101_0110_1101));
    assert_eq!(client.pread(0, 512), [7; 512]);
    // It goes without a word.
    let mut quiet = Client::greet(&scene.socket, 3);
    assert_eq!(quiet.option(2, &[]), [(1, vec![])]);
    assert!(quiet.is_cut());
    let told = scene.events.lock().unwrap().clone();
    assert!(!told.iter().any(|event| matches!(event, Event::TurnedAway { .. })), "{told:?}");
}

#[test]
fn what_is_asked_wrongly_is_answered_and_the_talk_goes_on() {
    let scene = Scene::writable(Arc::new(blank(Format::Vhdx, 8 * MIB)), Format::Vhdx);
    let mut client = Client::greet(&scene.socket, 3);
    let wrong: &[(u32, Vec<u8>, u32)] = &[
        (99, vec![], UNSUPPORTED),
        (11, vec![], UNSUPPORTED),
        (5, vec![], UNSUPPORTED),
        (3, vec![1], INVALID),
        (8, vec![1], INVALID),
        (7, go_of("fen", &[]), UNKNOWN),
        (6, go_of("fen", &[]), UNKNOWN),
        (7, vec![0, 0, 0], INVALID),
        (7, vec![255; 8], INVALID),
        (7, [go_of("", &[3]), vec![0]].concat(), INVALID),
        (6, go_of("", &[])[..5].to_vec(), INVALID),
        (6, go_of(&"f".repeat(5000), &[]), TOO_BIG),
        (10, contexts_of("", &["base:allocation"]), INVALID),
        (9, vec![0; 70_000], TOO_BIG),
    ];
    for (option, data, answer) in wrong {
        let replies = client.option(*option, data);
        assert_eq!(replies.last().unwrap().0, *answer, "option {option}: {replies:?}");
    }
    assert_eq!(client.option(8, &[]), [(1, vec![])]);
    client.structured = true;
    let listed = |client: &mut Client, queries: &[&str]| {
        let replies = client.option(9, &contexts_of("", queries));
        let names = replies.iter().filter(|(kind, _)| *kind == 4);
        names.map(|(_, data)| String::from_utf8(data[4..].to_vec()).unwrap()).collect::<Vec<_>>()
    };
    assert_eq!(listed(&mut client, &[]), ["base:allocation", "x-zsap:layer"]);
    assert_eq!(listed(&mut client, &["base:", "moor:peat"]), ["base:allocation"]);
    assert_eq!(client.option(10, &contexts_of("", &["base:", "moor:peat"])), [(1, vec![])], "nothing was chosen");
    assert_eq!(client.option(10, &contexts_of("fen", &["base:allocation"]))[0].0, UNKNOWN);
    client.go("germination-01", &[]);
    assert_eq!(client.pread(0, 512), [0; 512]);
}

/// A context belongs to the disk that it was chosen for, and to no other.
#[test]
fn a_folder_serves_each_image_under_its_name() {
    let folder = tempfile::tempdir().unwrap();
    for name in ["herbarium-records.vhd", "herbarium-system.vhdx"] {
        Make::new(folder.path().join(name), 64 * MIB).plan().unwrap().run(&Progress::new()).unwrap();
    }
    std::fs::write(folder.path().join("broken.vhdx"), "no image").unwrap();
    std::fs::write(folder.path().join("notes.txt"), "no image").unwrap();
    let scene = Scene::of(Arc::new(FolderCatalogue::new(folder.path())), None, Limits::default());
    let mut client = Client::greet(&scene.socket, 3);
    let list = client.option(3, &[]);
    let names: Vec<_> = list.iter().filter(|(kind, _)| *kind == 2).map(|(_, data)| data[4..].to_vec()).collect();
    assert!(names[0].starts_with(b"broken.vhdx") && names[1].starts_with(b"herbarium-records.vhd"));
    assert_eq!(names.len(), 3);
    assert_eq!(client.option(7, &go_of("broken.vhdx", &[]))[0].0, UNKNOWN);
    assert_eq!(client.option(7, &go_of("../secret.vhdx", &[]))[0].0, UNKNOWN);
    assert_eq!(client.option(7, &go_of("", &[]))[0].0, UNKNOWN);
    assert_eq!(client.option(8, &[]), [(1, vec![])]);
    client.structured = true;
    let chosen = client.option(10, &contexts_of("herbarium-records.vhd", &["base:allocation"]));
    assert_eq!(chosen.len(), 2);
    client.go("herbarium-system.vhdx", &[]);
    assert_ne!(client.flags & 2, 0, "for reading");
    assert_eq!(client.ask(0, crate::client::BLOCK_STATUS, 0, 512, &[]).error, crate::client::EINVAL);
    // While somebody has it, nobody writes to it; afterwards they may.
    let system = folder.path().join("herbarium-system.vhdx");
    let open = || zestful_sapling::chain::ChainMut::open(&system, &OpenOptions::new());
    assert!(open().is_err());
    drop(client);
    scene.told(1, |event| matches!(event, Event::ClientWent { .. }));
    let until = std::time::Instant::now() + std::time::Duration::from_secs(60);
    while open().is_err() {
        assert!(std::time::Instant::now() < until);
    }
}

/// Two servers, one socket; and a socket that a dead one left behind.
#[test]
fn a_socket_is_taken_from_nobody_who_lives() {
    use zestful_sapling_attach::{AttachError, UnixSocket};
    let scene = Scene::writable(Arc::new(blank(Format::Vhdx, 8 * MIB)), Format::Vhdx);
    let again = UnixSocket::bind(&scene.socket, None);
    assert!(matches!(again, Err(AttachError::SocketInUse { .. })), "{again:?}");
    let file = scene.folder.path().join("notes");
    std::fs::write(&file, "kept").unwrap();
    assert!(matches!(UnixSocket::bind(&file, None), Err(AttachError::NotASocket { .. })));
    assert_eq!(std::fs::read(&file).unwrap(), b"kept");
    let dead = scene.folder.path().join("dead");
    drop(std::os::unix::net::UnixListener::bind(&dead).unwrap());
    let taken = UnixSocket::bind(&dead, None).unwrap();
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&dead).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    // What somebody else put in its place stays.
    std::fs::remove_file(&dead).unwrap();
    std::fs::write(&dead, "another").unwrap();
    drop(taken);
    assert!(dead.exists());
    let missing = UnixSocket::bind(&scene.folder.path().join("none/s"), None);
    assert!(matches!(missing, Err(AttachError::Io { .. })));
    let long = UnixSocket::bind(&scene.folder.path().join("s".repeat(120)), None);
    assert!(matches!(long, Err(AttachError::Io { .. })));
}

/// The layers of a chain as the numbers of a context.
#[test]
fn block_status_tells_holes_and_layers() {
    use zestful_sapling::chain::ChainMut;
    use zestful_sapling::ops::Derive;
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    Make::new(path("fen-base.vhdx"), 64 * MIB).plan().unwrap().run(&Progress::new()).unwrap();
    let disk = ChainMut::open(&path("fen-base.vhdx"), &OpenOptions::new()).unwrap();
    disk.write_at(&vec![1; 2 * MIB as usize], 0).unwrap();
    disk.close().unwrap();
    Derive::new(path("fen-base.vhdx"), vec![path("child.vhdx")]).plan().unwrap().run(&Progress::new()).unwrap();
    let disk = ChainMut::open(&path("child.vhdx"), &OpenOptions::new()).unwrap();
    disk.write_at(&vec![2; 4096], MIB).unwrap();
    disk.close().unwrap();
    let chain = Chain::open(&path("child.vhdx"), &OpenOptions::new()).unwrap();
    let export = Export::new("child", "", Backing::ReadOnly(Arc::new(chain)));
    let scene = Scene::of(Arc::new(vec![Arc::new(export)]), None, Limits::default());
    let mut client = Client::with_disk(&scene.socket, "child", true, &["base:allocation", "x-zsap:layer"]);
    let all = client.ask(0, crate::client::BLOCK_STATUS, 0, 64 << 20, &[]).states;
    let (mib, rest) = (MIB as u32, 62 * MIB as u32);
    assert_eq!(all[0], (1, vec![(2 * mib, 0), (rest, 3)]));
    assert_eq!(all[1], (2, vec![(mib, 2), (4096, 1), (mib - 4096, 2), (rest, 0)]));
    let one = client.ask(crate::client::REQ_ONE, crate::client::BLOCK_STATUS, MIB - 512, 4 << 20, &[]).states;
    assert_eq!(one, [(1, vec![(mib + 512, 0)]), (2, vec![(512, 2)])]);
}
