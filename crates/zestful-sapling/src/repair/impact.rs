//! What the damage of an image hits: which partitions, structures and files lie in what is lost, or doubtful.

use std::io;
use std::path::Path;
use std::sync::Arc;

use super::lenient::{LenientChain, Wanted};
use crate::error::{Error, Result};
use crate::finding::Losses;
use crate::guest::{Impact, TornDisk, impact};
use crate::image::Format;
use crate::progress::Progress;
use crate::ranges::Ranges;

/// Each look beyond the first begins with more that the host was found not to read.
const MOST_LOOKS: usize = 100;

/// What lies in the ranges of a disk that are lost, and in those that are doubtful.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct LossImpact {
    /// What lies in ranges of which nothing is left.
    pub lost: Impact,
    /// What lies in ranges that may be wrong.
    pub doubtful: Impact,
}

impl LossImpact {
    /// Whether it is certain that nothing but free space is touched.
    pub fn is_nothing_but_free(&self) -> bool {
        self.lost.is_nothing_but_free() && self.doubtful.is_nothing_but_free()
    }

    /// Looks into a disk as far as it can be read. Structures that lie in what is lost are not believed.
    pub(super) fn of(chain: LenientChain, losses: &Losses, progress: &Progress) -> Result<Self> {
        let LenientChain { chain, layers, content, .. } = chain;
        let (chain, mut lost) = (Arc::new(chain), losses.lost.clone());
        lost.join(&content.lost);
        // What the host cannot read comes to light when it is read, and stands there as zeros.
        for _ in 0..MOST_LOOKS {
            let disk = Arc::new(TornDisk::new(chain.clone(), lost.clone()));
            let of = |ranges: &Ranges| match ranges.is_empty() {
                true => Ok(Impact::default()),
                false => impact(disk.clone(), ranges, progress),
            };
            let found = Self { lost: of(&losses.lost)?, doubtful: of(&losses.doubtful)? };
            let before = lost.bytes();
            lost.join(&LenientChain::unread(&chain, &layers)?);
            if lost.bytes() == before {
                return Ok(found);
            }
        }
        let why = io::Error::other("more and more of it cannot be read");
        Err(Error::io("look into", chain.layers().first().map_or(Path::new(""), |layer| layer.path()), why))
    }
}

/// What the losses of the disk whose current image is at `path` hit. The chain is opened as
/// [`Salvage`](super::Salvage) opens it: mended in memory, and read as far as it can be. Nothing is written.
///
/// # Errors
/// As [`Salvage::plan`](super::Salvage); `Cancelled`.
pub fn impact_of_losses(
    path: &Path,
    format: Option<Format>,
    losses: &Losses,
    progress: &Progress,
) -> Result<LossImpact> {
    let wanted = Wanted { format, ..Wanted::default() };
    LossImpact::of(LenientChain::open(path, &wanted, progress)?, losses, progress)
}
