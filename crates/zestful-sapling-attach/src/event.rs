//! What happens at a server, for who watches it.

use schemars::JsonSchema;
use serde::Serialize;

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
