//! A disk is served to clients of the network block device protocol, until the standard input ends or, with `demo` or
//! without an argument, until its own client has looked at it.
//!
//! ```console
//! $ cargo run --example serve_a_disk                            # on made-up data, and ends by itself
//! $ cargo run --example serve_a_disk -- DISK.vhdx SOCKET        # writable, until end of input
//! ```

use std::io::Read;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::sync::Arc;

use zestful_sapling::chain::{ChainMut, OpenOptions, SharedDisk};
use zestful_sapling::ops::{Make, Operation, Planned};
use zestful_sapling::progress::Progress;
use zestful_sapling_attach::{Backing, Event, Export, Limits, Listener, Server, UnixSocket};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = tempfile::tempdir()?;
    let named: Vec<PathBuf> = std::env::args_os().skip(1).map(PathBuf::from).collect();
    let is_demo = named.len() < 2;
    let (path, socket) = match &named[..] {
        [path, socket, ..] => (path.clone(), socket.clone()),
        _ => (folder.path().join("germination-01.vhdx"), folder.path().join("germination-01.sock")),
    };
    if is_demo {
        Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
    }
    let disk = Arc::new(SharedDisk::new(ChainMut::open(&path, &OpenOptions::new())?));
    disk.write_at(b"Campanula rotundifolia", 4096)?;
    let export = Export::new("germination-01", "the first germination machine", Backing::Writable(disk.clone()));
    let listener = Listener::Unix(UnixSocket::bind(&socket, None)?);
    println!("{}", listener.uri("germination-01", false));
    let server = Server::new(listener, Arc::new(vec![Arc::new(export)]), None, Limits::default())?;
    let stopper = server.stopper();
    let tell = |event: Event| println!("{event:?}");
    std::thread::scope(|scope| {
        let running = scope.spawn(|| server.run(&tell));
        match is_demo {
            true => println!("a server greets with {:?}", greeting(&socket)),
            false => _ = std::io::stdin().read_to_end(&mut Vec::new()),
        }
        stopper.stop();
        running.join()
    })
    .map_err(|_| "the server ended in a panic")??;
    drop(server);
    Arc::into_inner(disk).map_or(Ok(()), SharedDisk::close)?;
    Ok(())
}

/// The first eight bytes of every server.
fn greeting(socket: &std::path::Path) -> Option<String> {
    let mut hello = [0; 8];
    UnixStream::connect(socket).ok()?.read_exact(&mut hello).ok()?;
    Some(String::from_utf8_lossy(&hello).into_owned())
}
