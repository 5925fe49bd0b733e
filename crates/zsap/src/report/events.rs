//! What a server tells while it runs.

use std::fmt;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use zestful_sapling::path_data::PathData;
use zestful_sapling::size::format_size;
use zestful_sapling_attach::Event;

/// One line of what a server tells.
#[derive(Serialize, JsonSchema)]
#[serde(tag = "event", rename_all = "snake_case")]
pub(crate) enum Told {
    /// Clients may come.
    Serving {
        /// Where they find the disks.
        uris: Vec<String>,
    },
    /// There is little room for what is written.
    LittleRoom {
        /// Where it is.
        folder: PathData,
        #[serde(skip)]
        shown: String,
        /// What is left there, in bytes.
        free: u64,
    },
    /// All is over.
    Ended {
        /// Whether what was written is kept, and durable.
        kept: bool,
    },
    #[serde(untagged)]
    Happened(Event),
}

/// A server in the background.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Served {
    /// Where clients find the disks.
    uris: Vec<String>,
    /// The server.
    process: Option<u32>,
}

impl Served {
    pub(crate) fn new(uris: &[String], process: Option<u32>) -> Self {
        Self { uris: uris.to_vec(), process }
    }
}

impl fmt::Display for Told {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Serving { uris } => f.write_str(&uris.join("\n")),
            Self::Happened(event) => tell(event, f),
            Self::LittleRoom { shown, free, .. } => {
                write!(f, "only {} are left in {}, where writes go", format_size(*free), shown)
            }
            Self::Ended { kept: true } => f.write_str("ended; all that was written is durable"),
            Self::Ended { kept: false } => f.write_str("ended; what was written is forgotten"),
        }
    }
}

fn tell(event: &Event, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    match event {
        Event::ClientCame { client, peer, export, encrypted } => {
            let how = if *encrypted { ", under TLS" } else { "" };
            write!(f, "client {client} came for {export}: {peer}{how}")
        }
        Event::ClientWent { client, reason, bytes_read, bytes_written, .. } => write!(
            f,
            "client {client} went: {reason}; it read {} and wrote {}",
            format_size(*bytes_read),
            format_size(*bytes_written)
        ),
        Event::TurnedAway { peer, reason } => write!(f, "turned away: {peer}: {reason}"),
        Event::TroubleBegan { export, message } => write!(f, "requests for {export} fail: {message}"),
        Event::TroubleOver { export } => write!(f, "requests for {export} are done again"),
        other => write!(f, "{other:?}"),
    }
}

/// A line for scripts.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Line<'a> {
    /// When it happened.
    pub(crate) time: Timestamp,
    #[serde(flatten)]
    pub(crate) told: &'a Told,
}
