//! Virtual disks for others to use: a server of the network block device protocol (fixed newstyle) over the disks of
//! [`zestful_sapling`]. It knows sockets and the protocol, and nothing of formats.
//!
//! An [`Export`] is a disk under a name, a [`Catalogue`] what a server has of them, and a [`Server`] takes clients in
//! at a [`Listener`], a Unix socket or an address of the network, until its [`Stopper`] is asked to end it. What
//! happens meanwhile is told as [`Event`]s.
//!
//! ```
//! use std::sync::Arc;
//! use zestful_sapling::chain::{ChainMut, OpenOptions, SharedDisk};
//! use zestful_sapling_attach::{Backing, Export, Limits, Listener, Server, UnixSocket};
//! # use zestful_sapling::ops::{Make, Operation, Planned};
//! # use zestful_sapling::progress::Progress;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let folder = tempfile::tempdir()?;
//! # let path = folder.path().join("germination-01.vhdx");
//! # Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
//! let disk = Arc::new(SharedDisk::new(ChainMut::open(&path, &OpenOptions::new())?));
//! let export = Export::new("germination-01", "the first germination machine", Backing::Writable(disk));
//! let socket = UnixSocket::bind(&folder.path().join("germination-01.sock"), None)?;
//! let server = Server::new(Listener::Unix(socket), Arc::new(vec![Arc::new(export)]), None, Limits::default())?;
//! let stopper = server.stopper();
//! std::thread::scope(|scope| {
//!     scope.spawn(|| server.run(&|event| println!("{event:?}")));
//!     stopper.stop();
//! });
//! # Ok(())
//! # }
//! ```
//!
//! # What is promised
//! A flush, or a write with FUA, is replied to when what was written before is durable; on all connections, so that
//! several of one client may share a disk. A client that dies, floods, stalls or talks nonsense has no effect on
//! others. Requests that fail are told the client with the protocol's number, and the operator once.

mod checkpoint;
mod code;
mod control;
mod error;
mod event;
mod export;
mod front;
mod fuse;
mod nbd;
mod opening;
mod session;
mod socket;

pub use control::{
    Attached, AttachedState, ControlSocket, Description, DetachError, GrowError, RunningMachine, TakeError,
    TakeRequest, WritableDisk, attachments, detach, runtime_folder,
};
pub use error::{AttachError, MountProblem};
pub use event::Event;
pub use export::{Backing, Catalogue, Export, describe};
pub use front::{Ending, Front, InUse, Mode, Moved, Place};
pub use fuse::{Exposure, HostFiles};
pub use nbd::{FolderCatalogue, Limits, Listener, MachineCatalogue, Server, Stopper, Tls};
pub use opening::{Opened, Opening, Room};
pub use session::Session;
pub use socket::UnixSocket;
