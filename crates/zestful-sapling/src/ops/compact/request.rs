//! What is asked for.

use std::path::PathBuf;

use super::survey::Wanted;
use crate::family::Guard;
use crate::image::Format;

/// An image that is to give back what it does not need.
///
/// Blocks that hold nothing but zeros are held no more, those at the end of the file fill the gaps before them, and the
/// file becomes shorter. What a guest reads stays the same, and so does what children read: the image keeps its data
/// identity, and may be a frozen parent that nobody uses.
///
/// A fixed or raw disk has no blocks that could go: the host is given back the space under its zeros, as holes.
///
/// What it can be allowed to do all the same: [`ReservedSpace`](crate::family::Override::ReservedSpace), and what
/// [`FreshIdentity`](crate::ops::FreshIdentity) can.
///
/// ```
/// use zestful_sapling::chain::{ChainMut, OpenOptions};
/// use zestful_sapling::ops::{Compact, Make, Operation, Planned};
/// use zestful_sapling::progress::Progress;
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let folder = tempfile::tempdir()?;
/// let path = folder.path().join("herbarium.vhdx");
/// Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
/// let disk = ChainMut::open(&path, &OpenOptions::new())?;
/// disk.write_at(&vec![0; 64 << 20], 0)?;
/// disk.close()?;
/// let outcome = Compact::new(&path).plan()?.run(&Progress::new())?;
/// assert_eq!(outcome.given_back.zeros, 64 << 20);
/// assert!(outcome.after.file_len + (64 << 20) <= outcome.before.file_len);
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug)]
pub struct Compact {
    pub(super) path: PathBuf,
    pub(super) format: Option<Format>,
    pub(super) wanted: Wanted,
    pub(super) in_order: bool,
    pub(super) guard: Guard,
}

impl Compact {
    /// The image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), format: None, wanted: Wanted::default(), in_order: false, guard: Guard::new() }
    }

    /// The image's format, whatever its signature says.
    pub fn with_format(mut self, format: Format) -> Self {
        self.format = Some(format);
        self
    }

    /// Gives back what the file systems on the disk mark as free, too, of an image that nothing has grown from.
    ///
    /// Each file system is asked that can be read, was unmounted, and raises no doubt; what lies outside of volumes,
    /// and in others, is never taken for free. What such a file system has in use is not searched for zeros.
    pub fn with_unused(mut self, unused: bool) -> Self {
        self.wanted.unused = unused;
        self
    }

    /// Gives back what the parent holds as well, too, of an image that nothing has grown from.
    pub fn with_same_as_parent(mut self, same_as_parent: bool) -> Self {
        self.wanted.same_as_parent = same_as_parent;
        self
    }

    /// Moves nothing and leaves the file as long as it is: the host is given back the space as holes, also under what
    /// is smaller than a block: pieces of 64 KiB, larger ones of disks of more than 8 TiB.
    pub fn with_holes_only(mut self, holes: bool) -> Self {
        self.wanted.holes = holes;
        self
    }

    /// Lays the blocks out in the order of the disk, too.
    pub fn in_order(mut self, in_order: bool) -> Self {
        self.in_order = in_order;
        self
    }
}
