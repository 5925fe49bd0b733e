//! New disks, empty or filled from another.

use std::path::PathBuf;

use super::new_disk::{Identity, NewDisk, NewDiskOutcome, Request};
use super::new_image::NewImage;
use crate::chain::{Chain, OpenOptions};
use crate::error::Result;
use crate::family::Guard;
use crate::image::{Format, Space};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;

/// A disk to be made.
///
/// ```
/// use zestful_sapling::ops::{Make, Operation, Planned};
/// use zestful_sapling::progress::Progress;
/// let folder = tempfile::tempdir().unwrap();
/// let plan = Make::new(folder.path().join("fen-base.vhdx"), 64 << 30).plan().unwrap();
/// plan.run(&Progress::new()).unwrap();
/// ```
///
/// What it can be allowed to do all the same: [`Ending`](crate::family::Override::Ending),
/// [`Sectors`](crate::family::Override::Sectors), [`DeviceContent`](crate::family::Override::DeviceContent), and
/// [`InUse`](crate::family::Override::InUse) for the image that it is filled from.
#[derive(Clone, Debug)]
pub struct Make {
    target: PathBuf,
    size: Option<u64>,
    image: NewImage,
    guard: Guard,
    filling: Option<(PathBuf, Option<Format>)>,
}

impl Make {
    /// A disk of `size` bytes at `target`, which may be a new file or a block device; its format is the one that the
    /// name speaks of, its kind dynamic where the format has that.
    pub fn new(target: impl Into<PathBuf>, size: u64) -> Self {
        Self { target: target.into(), size: Some(size), image: NewImage::new(), guard: Guard::new(), filling: None }
    }

    /// A disk with the content of another image, of any format and with its whole chain, and of its size.
    pub fn filled_from(target: impl Into<PathBuf>, other: impl Into<PathBuf>, format: Option<Format>) -> Self {
        let filling = Some((other.into(), format));
        Self { target: target.into(), size: None, image: NewImage::new(), guard: Guard::new(), filling }
    }

    /// A size in bytes, larger than that of the image it is filled from; the rest reads as zero.
    pub fn with_size(mut self, size: u64) -> Self {
        self.size = Some(size);
        self
    }

    /// What the image is to be.
    pub fn with_image(mut self, image: NewImage) -> Self {
        self.image = image;
        self
    }
}

impl Operation for Make {
    type Planned = MakePlan;

    /// What making it would do. An image that it is filled from stays locked against writers as long as the plan
    /// lives.
    ///
    /// # Errors
    /// `Usage` when the format has no such disk (the limit is named), the name speaks of no format, or the filling is
    /// larger; `Refused` when something already stands at the target, a device is in use or not blank, the host has
    /// too little space, or the sectors of a partition table would change; `Io` when the folder is missing; otherwise
    /// as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let open = |(path, format): (PathBuf, _)| Chain::open(&path, &OpenOptions::of_format(format));
        let source = self.filling.map(open).transpose()?;
        let request = Request {
            operation: "make",
            target: &self.target,
            image: self.image,
            guard: &self.guard,
            size: self.size,
            source,
            input: None,
            shares: true,
            identity: Identity::Fresh,
            verify: false,
            raw_space: Space::Reserved,
        };
        Ok(MakePlan(NewDisk::plan(request)?))
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to make a disk.
pub struct MakePlan(NewDisk);

impl Planned for MakePlan {
    type Outcome = NewDiskOutcome;

    fn summary(&self) -> &Plan {
        &self.0.plan
    }

    /// Makes the disk. A file appears under its name only when it is complete and durable; a crash before leaves
    /// nothing there. A device that was begun shows no disk until all is durable.
    ///
    /// # Errors
    /// `Refused` when something appeared at the target since, or the source changed; `Unfinished` with the reason for
    /// a device that was begun; `Io`, `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        self.0.run(progress)
    }
}
