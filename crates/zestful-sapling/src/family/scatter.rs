//! How scattered a file is.

use schemars::JsonSchema;
use serde::Serialize;

use crate::image::{Image, Placement};
use crate::storage::host_pieces;

const GIB: u64 = 1 << 30;

/// How scattered the blocks of an image are in its file, and the file on its host: what reading the disk from end to
/// end is slowed down by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Scatter {
    /// Blocks that do not stand right behind the one that comes before them on the disk.
    pub jumps: u64,
    /// Those in each GiB of blocks.
    pub jumps_per_gib: u64,
    /// Those that stand before it: none in a file that is in order.
    pub backward: u64,
    /// Pieces in which the host keeps the file; `None` where it does not tell.
    pub host_pieces: Option<u32>,
}

impl Scatter {
    /// Of an image whose table takes `most` bytes at most; `None` when it has no blocks that could stand elsewhere.
    pub(crate) fn of(image: &dyn Image, most: u64) -> Option<Self> {
        let (placement, block) = (image.placement(most, false).ok()??, image.info().block_size?);
        Some(Self { host_pieces: host_pieces(image.path()), ..Self::of_placement(&placement, block) })
    }

    /// Of blocks of this size, in bytes.
    pub fn of_placement(placement: &Placement, block: u64) -> Self {
        let Placement { blocks, jumps, backward, .. } = *placement;
        let held = u128::from(blocks) * u128::from(block);
        let per_gib = (u128::from(jumps) * u128::from(GIB)).checked_div(held).unwrap_or(0);
        Self { jumps, jumps_per_gib: u64::try_from(per_gib).unwrap_or(u64::MAX), backward, host_pieces: None }
    }
}
