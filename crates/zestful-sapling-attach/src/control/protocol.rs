//! What is said at the control socket of a process that has a disk attached: one question a connection, one answer,
//! each a JSON object on a line of its own.

use std::io::{self, Read};
use std::os::unix::net::UnixStream;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use zestful_sapling::error::ErrorFamily;
use zestful_sapling::family::Override;
use zestful_sapling::grove::TakeOutcome;
use zestful_sapling::path_data::PathData;

use crate::front::{Mode, Place};

/// It rises when an old question would be misunderstood; new questions and new fields come without.
pub(super) const PROTOCOL: u32 = 1;
/// The longest question, in bytes.
pub(super) const MOST_ASKED: usize = 64 << 10;
/// The longest answer.
pub(super) const MOST_ANSWERED: usize = 256 << 10;

/// One line, at most so long, until then. Whoever sends it piece by piece gets no more time for that.
pub(super) fn read_line(stream: &UnixStream, most: usize, patience: Duration) -> io::Result<Vec<u8>> {
    let until = Instant::now() + patience;
    let (mut line, mut part) = (Vec::new(), [0; 4096]);
    while !line.ends_with(b"\n") && line.len() < most {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(io::ErrorKind::TimedOut.into());
        }
        stream.set_read_timeout(Some(left))?;
        match (&*stream).read(&mut part)? {
            0 => break,
            count => line.extend_from_slice(&part[..count]),
        }
    }
    Ok(line)
}

#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Question {
    pub(super) protocol: u32,
    #[serde(flatten)]
    pub(super) ask: Ask,
}

/// What is asked.
#[derive(Debug, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "snake_case")]
pub(crate) enum Ask {
    Describe,
    /// Answered when the disk is durable, and its locks and its mount are gone.
    Detach {
        force: bool,
    },
    Grow {
        size: u64,
        /// Which of several disks: its current image.
        #[serde(default)]
        image: Option<PathData>,
    },
    /// Of the machine whose disks it has open.
    TakeCheckpoint {
        #[serde(flatten)]
        request: TakeRequest,
        /// Nothing is done, and what would be is told.
        #[serde(default)]
        plan: bool,
    },
}

/// What is answered.
#[derive(Debug, Serialize, Deserialize)]
#[serde(tag = "answer", rename_all = "snake_case")]
pub(crate) enum Answer {
    Description(Box<Description>),
    Detached,
    /// It goes this moment, with nothing more to say.
    Ending,
    Grown {
        size: u64,
        /// Devices of this host that do not know it yet.
        #[serde(default)]
        devices: Vec<String>,
    },
    Planned {
        plan: TakePlanned,
    },
    Taken {
        outcome: Box<TakeOutcome>,
    },
    NotTaken {
        family: ErrorFamily,
        message: String,
        /// Somebody is at it, who will not be for long.
        #[serde(default)]
        is_busy: bool,
    },
    InUse {
        holders: Vec<String>,
    },
    Failed {
        message: String,
    },
}

/// A disk that is attached, as its process describes it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Description {
    /// The image, or the folder of images.
    pub path: PathData,
    /// The images that are open, as far as they are all the time.
    #[serde(default)]
    pub images: Vec<PathData>,
    /// How others may use it.
    pub mode: Mode,
    /// Where others find it.
    pub place: Place,
    /// What people read about it.
    pub description: String,
    /// Since when.
    #[schemars(with = "String")]
    pub since: Timestamp,
    /// Clients of a server, or open files of a folder.
    pub users: usize,
    /// Bytes that were read so far.
    pub bytes_read: u64,
    /// Bytes that were written so far, or zeroed.
    pub bytes_written: u64,
}

/// A checkpoint that is asked for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TakeRequest {
    /// The machine's folder.
    pub folder: PathData,
    /// What the checkpoint is called.
    pub name: String,
    /// What it is for.
    #[serde(default)]
    pub note: String,
    /// What is meant so.
    #[serde(default)]
    pub overrides: Vec<Override>,
    /// For how many milliseconds requests may have to wait.
    pub pause_at_most: u64,
}

/// What taking it would do. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct TakePlanned {
    pub(crate) steps: Vec<String>,
    pub(crate) create: Vec<PathData>,
    pub(crate) change: Vec<PathData>,
    pub(crate) space: u64,
    pub(crate) warnings: Vec<String>,
}
