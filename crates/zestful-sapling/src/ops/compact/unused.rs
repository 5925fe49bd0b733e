//! What of a disk the file systems on it mark as free.

use std::ops::Range;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::grains::Grains;
use crate::chain::Disk;
use crate::error::{Error, Result};
use crate::guest::{PartitionProblem, Volume, free_space, volumes};
use crate::progress::Progress;

/// A volume of which nothing is given back for what its file system says, and why. Sizes and places are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct KeptVolume {
    /// Its number among the volumes of the disk.
    pub number: u32,
    /// What it is, in words.
    pub volume: String,
    /// Its length.
    pub len: u64,
    /// Why what is free in it stays.
    pub why: String,
}

/// What of a disk means nothing to anybody.
pub(super) struct Unused {
    pub(super) free: Grains,
    /// The volumes of which every part is either free or in use.
    understood: Vec<Range<u64>>,
    pub(super) kept: Vec<KeptVolume>,
}

impl Unused {
    /// Nothing, where that is not asked.
    pub(super) fn nothing(grain: u64) -> Self {
        Self { free: Grains::of(grain), understood: Vec::new(), kept: Vec::new() }
    }

    /// Asks the file systems: not what lies outside of volumes, where boot loaders live, nor volumes about which there
    /// is any doubt.
    pub(super) fn of(disk: &Arc<dyn Disk>, grain: u64, progress: &Progress) -> Result<Self> {
        let mut unused = Self::nothing(grain);
        let found = volumes(&**disk)?;
        let is_harmless = |problem: &&PartitionProblem| !matches!(problem, PartitionProblem::BeforeEnd(_));
        let problem = found.problems.iter().find(is_harmless);
        for volume in &found.volumes {
            progress.begin(format!("asking volume {} what is free", volume.number), 0);
            let doubt = match problem {
                Some(problem) => Err(format!("the partition table cannot be relied on: {problem}")),
                None => unused.ask(disk, volume, progress)?,
            };
            match doubt {
                Ok(()) => unused.understood.push(volume.start..volume.start.saturating_add(volume.len)),
                Err(why) => unused.kept.push(KeptVolume {
                    number: volume.number,
                    volume: volume.to_string(),
                    len: volume.len,
                    why,
                }),
            }
        }
        Ok(unused)
    }

    /// Adds what is free in a volume, or tells why nothing is.
    fn ask(&mut self, disk: &Arc<dyn Disk>, volume: &Volume, progress: &Progress) -> Result<Asked> {
        if volume.content.as_ref().is_some_and(|content| !content.also.is_empty()) {
            return Ok(Err("it bears the marks of more than one file system".to_owned()));
        }
        let (free, size) = (&mut self.free, disk.virtual_size());
        let mut last = 0..0;
        let told = free_space(disk.clone(), volume, progress, &mut |range| {
            // Parts that touch count as one, so that none is lost to rounding between them.
            if range.start != last.end {
                free.add_inside(&last, size);
                last.start = range.start;
            }
            last.end = range.end;
            progress.check()
        });
        match told {
            Ok(()) => {
                self.free.add_inside(&last, size);
                Ok(Ok(()))
            }
            Err(Error::Inside(problem)) => Ok(Err(problem.kind.to_string())),
            Err(error) => Err(error),
        }
    }

    /// Whether there was nobody to ask.
    pub(super) fn knows_nothing(&self) -> bool {
        self.understood.is_empty() && self.kept.is_empty()
    }

    /// Whether a file system says that this byte is in use.
    pub(super) fn is_in_use(&self, offset: u64) -> bool {
        !self.free.has(offset) && self.understood.iter().any(|volume| volume.contains(&offset))
    }
}

type Asked = std::result::Result<(), String>;
