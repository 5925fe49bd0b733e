//! Where the blocks of a file are: a tree of extents, or, of older file systems, lists of blocks.

use super::volume::ExtVolume;
use super::{Inode, checksum};
use crate::bytes::{le_u16, le_u32};
use crate::guest::trouble::Trouble;

const EXTENT_MAGIC: u16 = 0xF30A;
const MOST_DEPTH: u16 = 5;
/// Both the header of a node and an entry.
const ENTRY: usize = 12;
/// Extents of more blocks than this are unwritten: they read as zero, whatever stands there.
const MOST_WRITTEN: u64 = 32768;
const DIRECT: usize = 12;

/// Blocks of a file that lie in a row on the volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::guest) struct Run {
    /// The first, counted in the file.
    pub(in crate::guest) file_block: u64,
    /// The first, counted on the volume.
    pub(in crate::guest) block: u64,
    pub(in crate::guest) count: u64,
}

/// What of a volume a file takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::guest) enum Part {
    /// Its content.
    Written(Run),
    /// What is kept for it, and reads as zero.
    Reserved(Run),
    /// A block of its map.
    Map(u64),
}

/// What a walk over a map has met so far: maps go upwards, and hold no more than the volume does.
struct Order<'a> {
    next: u64,
    left: u64,
    blocks: u64,
    /// The first block of the file that is not asked for.
    end: u64,
    parts: &'a mut Vec<Part>,
}

impl Order<'_> {
    fn run(&mut self, run: Run, part: fn(Run) -> Part) -> Result<(), Trouble> {
        if run.block == 0 || run.block.checked_add(run.count).is_none_or(|end| end > self.blocks) {
            return Err(damaged(format!("block {} of a file would lie at block {}", run.file_block, run.block)));
        }
        let left = self.left.checked_sub(run.count);
        self.left = left.ok_or_else(|| damaged("a file would hold more than the whole volume"))?;
        self.parts.push(part(run));
        Ok(())
    }

    /// What comes next begins here or later.
    fn reach(&mut self, first: u64, count: u64) -> Result<(), Trouble> {
        if first < self.next {
            return Err(damaged(format!("the map of a file comes back to block {first}")));
        }
        self.next = first.saturating_add(count);
        Ok(())
    }
}

fn damaged(what: impl Into<String>) -> Trouble {
    Trouble::Damaged(what.into())
}

impl ExtVolume {
    /// The blocks of a file that hold something, upwards; what lies between them reads as zero. Ends at the first
    /// damage, after what came before it.
    pub(in crate::guest) fn runs(
        &mut self,
        inode: &Inode,
        visit: &mut dyn FnMut(&mut Self, Run) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        let end = inode.size.div_ceil(self.block_len());
        self.walk_map(inode, end, &mut |volume, part| match part {
            Part::Written(run) => visit(volume, run),
            Part::Reserved(_) | Part::Map(_) => Ok(()),
        })
    }

    /// All that a file takes of the volume, what lies behind its end, too.
    pub(in crate::guest) fn parts(
        &mut self,
        inode: &Inode,
        visit: &mut dyn FnMut(Part) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        self.walk_map(inode, u64::MAX, &mut |_, part| visit(part))
    }

    fn walk_map(
        &mut self,
        inode: &Inode,
        end: u64,
        visit: &mut dyn FnMut(&mut Self, Part) -> Result<(), Trouble>,
    ) -> Result<(), Trouble> {
        // The visitor wants the volume that the walk reads from: a batch is gathered, then visited.
        let mut parts = Vec::new();
        let mut walk = MapWalk::new(inode)?;
        let (mut next, mut left) = (0, self.superblock().blocks);
        loop {
            let blocks = self.superblock().blocks;
            let mut order = Order { next, left, blocks, end, parts: &mut parts };
            let going_on = walk.step(self, inode, &mut order);
            (next, left) = (order.next, order.left);
            for part in parts.drain(..) {
                visit(self, part)?;
            }
            if !going_on? {
                return Ok(());
            }
        }
    }
}

/// A walk, node by node.
enum MapWalk {
    /// Nodes with the entry that comes next, the deepest last.
    Extents(Vec<(Vec<u8>, usize, u16)>),
    /// Lists that are still to be gone through, the next one last: block, first block of the file, level.
    Lists(Vec<(u64, u64, u32)>),
}

impl MapWalk {
    fn new(inode: &Inode) -> Result<Self, Trouble> {
        if inode.has_extents {
            let depth = node_depth(&inode.map)?;
            return Ok(Self::Extents(vec![(inode.map.to_vec(), 0, depth)]));
        }
        Ok(Self::Lists(Vec::new()))
    }

    /// One node or list more; `false` when there is none left.
    fn step(&mut self, volume: &mut ExtVolume, inode: &Inode, order: &mut Order<'_>) -> Result<bool, Trouble> {
        match self {
            Self::Extents(nodes) => step_extents(nodes, volume, inode, order),
            Self::Lists(lists) => step_lists(lists, volume, inode, order),
        }
    }
}

/// The depth of a node whose entries all lie inside of it.
fn node_depth(node: &[u8]) -> Result<u16, Trouble> {
    let (entries, depth) = (usize::from(le_u16(node, 2)), le_u16(node, 6));
    if le_u16(node, 0) != EXTENT_MAGIC || depth > MOST_DEPTH || (entries + 1) * ENTRY > node.len() {
        return Err(damaged("a node of a file's map is none"));
    }
    Ok(depth)
}

fn step_extents(
    nodes: &mut Vec<(Vec<u8>, usize, u16)>,
    volume: &mut ExtVolume,
    inode: &Inode,
    order: &mut Order<'_>,
) -> Result<bool, Trouble> {
    let Some((node, entry, depth)) = nodes.last_mut() else { return Ok(false) };
    let count = usize::from(le_u16(node, 2));
    if *depth == 0 {
        for entry in node[ENTRY..].chunks_exact(ENTRY).take(count) {
            let (first, len) = (u64::from(le_u32(entry, 0)), u64::from(le_u16(entry, 4)));
            let block = u64::from(le_u32(entry, 8)) | u64::from(le_u16(entry, 6)) << 32;
            let is_unwritten = len > MOST_WRITTEN;
            let len = if is_unwritten { len - MOST_WRITTEN } else { len };
            order.reach(first, len)?;
            if len == 0 {
                return Err(damaged("an extent of a file is empty"));
            }
            let part = if is_unwritten { Part::Reserved } else { Part::Written };
            order.run(Run { file_block: first, block, count: len }, part)?;
        }
        nodes.pop();
        return Ok(true);
    }
    if *entry == count {
        nodes.pop();
        return Ok(true);
    }
    *entry += 1;
    let child = &node[*entry * ENTRY..][..ENTRY];
    let block = u64::from(le_u32(child, 4)) | u64::from(le_u16(child, 8)) << 32;
    let expected = *depth - 1;
    let child = volume.block(block)?;
    // A node without entries would let a tree of them grow that is never gone through.
    if node_depth(&child)? != expected || le_u16(&child, 2) == 0 {
        return Err(damaged(format!("block {block} is not the node of a file's map that it should be")));
    }
    if volume.superblock().has_checksums {
        let end = (usize::from(le_u16(&child, 4)) + 1) * ENTRY;
        let right = child.get(end..end + 4).is_some_and(|tail| le_u32(tail, 0) == checksum(inode.seed, &child[..end]));
        if !right {
            return Err(damaged(format!("block {block}, of a file's map, does not match its checksum")));
        }
    }
    nodes.push((child, 0, expected));
    order.parts.push(Part::Map(block));
    Ok(true)
}

fn step_lists(
    lists: &mut Vec<(u64, u64, u32)>,
    volume: &mut ExtVolume,
    inode: &Inode,
    order: &mut Order<'_>,
) -> Result<bool, Trouble> {
    let per_list = volume.superblock().block / 4;
    let end = order.end;
    if order.next == 0 {
        let pointer = |number: usize| u64::from(le_u32(&inode.map, number * 4));
        let direct = DIRECT as u64;
        let starts = [direct, direct + per_list, direct + per_list + per_list * per_list];
        let levels = starts.into_iter().zip(1..);
        let levels = levels.map(|(first, level)| (pointer(DIRECT - 1 + level as usize), first, level));
        push_lists(lists, levels, end);
        let blocks: Vec<u64> = (0..DIRECT).map(pointer).collect();
        pointers(&blocks, 0, end, order)?;
        return Ok(true);
    }
    let Some((block, first, level)) = lists.pop() else { return Ok(false) };
    let bytes = volume.block(block)?;
    order.parts.push(Part::Map(block));
    let blocks: Vec<u64> = bytes.chunks_exact(4).map(|bytes| u64::from(le_u32(bytes, 0))).collect();
    if level == 1 {
        pointers(&blocks, first, end, order)?;
        return Ok(true);
    }
    let span = per_list.pow(level - 1);
    let deeper = blocks.iter().zip(0..).map(|(block, number): (&u64, u64)| (*block, first + number * span, level - 1));
    push_lists(lists, deeper, end);
    Ok(true)
}

/// Lists that hold something of the file, so that the first comes next.
fn push_lists(lists: &mut Vec<(u64, u64, u32)>, more: impl Iterator<Item = (u64, u64, u32)>, end: u64) {
    let before = lists.len();
    lists.extend(more.filter(|(block, first, _)| *block != 0 && *first < end));
    lists[before..].reverse();
}

/// Blocks one by one, as runs; what lies behind the end of the file is not its own.
fn pointers(blocks: &[u64], first: u64, end: u64, order: &mut Order<'_>) -> Result<(), Trouble> {
    let mut run: Option<Run> = None;
    for (block, file_block) in blocks.iter().zip(first..end) {
        match &mut run {
            Some(run) if *block == run.block + run.count => run.count += 1,
            _ => {
                if let Some(run) = run.take() {
                    order.run(run, Part::Written)?;
                }
                run = (*block != 0).then_some(Run { file_block, block: *block, count: 1 });
            }
        }
    }
    order.reach(first, blocks.len() as u64)?;
    run.map_or(Ok(()), |run| order.run(run, Part::Written))
}
