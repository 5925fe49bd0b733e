//! What must be written into one image of a chain so that others can go: ranges told from tables, a batch at a time, so
//! that memory stays bounded and the work can be carried on from between two batches.

use crate::bytes::{data_runs, is_zero};
use crate::chain::{Chain, Comparison, DataExtent, Disk, DiskSide, Origin, Part, Walk, split_by_holes};
use crate::error::Result;
use crate::image::{Image, ImageMut, Source};
use crate::progress::Progress;

use super::pipeline::{self, Chunk, Feed};

/// Ranges in a batch at most.
const MOST_TASKS: usize = 8192;
/// Content is compared in units of this.
const GRAIN: usize = 4096;
const CHUNK: u64 = 1 << 20;
/// Bytes that are counted at a time: of a file full of holes each is a range in memory.
const COUNTED: u64 = 4 << 30;

/// A range that is to be written.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Task {
    pub(crate) offset: u64,
    pub(crate) len: u64,
    from: TaskSource,
}

#[derive(Clone, Copy, Debug)]
enum TaskSource {
    /// From this layer's file, from this byte on.
    Data(usize, u64),
    /// From whatever layers have it.
    Disk,
    Zeros,
}

impl Task {
    pub(crate) fn is_data(&self) -> bool {
        !matches!(self.from, TaskSource::Zeros)
    }
}

/// Ranges in order, and up to which byte of the disk that is all.
pub(crate) struct Batch {
    pub(crate) tasks: Vec<Task>,
    pub(crate) upto: u64,
    bytes: u64,
}

impl Batch {
    fn new(from: u64) -> Self {
        Self { tasks: Vec::new(), upto: from, bytes: 0 }
    }

    fn push(&mut self, offset: u64, len: u64, from: TaskSource) {
        let task = Task { offset, len, from };
        self.bytes += if task.is_data() { len } else { 0 };
        self.tasks.push(task);
    }

    /// An extent of a layer, its holes as zeros.
    fn push_extent(&mut self, chain: &Chain, number: usize, at: u64, offset: u64, len: u64) -> Result<()> {
        let layer = &*chain.layers()[number];
        split_by_holes(DataExtent { layer, at, offset, len }, |part| {
            match part {
                Part::Data(data) => self.push(data.offset, data.len, TaskSource::Data(number, data.at)),
                Part::Zeros(range) => self.push(range.start, range.end - range.start, TaskSource::Zeros),
            }
            Ok(())
        })
    }

    fn is_full(&self, most_bytes: u64) -> bool {
        self.tasks.len() >= MOST_TASKS || self.bytes >= most_bytes
    }
}

/// What is to go where.
pub(crate) enum Delta<'a> {
    /// All that these layers hold, over one another, into the image below them.
    Down { upper: &'a Chain },
    /// Into a child that changes its parent: what it reads through `old` and would read otherwise through `new`.
    Up {
        old: &'a DiskSide,
        new: &'a DiskSide,
        /// Whether contents are compared where the places differ.
        compare: bool,
    },
}

impl Delta<'_> {
    /// What comes at byte `from` of the disk and behind it; `target` is the image to be written into.
    pub(crate) fn batch(&self, target: &dyn Image, from: u64, most_bytes: u64) -> Result<Batch> {
        match self {
            Self::Down { upper } => down(upper, target, from, most_bytes),
            Self::Up { old, new, compare } => up(target, old, new, *compare, from, most_bytes),
        }
    }

    /// Writes a batch into the image; what was written becomes durable with its next flush.
    pub(crate) fn run(&self, batch: &Batch, target: &mut dyn ImageMut, progress: &Progress) -> Result<u64> {
        // Through the image's own latch: a loss that the host reports to this thread is final for the image.
        let syncer = target.syncer();
        let read = |feed: &mut Feed<'_>| batch.tasks.iter().try_for_each(|task| self.read(task, feed, progress));
        let write = |chunk: &Chunk| pipeline::write_into(target, chunk, progress);
        pipeline::run(read, write, || syncer.sync(), progress).map(|(written, ())| written)
    }

    fn read(&self, task: &Task, feed: &mut Feed<'_>, progress: &Progress) -> Result<()> {
        let range = task.offset..task.offset + task.len;
        let source = match self {
            Self::Down { upper } => Some(*upper),
            Self::Up { old, new, compare } => {
                // Over nothing zeros need not be written; that costs no second read.
                if *compare || new.chain().is_none() {
                    return match task.from {
                        TaskSource::Zeros => zeros_over(new, task, feed, progress),
                        _ => read_differing(old, new, task, feed, progress),
                    };
                }
                old.chain()
            }
        };
        match (task.from, source) {
            (TaskSource::Data(layer, at), Some(chain)) => {
                let layer = &*chain.layers()[layer];
                feed.extent(&DataExtent { layer, at, offset: task.offset, len: task.len })
            }
            (TaskSource::Disk, Some(chain)) => {
                feed.read(task.offset, task.len, |bytes, done| chain.read_at(bytes, task.offset + done))
            }
            _ => feed.zeros(range),
        }
    }
}

/// Reads a range of both and gives on what is not the same; what is counts as done.
fn read_differing(old: &DiskSide, new: &DiskSide, task: &Task, feed: &mut Feed<'_>, progress: &Progress) -> Result<()> {
    let (mut before, mut after) = (Vec::new(), Vec::new());
    let mut done = 0;
    while done < task.len {
        let at = task.offset + done;
        let step = (CHUNK - at % CHUNK).min(task.len - done);
        progress.check()?;
        before.resize(step as usize, 0);
        after.resize(step as usize, 0);
        old.read_at(&mut before, at)?;
        new.read_at(&mut after, at)?;
        let mut from = 0;
        while from < before.len() {
            let same = |at: &usize| {
                let end = (at + GRAIN).min(before.len());
                before[*at..end] == after[*at..end]
            };
            let zero = |at: &usize| is_zero(&before[*at..(at + GRAIN).min(before.len())]);
            let (is_same, is_empty) = (same(&from), zero(&from));
            let next = (from..before.len()).step_by(GRAIN).find(|at| same(at) != is_same || zero(at) != is_empty);
            let next = next.unwrap_or(before.len());
            let (offset, len) = (at + from as u64, (next - from) as u64);
            match (is_same, is_empty) {
                (true, _) => progress.advance(len),
                (false, true) => feed.zeros(offset..offset + len)?,
                (false, false) => feed.read(offset, len, |bytes, done| {
                    let start = from + done as usize;
                    bytes.copy_from_slice(&before[start..start + bytes.len()]);
                    Ok(())
                })?,
            }
            from = next;
        }
        done += step;
    }
    Ok(())
}

/// Gives on zeros where the disk that is read through from now on holds something else.
fn zeros_over(new: &DiskSide, task: &Task, feed: &mut Feed<'_>, progress: &Progress) -> Result<()> {
    let Some(chain) = new.chain() else { return Ok(()) };
    let (mut at, end) = (task.offset, task.offset + task.len);
    let mut walk = Walk::new(chain, usize::MAX).from(at);
    while at < end
        && let Some(part) = walk.next_within(end - at)?
    {
        progress.check()?;
        at = part.end();
        let Origin::Data(number, from) = part.origin else { continue };
        let layer = &*chain.layers()[number];
        split_by_holes(DataExtent { layer, at: from, offset: part.offset, len: part.len }, |part| match part {
            Part::Data(data) => zeros_over_data(&data, feed),
            Part::Zeros(_) => Ok(()),
        })?;
    }
    Ok(())
}

fn zeros_over_data(data: &DataExtent<'_>, feed: &mut Feed<'_>) -> Result<()> {
    let (mut bytes, mut done) = (Vec::new(), 0);
    while done < data.len {
        let at = data.offset + done;
        let step = (CHUNK - at % CHUNK).min(data.len - done);
        bytes.resize(step as usize, 0);
        data.layer.read_data(&mut bytes, data.at + done)?;
        for run in data_runs(&bytes, GRAIN) {
            feed.zeros(at + run.start as u64..at + run.end as u64)?;
        }
        done += step;
    }
    Ok(())
}

fn down(upper: &Chain, target: &dyn Image, from: u64, most_bytes: u64) -> Result<Batch> {
    let mut batch = Batch::new(from);
    let mut walk = Walk::over(upper).from(from);
    while !batch.is_full(most_bytes) {
        let room = most_bytes - batch.bytes;
        let Some(part) = walk.next_within(room)? else {
            // Behind the end of a smaller child there is nothing to take over.
            batch.upto = target.info().virtual_size;
            break;
        };
        match part.origin {
            Origin::Data(number, at) => batch.push_extent(upper, number, at, part.offset, part.len)?,
            Origin::Zero => batch.push(part.offset, part.len, TaskSource::Zeros),
            Origin::Below => {}
        }
        batch.upto = part.offset + part.len;
    }
    Ok(batch)
}

fn up(child: &dyn Image, old: &DiskSide, new: &DiskSide, compare: bool, from: u64, most_bytes: u64) -> Result<Batch> {
    let mut batch = Batch::new(from);
    let size = child.info().virtual_size;
    let mut pair = Comparison::new(old, new, from..from);
    while batch.upto < size && !batch.is_full(most_bytes) {
        let extent = child.extent_at(batch.upto, size - batch.upto)?;
        let end = batch.upto + extent.len;
        if extent.source != Source::Parent {
            batch.upto = end;
            continue;
        }
        pair.skip_to(batch.upto..end);
        while let Some(part) = pair.next_within(most_bytes - batch.bytes)? {
            batch.upto = part.offset + part.len;
            match (part.one, old.chain()) {
                _ if !part.differs => {}
                // Where contents are compared, holes need not be read.
                (Origin::Data(number, at), Some(chain)) if compare => {
                    batch.push_extent(chain, number, at, part.offset, part.len)?;
                }
                (Origin::Data(layer, at), _) => batch.push(part.offset, part.len, TaskSource::Data(layer, at)),
                (Origin::Below, _) => batch.push(part.offset, part.len, TaskSource::Disk),
                (Origin::Zero, _) => batch.push(part.offset, part.len, TaskSource::Zeros),
            }
            if batch.is_full(most_bytes) {
                break;
            }
        }
    }
    Ok(batch)
}

/// What a batch costs.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Cost {
    /// Bytes to be read and written.
    pub(crate) moved: u64,
    /// How many of them take new space on the host.
    pub(crate) extra: u64,
}

/// What all of it from byte `from` on costs, as far as tables tell: content may turn out to be the same or zero.
pub(crate) fn cost_of(delta: &Delta<'_>, target: &dyn Image, mut from: u64) -> Result<Cost> {
    let mut cost = Cost::default();
    while from < target.info().virtual_size {
        let batch = delta.batch(target, from, COUNTED)?;
        for task in batch.tasks.iter().filter(|task| task.is_data()) {
            cost.moved += task.len;
            cost.extra += new_space(target, task)?;
        }
        from = batch.upto;
    }
    // Tables, bitmaps, the log, and what rounding takes.
    cost.extra += if cost.moved > 0 { (4 << 20) + cost.extra / 256 } else { 0 };
    Ok(cost)
}

/// How much of a range has no place on the host yet.
fn new_space(target: &dyn Image, task: &Task) -> Result<u64> {
    let (mut new, mut offset, end) = (0, task.offset, task.offset + task.len);
    while offset < end {
        let extent = target.extent_at(offset, end - offset)?;
        match extent.source {
            Source::Data(at) => {
                let data = DataExtent { layer: target, at, offset, len: extent.len };
                split_by_holes(data, |part| {
                    if let Part::Zeros(range) = part {
                        new += range.end - range.start;
                    }
                    Ok(())
                })?;
            }
            _ => new += extent.len,
        }
        offset += extent.len;
    }
    Ok(new)
}
