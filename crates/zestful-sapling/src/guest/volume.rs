//! The volumes of a disk: its partitions, or the disk itself, and what they hold.

use std::path::Path;

use super::content::{Content, identify};
use super::partition::{Partition, PartitionProblem};
use super::partitions::read;
use super::table::PartitionTable;
use super::view::{View, of_disk, of_shared};
use crate::chain::{Disk, SharedDisk};
use crate::error::{Error, Result};
use crate::size::format_size;

/// The volumes of a disk.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Volumes {
    /// The partition table, if there is one.
    pub table: Option<PartitionTable>,
    /// The volumes in the order of the table; without one the disk itself, when something is known of what it holds.
    pub volumes: Vec<Volume>,
    /// What is wrong with the table, and which of its partitions are left out.
    pub problems: Vec<PartitionProblem>,
}

impl Volumes {
    /// The volume of this number; without one the only volume, or the only one whose files can be read. `disk` is how
    /// messages name the disk.
    ///
    /// # Errors
    /// `Usage`, with all that there are.
    pub fn pick(&self, disk: &Path, number: Option<u32>) -> Result<&Volume> {
        let all = || self.volumes.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ");
        let with_files = || self.volumes.iter().filter(|volume| volume.has_readable_files());
        let only = match (number, &self.volumes[..], with_files().count()) {
            (Some(number), volumes, _) => volumes.iter().find(|volume| volume.number == number),
            (None, [only], _) => Some(only),
            (None, _, 1) => with_files().next(),
            _ => None,
        };
        let disk = disk.display();
        only.ok_or_else(|| match (number, self.volumes.len()) {
            (_, 0) => Error::usage(
                format!("{disk} has no volumes: there is neither a partition table nor a file system that is known"),
                "it may be empty, or another disk of the machine, or another checkpoint, may be meant",
            ),
            (Some(number), count) => Error::usage(
                format!("there is no volume {number} on {disk}, which has {count}: {}", all()),
                "name one of them",
            ),
            (None, count) => {
                Error::usage(format!("{disk} has {count} volumes: {}", all()), "say which of them is meant")
            }
        })
    }
}

/// A part of a disk that may hold a file system. Sizes and places are in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Volume {
    /// Volumes are counted from 1, in the order of the table.
    pub number: u32,
    /// Its first byte on the disk.
    pub start: u64,
    /// Its length.
    pub len: u64,
    /// Its partition; none when it is the whole disk.
    pub partition: Option<Partition>,
    /// What it holds, if its signature is known.
    pub content: Option<Content>,
}

impl Volume {
    pub(super) fn has_readable_files(&self) -> bool {
        self.content.as_ref().is_some_and(|content| content.file_system.has_readable_files())
    }
}

impl std::fmt::Display for Volume {
    /// Its number, what it holds, its label and its size.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} (", self.number)?;
        match (&self.content, &self.partition) {
            (Some(content), _) => write!(f, "{}", content.file_system)?,
            (None, Some(partition)) => write!(f, "{}, nothing that is known", partition.kind)?,
            (None, None) => write!(f, "nothing that is known")?,
        }
        if let Some(label) = self.content.as_ref().and_then(|content| content.label.as_ref()) {
            write!(f, ", {label}")?;
        }
        write!(f, ", {})", format_size(self.len))
    }
}

/// The volumes of a disk, read anew: tables, signatures and the figures of superblocks, and bitmaps of up to 64 MiB.
/// What is in it was written by whoever used the disk.
///
/// ```
/// use zestful_sapling::chain::{Chain, OpenOptions};
/// use zestful_sapling::guest::volumes;
/// use zestful_sapling::ops::{Make, Operation, Planned};
/// use zestful_sapling::progress::Progress;
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let folder = tempfile::tempdir()?;
/// let path = folder.path().join("herbarium.vhdx");
/// Make::new(&path, 1 << 30).plan()?.run(&Progress::new())?;
/// let found = volumes(&Chain::open(&path, &OpenOptions::new())?)?;
/// assert!(found.table.is_none() && found.volumes.is_empty());
/// # Ok(())
/// # }
/// ```
///
/// # Errors
/// As [`Disk::read_at`].
pub fn volumes(disk: &dyn Disk) -> Result<Volumes> {
    of_disk(disk, |view| volumes_of(view, true))
}

/// The same without what must be counted through: for whoever wants to know what is there, and not how full it is.
pub(crate) fn volumes_uncounted(disk: &dyn Disk) -> Result<Volumes> {
    of_disk(disk, |view| volumes_of(view, false))
}

/// The same of a disk that several use at once.
pub(crate) fn volumes_of_shared(disk: &SharedDisk) -> Result<Volumes> {
    of_shared(disk, |view| volumes_of(view, false))
}

/// The same as somebody sees a disk.
pub(super) fn volumes_of(view: &View<'_>, count: bool) -> Result<Volumes> {
    let found = read(view)?;
    let (table, problems) = (found.table, found.problems);
    if table.is_none() {
        let whole = identify(view, count)?.map(|content| Volume {
            number: 1,
            start: 0,
            len: view.size,
            partition: None,
            content: Some(content),
        });
        return Ok(Volumes { table, volumes: Vec::from_iter(whole), problems });
    }
    let volume = |(number, partition): (u32, Partition)| {
        let content = identify(&view.part(partition.start, partition.len), count)?;
        let content = content.or_else(|| partition.kind.is_pool().then(Content::of_pool));
        Ok(Volume { number, start: partition.start, len: partition.len, partition: Some(partition), content })
    };
    let volumes = (1..).zip(found.usable).map(volume).collect::<Result<_>>()?;
    Ok(Volumes { table, volumes, problems })
}
