//! What happens at a server, for who watches it.

use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::path_data::PathData;

/// Something that happened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "event", rename_all = "snake_case")]
#[non_exhaustive]
pub enum Event {
    /// A client asked for a disk, and has it.
    ClientCame {
        /// Its number, counted from 1.
        client: u64,
        /// Who it is, as far as the host tells.
        peer: String,
        /// The name of the disk.
        export: String,
        /// Whether what goes to and fro is encrypted.
        encrypted: bool,
    },
    /// A client is gone.
    ClientWent {
        /// Its number.
        client: u64,
        /// The name of the disk, if it had one.
        export: Option<String>,
        /// Why, in words.
        reason: String,
        /// Bytes that it read.
        bytes_read: u64,
        /// Bytes that it wrote, or had zeroed.
        bytes_written: u64,
    },
    /// A connection was turned away before it had a disk.
    TurnedAway {
        /// Who it was.
        peer: String,
        /// Why, in words.
        reason: String,
    },
    /// Requests for a disk fail. It is told once, not for each of them.
    TroubleBegan {
        /// The name of the disk.
        export: String,
        /// What the library says.
        message: String,
    },
    /// They are done again.
    TroubleOver {
        /// The name of the disk.
        export: String,
    },
    /// There is little room for what is written and will be forgotten.
    LittleRoom {
        /// Where it is kept.
        folder: PathData,
        /// What is left there, in bytes.
        free: u64,
    },
    /// Somebody has written another partition table; the files stay those of the old one.
    TableChanged {
        /// The name of the disk.
        export: String,
        /// How many partitions the new one has.
        partitions: usize,
    },
    /// The disk is larger now.
    Grown {
        /// Its size, in bytes.
        size: u64,
        /// Devices of this host that do not know it yet.
        devices: Vec<String>,
    },
    /// A checkpoint of the machine was taken; the disks go on in new images.
    CheckpointTaken {
        /// Its name.
        name: String,
        /// How long requests waited for it.
        paused_milliseconds: Option<u64>,
    },
    /// It was told to end, and will when these have let go.
    StillInUse {
        /// Who uses it, and what would let go.
        holders: Vec<String>,
    },
}

/// A change in how requests end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Trouble {
    Began(String),
    Over,
}

impl Trouble {
    pub(crate) fn at(self, export: &str) -> Event {
        let export = export.to_owned();
        match self {
            Self::Began(message) => Event::TroubleBegan { export, message },
            Self::Over => Event::TroubleOver { export },
        }
    }
}
