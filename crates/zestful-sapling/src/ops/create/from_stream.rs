//! A new disk from bytes that come one after the other, as from a pipe.

use std::io::Read;
use std::path::PathBuf;

use super::input::Input;
use super::new_disk::{Identity, NewDisk, NewDiskOutcome, Request};
use super::new_image::NewImage;
use crate::error::Result;
use crate::family::Guard;
use crate::image::Space;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;

/// A disk to be made of the bytes that an input gives, which is read once, as a raw disk.
///
/// What it can be allowed to do all the same: [`Ending`](crate::family::Override::Ending),
/// [`DeviceContent`](crate::family::Override::DeviceContent).
#[derive(Clone)]
pub struct CopyStream {
    input: Input,
    target: PathBuf,
    size: u64,
    image: NewImage,
    guard: Guard,
    verify: bool,
}

impl CopyStream {
    /// A disk of `size` bytes at `target`, a new file or a block device, with what `input` gives. An input that says
    /// `WouldBlock` is asked again; one that does so now and then can be cancelled while it has nothing to give.
    ///
    /// ```
    /// use zestful_sapling::ops::{CopyStream, Operation, Planned};
    /// use zestful_sapling::progress::Progress;
    /// let folder = tempfile::tempdir().unwrap();
    /// let bytes = vec![7u8; 1 << 20];
    /// let copy = CopyStream::new(std::io::Cursor::new(bytes), folder.path().join("records.vhdx"), 1 << 20);
    /// copy.plan().unwrap().run(&Progress::new()).unwrap();
    /// ```
    pub fn new(input: impl Read + Send + 'static, target: impl Into<PathBuf>, size: u64) -> Self {
        let (input, image) = (Input::new(input), NewImage::new());
        Self { input, target: target.into(), size, image, guard: Guard::new(), verify: false }
    }

    /// What the image is to be, as for a copy.
    pub fn with_image(mut self, image: NewImage) -> Self {
        self.image = image;
        self
    }

    /// Reads the disk back, and compares it by digest with what came in, before it appears.
    pub fn with_verify(mut self, verify: bool) -> Self {
        self.verify = verify;
        self
    }
}

impl Operation for CopyStream {
    type Planned = CopyStreamPlan;

    /// What copying would do. Nothing is read yet.
    ///
    /// # Errors
    /// As of a copy: `Refused` when something stands at the target, a device is in use or not blank, or the host cannot
    /// hold all of it; `Usage` when the format has no such disk.
    fn plan(self) -> Result<Self::Planned> {
        let request = Request {
            operation: "copy",
            target: &self.target,
            image: self.image,
            guard: &self.guard,
            size: Some(self.size),
            source: None,
            input: Some(self.input),
            shares: false,
            identity: Identity::Fresh,
            verify: self.verify,
            raw_space: Space::Sparse,
        };
        Ok(CopyStreamPlan(NewDisk::plan(request)?))
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to make a disk of an input.
pub struct CopyStreamPlan(NewDisk);

impl Planned for CopyStreamPlan {
    type Outcome = NewDiskOutcome;

    fn summary(&self) -> &Plan {
        &self.0.plan
    }

    /// Reads the input to its end. A file appears under its name only when it is complete and durable; a crash before
    /// leaves nothing there. An input cannot be read twice: after a failure it has to be given anew.
    ///
    /// # Errors
    /// `Usage` when the input is shorter or longer than the disk, `Refused` when something appeared at the target
    /// since; `Unfinished` with the reason for a device that was begun; `VerifyFailed`, `Io`, `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        self.0.run(progress)
    }
}
