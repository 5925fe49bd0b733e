//! What others use a disk through: a server, or files of this host.

use std::sync::atomic::{AtomicU64, Ordering};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use zestful_sapling::path_data::PathData;

use crate::error::AttachError;
use crate::event::Event;

/// How others may use a disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Mode {
    /// Nobody writes to it.
    ReadOnly,
    /// What is written stays.
    Writable,
    /// What is written is forgotten at the end.
    Throwaway,
}

/// Where others find it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "how", rename_all = "snake_case")]
#[non_exhaustive]
pub enum Place {
    /// A Unix socket of a server.
    Socket {
        /// Its path.
        socket: PathData,
    },
    /// An address of a server in the network.
    Address {
        /// It, with the port.
        address: String,
    },
    /// A folder of this host, with the disk and its partitions as files.
    Folder {
        /// Its path.
        folder: PathData,
    },
}

/// Who asks for the end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    /// Somebody who takes no for an answer while others use it.
    Asked,
    /// The host, with a signal, or whoever started it.
    Told,
    /// Somebody who means it, whoever uses it. What was written is made durable all the same.
    AtOnce,
}

/// What others use a disk through. One is run on one thread and ended from others.
pub trait Front: Send + Sync {
    /// Takes requests until the end; `events` is called from many threads.
    ///
    /// # Errors
    /// `Io` when the host takes no requests any more.
    fn run(&self, events: &(dyn Fn(Event) + Sync)) -> Result<(), AttachError>;

    /// Begins the end: no new requests, what was begun is done, and [`Front::run`] returns.
    ///
    /// # Errors
    /// Who uses it, in words, and then nothing has changed; never for [`Ending::AtOnce`].
    fn end(&self, ending: Ending) -> Result<(), InUse>;

    /// Where others find it.
    fn place(&self) -> Place;

    /// How many use it now: clients of a server, open files of a folder.
    fn users(&self) -> usize;

    /// What was read and written so far.
    fn moved(&self) -> Moved;

    /// Devices of this host that stand on the whole disk.
    fn devices(&self) -> Vec<String> {
        Vec::new()
    }

    /// The disk is larger now: what the host remembers of its size is out of date.
    fn has_grown(&self);
}

/// Who uses what was to be ended: a line each, with what would let go.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct InUse {
    /// One for each of them.
    pub holders: Vec<String>,
}

/// Bytes that went to and fro.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Moved {
    /// Bytes that were read.
    pub read: u64,
    /// Bytes that were written, or zeroed.
    pub written: u64,
}

/// Counts what goes to and fro.
#[derive(Debug, Default)]
pub(crate) struct Counters {
    read: AtomicU64,
    written: AtomicU64,
}

impl Counters {
    pub(crate) fn add_read(&self, bytes: u64) {
        self.read.fetch_add(bytes, Ordering::Relaxed);
    }

    pub(crate) fn add_written(&self, bytes: u64) {
        self.written.fetch_add(bytes, Ordering::Relaxed);
    }

    pub(crate) fn moved(&self) -> Moved {
        Moved { read: self.read.load(Ordering::Relaxed), written: self.written.load(Ordering::Relaxed) }
    }
}
