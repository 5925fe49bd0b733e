//! Why something possible was refused, with what a caller needs to decide about it.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use uuid::Uuid;

/// Why something possible was refused. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Refusal {
    /// Somebody else uses the file.
    InUse {
        /// The file, folder or device.
        path: PathBuf,
        /// Who, as far as this host tells.
        holder: Option<Box<Holder>>,
    },
    /// There is too little space.
    NoSpace {
        /// Where.
        path: PathBuf,
        /// How much must be free at the worst moment.
        needed: u64,
        /// How much is.
        free: u64,
    },
    /// Something stands where a new file should go.
    Exists {
        /// What.
        path: PathBuf,
    },
    /// The file is only read: it is marked read-only on the host, as parents are, or a write could harm it.
    ReadOnly {
        /// The file.
        path: PathBuf,
        /// Whether only the mark on the host keeps it from being written to.
        marked: bool,
    },
    /// Other images depend on this one, or may.
    NeededByChildren {
        /// The image.
        image: PathBuf,
        /// Those that do.
        children: Vec<PathBuf>,
        /// Those of which it cannot be told.
        unknown: Vec<PathBuf>,
    },
    /// The name of the file and its content, or what was asked for, say different formats.
    FormatDisagrees {
        /// The file.
        path: PathBuf,
        /// Whether two formats were found in the file itself, so that one must be named.
        in_content: bool,
    },
    /// A disk that should be blank is not.
    NotBlank {
        /// The current image of the disk.
        path: PathBuf,
        /// What is on it, in words.
        content: Vec<String>,
    },
    /// A smaller disk would cut a partition, or what fills the disk.
    WouldCut {
        /// The current image of the disk.
        path: PathBuf,
        /// The smallest size that cuts nothing.
        least: u64,
        /// The one partition that is in the way, where what it holds is small enough for it to become smaller.
        shrinkable: Option<u32>,
    },
    /// A smaller disk would lose data that belongs to nothing that is known.
    WouldDiscard {
        /// The current image of the disk.
        path: PathBuf,
        /// The first byte behind the new end that is not zero.
        at: u64,
    },
    /// A fixed disk would give up space that the host has set aside for it.
    ReservedSpace {
        /// The image.
        path: PathBuf,
    },
    /// A file system that is not extended from outside.
    ExtendedInside {
        /// Its name, as scripts read it.
        file_system: &'static str,
    },
    /// A block device is not blank.
    HasContent {
        /// The device.
        path: PathBuf,
    },
    /// A partition table would come to stand on sectors of another size.
    SectorsDiffer {
        /// The logical sector size that the table counts in.
        own: u32,
        /// The one that the new disk would have.
        other: u32,
    },
    /// Another program changed what is worked with.
    SourceChanged {
        /// The image or file.
        path: PathBuf,
    },
    /// An image is not the one that a child recorded as its parent.
    IdentityDiffers {
        /// The image.
        parent: PathBuf,
        /// The data identities that the child accepts.
        expected: Vec<Uuid>,
        /// The one that the image has.
        found: Option<Uuid>,
    },
    /// More than one image is what was looked for.
    Ambiguous {
        /// All of them.
        candidates: Vec<PathBuf>,
    },
    /// A longer change that was begun is not finished.
    UnderWay {
        /// An image that takes part.
        image: PathBuf,
        /// Whether it is too late to give it up.
        must_go_on: bool,
    },
    /// The image is pinned: it is never to change.
    Pinned {
        /// The image.
        image: PathBuf,
        /// Since when.
        since: Timestamp,
    },
    /// The host that began something is another one.
    OtherHost {
        /// The image with which it was begun.
        image: PathBuf,
    },
    /// What was begun was begun with other files than these, such as the originals of these copies.
    OtherFiles {
        /// The files that are not proven to be those.
        unproven: Vec<PathBuf>,
    },
    /// A grove keeps the image.
    KeptByGrove {
        /// The image.
        image: PathBuf,
        /// The grove.
        grove: PathBuf,
        /// The disk's label.
        disk: String,
        /// The checkpoint that it belongs to; `None` for a current disk, and for a layer without a name.
        checkpoint: Option<String>,
        /// Whether it is the current image of the disk.
        is_current: bool,
    },
    /// What a file has beside its content cannot be given to the one that is to take its place.
    Attributes {
        /// The file.
        path: PathBuf,
        /// What it is, in words.
        missing: Vec<String>,
    },
    /// A checkpoint is protected.
    Protected {
        /// Its name.
        checkpoint: String,
    },
    /// A disk of a machine forgets its changes at each attach: its file is never written to.
    Throwaway {
        /// The image.
        image: PathBuf,
        /// The disk's label.
        disk: String,
    },
    /// A disk's format has no layers.
    NoLayers {
        /// The image.
        image: PathBuf,
    },
    /// The file has a second name.
    HardLinks {
        /// The file.
        path: PathBuf,
        /// How many it has.
        names: u64,
    },
    /// A suspended machine goes on from the content that would change.
    SavedState {
        /// The image.
        path: PathBuf,
    },
    /// A child cannot be recorded as one of its parent.
    Unrecorded {
        /// The parent.
        parent: PathBuf,
        /// The children; none when what is to be recorded is made only later.
        children: Vec<PathBuf>,
    },
    /// Neither way of doing it is possible.
    NoWay {
        /// The image.
        image: PathBuf,
        /// Whether a way is closed only because something may have grown from an image, of which that cannot be told.
        for_unknown_children: bool,
    },
    /// The disks of a machine in use would have to stand still for longer than was allowed.
    PauseTooLong,
    /// A checkpoint takes all tracked disks or none, and not all of them are open where it was asked for.
    NotAllDisks {
        /// The labels of those that are not.
        missing: Vec<String>,
    },
    /// So much would change that it is not mended in place.
    TooMuchToMend {
        /// The image.
        path: PathBuf,
    },
    /// An earlier write or sync of this handle failed, so nothing more is written through it.
    EarlierFailure {
        /// The file.
        path: PathBuf,
    },
}

impl Refusal {
    /// Another program changed what stands at `path`.
    pub(crate) fn changed(path: &Path) -> Self {
        Self::SourceChanged { path: path.to_owned() }
    }
}

/// Somebody who uses a file.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Holder {
    /// Who it is, in words.
    pub name: String,
    /// The process, if it is one.
    pub process: Option<u32>,
    /// When that process was started.
    pub since: Option<Timestamp>,
    /// How the file is used.
    pub how: Hold,
}

/// How a file is used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Hold {
    /// By a lock that keeps us out: only waiting helps.
    Lock,
    /// Open for writing without a lock, mapped for writing, or behind a loop device.
    Unlocked,
    /// The host itself uses the device.
    Device,
}
