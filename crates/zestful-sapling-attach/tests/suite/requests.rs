//! Every command, its flags, and its refusals.

use std::sync::Arc;

use zestful_sapling::image::Format;

use crate::client::*;
use crate::scene::{MIB, Scene, blank};

#[test]
fn every_command_does_what_it_says() {
    for (format, structured) in [(Format::Vhdx, true), (Format::Vhd, false), (Format::Raw, true)] {
        let storage = Arc::new(blank(format, 8 * MIB));
        let scene = Scene::writable(storage.clone(), format);
        let mut client = Client::with_disk(&scene.socket, "", structured, &[]);
        client.pwrite(512, &[1; 1024]);
        client.pwrite(3 * MIB - 4096, &vec![2; 2 * MIB as usize]);
        assert_eq!(client.pread(0, 2048), [vec![0; 512], vec![1; 1024], vec![0; 512]].concat());
        let large = client.pread(2 * MIB, 4 << 20);
        let edge = MIB as usize - 4096;
        assert!(large[..edge].iter().all(|byte| *byte == 0) && large[edge..][..2 << 20].iter().all(|byte| *byte == 2));
        let syncs = storage.syncs();
        client.flush();
        assert!(storage.syncs() > syncs);
        let syncs = storage.syncs();
        assert_eq!(client.ask(FUA, WRITE, 0, 512, &[3; 512]).error, 0);
        assert!(storage.syncs() > syncs, "it is durable when the reply comes");
        let syncs = storage.syncs();
        assert_eq!(client.ask(FUA, WRITE_ZEROES, 0, 512, &[]).error, 0);
        assert!(storage.syncs() > syncs);
        assert_eq!(client.pread(0, 512), [0; 512]);
        assert_eq!(client.ask(NO_HOLE, WRITE_ZEROES, 512, 3 << 20, &[]).error, 0);
        assert!(client.pread(512, 3 << 20).iter().all(|byte| *byte == 0));
        assert_eq!(client.ask(FAST_ZERO, WRITE_ZEROES, 3 * MIB, 1 << 20, &[]).error, 0);
        assert_eq!(client.ask(FAST_ZERO | NO_HOLE, WRITE_ZEROES, 3 * MIB, 1 << 20, &[]).error, ENOTSUP);
        assert_eq!(client.ask(0, TRIM, 0, 8 << 20, &[]).error, 0);
        assert!(client.pread(0, 8 << 20).iter().all(|byte| *byte == 0));
        assert_eq!(client.ask(0, CACHE, 0, 8 << 20, &[]).error, 0);
        if structured {
            assert_eq!(client.ask(DF, READ, 0, 4 << 20, &[]).data.len(), 4 << 20);
        }
        // What is no whole sector is put together, for clients that do not ask how long one is.
        client.pwrite(1000, b"Drosera");
        assert_eq!(client.pread(999, 9), b"\0Drosera\0");
    }
}

#[test]
fn what_cannot_be_done_is_answered_with_the_protocols_number() {
    let scene = Scene::writable(Arc::new(blank(Format::Vhdx, 8 * MIB)), Format::Vhdx);
    for structured in [true, false] {
        let mut client = Client::with_disk(&scene.socket, "", structured, &[]);
        let size = 8 * MIB;
        let table: &[(u16, u16, u64, u32, u32)] = &[
            (0, READ, size, 512, EINVAL),
            (0, READ, size - 512, 1024, EINVAL),
            (0, READ, u64::MAX - 100, 512, EINVAL),
            (0, READ, 0, (32 << 20) + 1, EINVAL),
            (0, WRITE, size - 512, 1024, ENOSPC),
            (0, WRITE, u64::MAX, 1, ENOSPC),
            (0, WRITE_ZEROES, size, 512, ENOSPC),
            (0, TRIM, size - 512, u32::MAX, EINVAL),
            (0, CACHE, size, 1, EINVAL),
            (0, BLOCK_STATUS, 0, 512, EINVAL),
            (0, 8, 0, 0, EINVAL),
            (0, 4711, 7, 9, EINVAL),
            (NO_HOLE, READ, 0, 512, EINVAL),
            (1 << 9, WRITE, 0, 512, EINVAL),
            (DF, FLUSH, 0, 0, EINVAL),
        ];
        for (flags, command, offset, len, error) in table {
            let payload = vec![9; if *command == WRITE { *len as usize } else { 0 }];
            let reply = client.ask(*flags, *command, *offset, *len, &payload);
            assert_eq!(reply.error, *error, "{flags:#x} {command} {offset} {len}");
            assert_eq!(structured, !reply.data.is_empty(), "a structured reply says why");
        }
        assert_eq!(client.ask(DF, READ, 0, 512, &[]).error, if structured { 0 } else { EINVAL });
        assert_eq!(client.pread(0, 512), [0; 512], "nothing of it was done");
        client.send(0, DISCONNECT, 0, 0, 0, &[]);
        assert!(client.is_cut());
    }
    // Who asks how long a sector is keeps to it.
    let mut client = Client::greet(&scene.socket, 3);
    client.go("", &[3]);
    assert_eq!(client.ask(0, READ, 1, 512, &[]).error, EINVAL);
    assert_eq!(client.ask(0, WRITE, 0, 100, &[1; 100]).error, EINVAL);
    let mut large = Client::with_disk(&scene.socket, "", true, &[]);
    assert_eq!(large.ask(0, READ, 0, 8 << 20, &[]).error, 0);
    let told = scene.events.lock().unwrap().clone();
    assert!(told.iter().all(|event| !format!("{event:?}").contains("Trouble")), "mistakes of clients are no trouble");
}

/// A larger disk than the largest request.
#[test]
fn the_largest_request_is_the_one_that_was_told() {
    let scene = Scene::writable(Arc::new(blank(Format::Vhdx, 64 * MIB)), Format::Vhdx);
    let mut client = Client::with_disk(&scene.socket, "", true, &[]);
    assert_eq!(client.pread(0, 32 << 20).len(), 32 << 20);
    assert_eq!(client.ask(0, READ, 0, (32 << 20) + 512, &[]).error, EOVERFLOW);
    client.pwrite(0, &vec![1; 32 << 20]);
    client.send(0, WRITE, 1, 0, (32 << 20) + 512, &[]);
    assert!(client.is_cut(), "nobody reads past so much");
}

/// Replies come as they are ready: a read does not wait for a flush that was asked for before it.
#[test]
fn a_read_overtakes_a_flush() {
    let storage = Arc::new(blank(Format::Vhdx, 8 * MIB).with_slow_syncs());
    let scene = Scene::writable(storage, Format::Vhdx);
    let mut client = Client::with_disk(&scene.socket, "", true, &[]);
    client.pwrite(0, &[1; 4096]);
    for (round, len) in [(0, 4096), (1, 1 << 20)] {
        client.pwrite(4096, &[round; 4096]);
        client.send(0, FLUSH, 1, 0, 0, &[]);
        client.send(0, READ, 2, 0, len, &[]);
        let first = client.reply(len as usize);
        assert_eq!(first.cookie, 2, "the read of {len} bytes came after the flush");
        assert_eq!(client.reply(0).cookie, 1);
    }
}
