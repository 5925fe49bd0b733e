//! What is damaged in the block allocation table is put right.
//!
//! A block whose bytes are gone reads as zero afterwards, never as what the parent holds: what is lost is to be seen. A
//! child cannot say so without a block, which takes space for it.

use std::cmp::Reverse;
use std::sync::Arc;

use super::SECTOR;
use super::bitmap::fill;
use super::layout::{Blocks, Layout, UNUSED};
use super::mend_footer::{move_footer, room_behind};
use crate::bytes::{fit_u32, index, wide};
use crate::error::Result;
use crate::finding::{Losses, VhdFinding};
use crate::image::{Mended, counted};
use crate::progress::Progress;
use crate::ranges::Ranges;
use crate::storage::{Overlay, ReadAt, Storage};

/// How far apart neighbours in the file may stand: some programs align what they write.
const MOST_GAP: u64 = 4096;
/// New blocks for what was lost in a child.
const MOST_BLOCKS: usize = 1 << 16;
/// Blocks that are wrong in one way: more are not kept in memory meanwhile.
const MOST_WRONG: usize = 1 << 18;

/// Mends all entries that break the same rule as `kind` says; `None` where nothing says how.
pub(super) fn mend(storage: &Arc<Overlay>, kind: &VhdFinding, progress: &Progress) -> Result<Option<Mended>> {
    progress.check()?;
    let layout = Layout::read_unjudged(&**storage, &mut Vec::new())?;
    let end = layout.data_end(storage.len()?);
    let Some(blocks) = layout.blocks else { return Ok(None) };
    match kind {
        VhdFinding::BlockOutside { .. } => end_inside(storage, &blocks, end),
        VhdFinding::BlockOverlap { .. } => leave_structures(storage, &blocks),
        VhdFinding::BlocksShare { .. } => choose_owners(storage, &blocks, end),
        _ => Ok(None),
    }
}

fn used(blocks: &Blocks) -> impl Iterator<Item = (u64, u64)> {
    (0..wide(blocks.table.len())).filter_map(|block| Some((block, blocks.place(block)?)))
}

/// Zeros stand for these blocks from now on.
fn give_up(storage: &Arc<Overlay>, blocks: &Blocks, gone: &[u64], content: &mut Losses) -> Result<()> {
    if blocks.parent.is_some() && gone.len() > MOST_BLOCKS {
        return Err(storage.too_much());
    }
    for block in gone {
        let range = blocks.range_of(*block);
        content.lose(range);
        let entry = match blocks.parent {
            None => UNUSED,
            Some(_) => fit_u32(zero_block(storage, blocks)? / SECTOR),
        };
        storage.write_at(&entry.to_be_bytes(), blocks.entry_at(*block))?;
    }
    Ok(())
}

/// A new block, of which every sector is this layer's and zero.
fn zero_block(storage: &Arc<Overlay>, blocks: &Blocks) -> Result<u64> {
    let shape = blocks.shape;
    let place = room_behind(storage, shape.stride(), |from| shape.aligned(from))?;
    let mut bitmap = vec![0; index(shape.bitmap_len)];
    fill(&mut bitmap, 0, shape.sectors());
    storage.write_at(&bitmap, place)?;
    Ok(place)
}

/// Blocks that begin inside the file, with their bitmap, are completed with zeros; others are given up.
fn end_inside(storage: &Arc<Overlay>, blocks: &Blocks, end: u64) -> Result<Option<Mended>> {
    let shape = blocks.shape;
    let outside = used(blocks).filter(|(_, place)| place.saturating_add(shape.stride()) > end);
    let outside = outside.filter(|(_, place)| blocks.structure_at(*place).is_none());
    let outside: Vec<(u64, u64)> = outside.take(MOST_WRONG).collect();
    if outside.len() == MOST_WRONG {
        return Err(storage.too_much());
    }
    let (cut, gone): (Vec<_>, Vec<_>) =
        outside.into_iter().partition(|(_, place)| place.saturating_add(shape.bitmap_len) <= end);
    let mut content = Losses::default();
    if let Some(stop) = cut.iter().map(|(_, place)| place.saturating_add(shape.stride())).max() {
        move_footer(storage, stop)?;
    }
    cut.iter().for_each(|(block, _)| content.lose(blocks.cut_at(*block, end)..blocks.range_of(*block).end));
    let gone: Vec<u64> = gone.into_iter().map(|(block, _)| block).collect();
    give_up(storage, blocks, &gone, &mut content)?;
    let complete =
        format!("complete {} with zeros: the end of the file was cut", counted(cut.len(), "block", "blocks"));
    let give_up =
        format!("give up {} behind the end of the data: zeros stand there", counted(gone.len(), "block", "blocks"));
    let what = match (cut.len(), gone.len()) {
        (0, 0) => return Ok(None),
        (0, _) => give_up,
        (_, 0) => complete,
        _ => format!("{complete}; {give_up}"),
    };
    Ok(Some(Mended::new("vhd-block-outside", what).touching(content)))
}

fn leave_structures(storage: &Arc<Overlay>, blocks: &Blocks) -> Result<Option<Mended>> {
    let over = used(blocks).filter(|(_, place)| blocks.structure_at(*place).is_some()).map(|(block, _)| block);
    let over: Vec<u64> = over.take(MOST_WRONG).collect();
    if over.len() == MOST_WRONG {
        return Err(storage.too_much());
    }
    let mut content = Losses::default();
    give_up(storage, blocks, &over, &mut content)?;
    let what =
        format!("give up {} over structures of the file: zeros stand there", counted(over.len(), "block", "blocks"));
    Ok((!over.is_empty()).then(|| Mended::new("vhd-block-overlap", what).touching(content)))
}

/// Of blocks that claim one place the one keeps it that stands among its neighbours.
fn choose_owners(storage: &Arc<Overlay>, blocks: &Blocks, end: u64) -> Result<Option<Mended>> {
    let stride = blocks.shape.stride();
    let is_sound = |place: u64| place.saturating_add(stride) <= end && blocks.structure_at(place).is_none();
    let mut placed: Vec<u32> = used(blocks).filter(|(_, at)| is_sound(*at)).map(|(block, _)| fit_u32(block)).collect();
    let place = |block: u32| blocks.place(block.into()).unwrap_or_default();
    placed.sort_unstable_by_key(|block| (place(*block), *block));
    let shares = |one: u32, other: u32| place(one).abs_diff(place(other)) < stride;
    let mut claimants: Vec<(u32, u32)> = Vec::new();
    for (number, block) in placed.iter().copied().enumerate() {
        let before = number.checked_sub(1).and_then(|number| placed.get(number));
        let behind = number.checked_add(1).and_then(|number| placed.get(number));
        if before.into_iter().chain(behind).any(|other| shares(block, *other)) {
            claimants.push((neighbours(blocks, block.into(), place(block)), block));
        }
        if claimants.len() == MOST_WRONG {
            return Err(storage.too_much());
        }
    }
    claimants.sort_unstable_by_key(|(neighbours, block)| (Reverse(*neighbours), *block));
    let (mut content, mut kept, mut gone, mut first) = (Losses::default(), Ranges::default(), Vec::new(), None);
    for (neighbours, block) in claimants {
        let range = place(block)..place(block).saturating_add(stride);
        if kept.within(range.clone()).next().is_some() {
            gone.push(u64::from(block));
            continue;
        }
        kept.add(range);
        content.doubt(blocks.range_of(block.into()));
        first.get_or_insert_with(|| {
            let why = match neighbours {
                0 => "the first of them in the table",
                _ => "its neighbours in the table are its neighbours in the file",
            };
            format!("block {block} keeps the place at {}: {why}", place(block))
        });
    }
    let Some(first) = first.filter(|_| !gone.is_empty()) else { return Ok(None) };
    give_up(storage, blocks, &gone, &mut content)?;
    let blocks = counted(gone.len(), "block", "blocks");
    let what = format!("give up {blocks} with a place that others claim as well, zeros stand there; {first}");
    Ok(Some(Mended::new("vhd-blocks-share", what).touching(content)))
}

fn neighbours(blocks: &Blocks, block: u64, place: u64) -> u32 {
    let stride = blocks.shape.stride();
    let is_near = |low: Option<u64>, high: Option<u64>| match (low, high) {
        (Some(low), Some(high)) => {
            high.checked_sub(low).is_some_and(|gap| (stride..=stride.saturating_add(MOST_GAP)).contains(&gap))
        }
        _ => false,
    };
    let before = block.checked_sub(1).and_then(|block| blocks.place(block));
    let behind = block.checked_add(1).and_then(|block| blocks.place(block));
    u32::from(is_near(before, Some(place))).saturating_add(u32::from(is_near(Some(place), behind)))
}
