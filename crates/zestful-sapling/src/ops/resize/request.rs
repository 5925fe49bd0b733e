//! What is asked for.

use std::path::PathBuf;
use std::sync::Arc;

use super::volume::ShowVolume;
use crate::family::Guard;
use crate::image::{Format, Space};

/// A size that a disk is to get, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NewSize {
    /// This one.
    To(u64),
    /// So much more.
    More(u64),
    /// So much less.
    Less(u64),
}

/// The partition that takes the free space behind it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum PartitionToExtend {
    /// The last one on the disk.
    Last,
    /// The one with this number.
    Number(u32),
}

/// A disk that is to get another size; its partitions and their file systems follow where that is asked for.
///
/// Only the end of a chain is resized. What becomes larger reads as zero there, whatever stands below. What becomes
/// smaller is looked into first: partition tables and the file systems' own sizes are read, and nothing that they know
/// of is cut. The second copy of a GPT is no content: it moves.
///
/// What it can be allowed to do all the same: [`CutPartition`](crate::family::Override::CutPartition),
/// [`DiscardData`](crate::family::Override::DiscardData), and what
/// [`FreshIdentity`](crate::ops::FreshIdentity) can.
///
/// ```
/// use zestful_sapling::ops::{Make, NewSize, Operation, Planned, Resize};
/// use zestful_sapling::progress::Progress;
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let folder = tempfile::tempdir()?;
/// let path = folder.path().join("herbarium.vhdx");
/// Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
/// let plan = Resize::new(&path).with_size(NewSize::More(3 << 30)).plan()?;
/// assert_eq!((plan.before(), plan.after()), (1 << 30, 4 << 30));
/// plan.run(&Progress::new())?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug)]
pub struct Resize {
    pub(super) path: PathBuf,
    pub(super) size: Option<NewSize>,
    pub(super) space: Space,
    pub(super) format: Option<Format>,
    pub(super) extend: Option<PartitionToExtend>,
    pub(super) shrink: Option<u32>,
    pub(super) volume: Option<Arc<dyn ShowVolume>>,
    pub(super) scratch: Option<PathBuf>,
    pub(super) guard: Guard,
}

impl Resize {
    /// The disk whose current image is at `path`, so far with the size that it has.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self {
            path: path.into(),
            size: None,
            space: Space::Reserved,
            format: None,
            extend: None,
            shrink: None,
            volume: None,
            scratch: None,
            guard: Guard::new(),
        }
    }

    /// Gives it this size.
    pub fn with_size(mut self, size: NewSize) -> Self {
        self.size = Some(size);
        self
    }

    /// How a fixed disk gets the space that it grows by; otherwise the host sets it aside.
    pub fn with_space(mut self, space: Space) -> Self {
        self.space = space;
        self
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// Has a partition take the free space behind it.
    pub fn with_extended_partition(mut self, which: PartitionToExtend) -> Self {
        self.extend = Some(which);
        self
    }

    /// Has the file system of the extended partition, or of the last one, or of the whole disk, take the space that is
    /// there (ext2, ext3 and ext4). Programs of the host, e2fsck and resize2fs, do it as the calling user, on a view of
    /// the disk that `show` shows them as a file; only what they leave when all are content is written into the disk.
    pub fn with_extended_volume(mut self, show: Arc<dyn ShowVolume>) -> Self {
        self.volume = Some(show);
        self
    }

    /// Where the changes of that view are kept meanwhile; otherwise the folder of the image.
    pub fn with_scratch(mut self, folder: impl Into<PathBuf>) -> Self {
        self.scratch = Some(folder.into());
        self
    }

    /// Has the partition of this number end before the new end; what it holds must be known to be smaller already.
    pub fn with_shrunk_partition(mut self, number: u32) -> Self {
        self.shrink = Some(number);
        self
    }
}
