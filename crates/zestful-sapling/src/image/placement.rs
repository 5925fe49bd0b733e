//! How the blocks of an image stand in its file.

use std::ops::Range;

use schemars::JsonSchema;
use serde::Serialize;

/// What hosts lay files out in.
pub(super) const HOST_BLOCK: u64 = 4096;

/// How the blocks of an image are to stand in its file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Arrangement {
    /// They stay, and the host is given back what none of them uses, where it keeps holes in files.
    Kept,
    /// Those at the end of the file fill the gaps before them.
    Packed,
    /// The same, and then they stand in the order of the disk.
    InOrder,
}

/// How the blocks of an image stand in its file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Placement {
    /// Blocks that have a place.
    pub blocks: u64,
    /// The length of the file in bytes.
    pub file_len: u64,
    /// The length in bytes that the file has when its gaps are filled.
    pub packed_len: u64,
    /// Blocks that do not stand right behind the one that comes before them on the disk: whoever reads the disk from
    /// end to end jumps there on the host.
    pub jumps: u64,
    /// Those of them that stand before the one that comes before them on the disk: none in a file that is in order.
    pub backward: u64,
}

impl Placement {
    /// Notes the block that comes next on the disk; blocks take `stride` bytes of the file.
    pub(super) fn note(&mut self, last: &mut Option<u64>, place: u64, stride: u64) {
        // Blocks may begin where those of the host do.
        let near = |last: u64| place.checked_sub(last.saturating_add(stride)).is_some_and(|gap| gap < HOST_BLOCK);
        let follows = last.is_some_and(near);
        self.jumps = self.jumps.saturating_add(u64::from(!follows && last.is_some()));
        self.backward = self.backward.saturating_add(u64::from(last.is_some_and(|last| place < last)));
        self.blocks = self.blocks.saturating_add(1);
        *last = Some(place);
    }
}

/// A block and where it stands, in units of its image's places.
#[derive(Clone, Copy, Debug)]
pub(super) struct Placed {
    pub(super) block: u32,
    pub(super) place: u32,
}

/// A place in bytes.
pub(super) fn in_bytes(place: u32, unit: u64) -> u64 {
    u64::from(place).saturating_mul(unit)
}

/// How long a file is in which blocks have filled the gaps before them, the last first. `places` are those of the
/// blocks that may move, in order; `gaps` are in order, too, and `place_in` finds a place in one of them.
pub(super) fn packed_end(
    mut places: Vec<u32>,
    unit: u64,
    stride: u64,
    gaps: impl IntoIterator<Item = Range<u64>>,
    place_in: impl Fn(&Range<u64>) -> Option<u64>,
) -> u64 {
    let mut gaps = gaps.into_iter();
    let mut gap = gaps.next();
    while let (Some(last), Some(room)) = (places.last().map(|place| in_bytes(*place, unit)), &mut gap) {
        match place_in(room).map(|place| place.saturating_add(stride)) {
            None => gap = gaps.next(),
            Some(end) if end > last => break,
            Some(end) => {
                room.start = end;
                places.pop();
            }
        }
    }
    places.last().map_or(0, |place| in_bytes(*place, unit).saturating_add(stride))
}
