//! Copies of a disk into a new image: conversion, and the flattening of a chain.

use std::path::{Path, PathBuf};

use super::new_disk::{Identity, NewDisk, NewDiskOutcome, Request};
use super::new_image::NewImage;
use crate::chain::{Chain, OpenOptions};
use crate::error::Result;
use crate::family::Guard;
use crate::image::{Format, Space};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;

/// A disk to be copied. The whole chain is read; the copy is one image without a parent.
///
/// What it can be allowed to do all the same: [`Ending`](crate::family::Override::Ending),
/// [`Sectors`](crate::family::Override::Sectors), [`DeviceContent`](crate::family::Override::DeviceContent), and
/// [`InUse`](crate::family::Override::InUse) for the source.
#[derive(Clone, Debug)]
pub struct CopyDisk {
    source: PathBuf,
    source_format: Option<Format>,
    target: PathBuf,
    image: NewImage,
    guard: Guard,
    identity: Identity,
    verify: bool,
}

impl CopyDisk {
    /// The disk that `source` is the current image of, into a new file or onto a block device. The source may be a
    /// block device or the descriptor of a disk in pieces, too.
    pub fn new(source: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        Self {
            source: source.into(),
            source_format: None,
            target: target.into(),
            image: NewImage::new(),
            guard: Guard::new(),
            identity: Identity::Fresh,
            verify: false,
        }
    }

    /// The source's format, whatever its signature says.
    pub fn with_source_format(mut self, format: Format) -> Self {
        self.source_format = Some(format);
        self
    }

    /// What the copy is to be: its format that of its name, dynamic where it has that, a fixed raw one sparse, unless
    /// something else is asked for.
    pub fn with_image(mut self, image: NewImage) -> Self {
        self.image = image;
        self
    }

    /// The same, to another place.
    pub(crate) fn at(mut self, target: &Path) -> Self {
        self.target = target.to_owned();
        self
    }

    /// Whether the copy has an identity of its own.
    pub fn with_identity(mut self, identity: Identity) -> Self {
        self.identity = identity;
        self
    }

    /// Reads the copy back, from the host's disk where the host lets us, and compares it by digest before it appears.
    pub fn with_verify(mut self, verify: bool) -> Self {
        self.verify = verify;
        self
    }
}

impl Operation for CopyDisk {
    type Planned = CopyDiskPlan;

    /// What copying would do. The source and its parents stay locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// `Refused` when something stands at the target, a device is in use or not blank, the host cannot hold what is
    /// allocated in the source, or the sectors of a partition table would change; `Usage` when the target's format has
    /// no such disk; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let source = Chain::open(&self.source, &OpenOptions::of_format(self.source_format))?;
        let request = Request {
            operation: "copy",
            target: &self.target,
            image: self.image,
            guard: &self.guard,
            size: None,
            source: Some(source),
            input: None,
            shares: true,
            identity: self.identity,
            verify: self.verify,
            raw_space: Space::Sparse,
        };
        Ok(CopyDiskPlan(NewDisk::plan(request)?))
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A copy of a disk whose layers are open already, as part of other work, and of which not all bytes stand in files.
pub(crate) fn copy_of(
    operation: &'static str,
    source: Chain,
    target: &Path,
    image: NewImage,
    guard: &Guard,
) -> Result<CopyDiskPlan> {
    let request = Request {
        operation,
        target,
        image,
        guard,
        size: None,
        source: Some(source),
        input: None,
        shares: false,
        identity: Identity::Fresh,
        verify: false,
        raw_space: Space::Sparse,
    };
    Ok(CopyDiskPlan(NewDisk::plan(request)?))
}

impl CopyDiskPlan {
    /// The disk that is copied.
    pub(crate) fn source(&self) -> Option<&Chain> {
        self.0.source()
    }
}

/// A checked plan to copy a disk.
pub struct CopyDiskPlan(NewDisk);

impl Planned for CopyDiskPlan {
    type Outcome = NewDiskOutcome;

    fn summary(&self) -> &Plan {
        &self.0.plan
    }

    /// Copies the disk. The copy appears under its name only when it is complete and durable; stopped, failed or
    /// killed before, nothing stands there. A device that was begun shows no disk until all is durable.
    ///
    /// # Errors
    /// `Cancelled`; `Damaged` when a block of the source cannot be read; `Refused` when something appeared at the
    /// target since, or another program changed the source; `Unfinished` with the reason for a device that was begun;
    /// `Io`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        self.0.run(progress)
    }
}
