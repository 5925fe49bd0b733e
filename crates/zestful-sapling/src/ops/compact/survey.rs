//! What of an image can be given back, found without changing anything.

use std::ops::Range;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::grains::Grains;
use super::unused::{KeptVolume, Unused};
use crate::bytes::{index, is_zero};
use crate::chain::{Chain, Disk};
use crate::error::Result;
use crate::image::{Format, Image, Kind, Source, for_each_held};
use crate::progress::Progress;

/// Holes are dug in parts of this size, or larger ones of a very large disk: smaller ones would cut a file on the host
/// into more pieces than they are worth.
const GRAIN: u64 = 64 << 10;
/// A set of parts has so many members at most, which are 16 MiB.
const MOST_GRAINS: u64 = 1 << 27;
/// Content is read in steps of this size.
const STEP: u64 = 1 << 20;

/// What an image gives back. In bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct GivenBack {
    /// In blocks that hold nothing but zeros.
    pub zeros: u64,
    /// In blocks that hold nothing but what file systems mark as free, and zeros.
    pub unused: u64,
    /// In blocks that hold what the parent holds as well.
    pub same_as_parent: u64,
    /// In holes that are dug where data stands around them.
    pub holes: u64,
}

impl GivenBack {
    fn zeros_mut(&mut self) -> &mut u64 {
        &mut self.zeros
    }

    fn unused_mut(&mut self) -> &mut u64 {
        &mut self.unused
    }
}

/// What stays in an image though nothing is lost with it, and why. In bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Staying {
    /// Blocks of zeros without which the parent would show: the format has no other word for zero.
    pub hiding_parent: u64,
    /// What file systems mark as free, or zeros, as far as that was looked at, in blocks that hold other data.
    pub beside_data: u64,
    /// Volumes of which nothing was taken for free.
    pub volumes: Vec<KeptVolume>,
    /// Whether file systems were to be asked, and none is known on the disk.
    pub no_volume: bool,
}

/// Where what can be given back lies.
pub(super) struct Survey {
    /// Blocks that become zero without taking space.
    pub(super) zero: Grains,
    /// Blocks that the parent shows through for.
    pub(super) parent: Grains,
    /// Where holes are dug.
    pub(super) holes: Grains,
    pub(super) given: GivenBack,
    pub(super) stays: Staying,
}

/// What is looked for.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Wanted {
    pub(super) unused: bool,
    pub(super) same_as_parent: bool,
    pub(super) holes: bool,
}

impl Survey {
    /// Looks at everything that the current image of a disk holds. `below` is what stands under it.
    pub(super) fn of(disk: Chain, below: Option<&Chain>, wanted: Wanted, progress: &Progress) -> Result<Self> {
        let info = disk.info();
        let size = info.virtual_size;
        let block = info.block_size.filter(|_| info.kind != Kind::Fixed);
        let mut grain = GRAIN;
        while size / grain > MOST_GRAINS {
            grain *= 2;
        }
        let grain = grain.min(block.unwrap_or(grain));
        // A child of the older format says zero by holding zeros.
        let can_zero = info.parent.is_none() || info.format == Format::Vhdx;
        let disk: Arc<dyn Disk> = Arc::new(disk);
        let unused = if wanted.unused { Unused::of(&disk, grain, progress)? } else { Unused::nothing(grain) };
        let survey = Self {
            zero: Grains::of(block.unwrap_or(STEP)),
            parent: Grains::of(block.unwrap_or(STEP)),
            holes: Grains::of(grain),
            given: GivenBack::default(),
            stays: Staying {
                volumes: unused.kept.clone(),
                no_volume: wanted.unused && unused.knows_nothing(),
                ..Staying::default()
            },
        };
        let (Some(image), disk) = (disk.layer(0), &*disk) else { return Ok(survey) };
        let buffers = (vec![0; index(STEP)], vec![0; index(STEP)]);
        let mut look =
            Look { disk, image, below, unused, wanted, can_zero, survey, buffers, read: 0, kept: Vec::new() };
        look.at_all(block, progress)?;
        Ok(look.survey)
    }

    /// Whether there is anything to give back.
    pub(super) fn is_empty(&self) -> bool {
        self.zero.is_empty() && self.parent.is_empty() && self.holes.is_empty()
    }
}

/// The look at a disk.
struct Look<'a> {
    disk: &'a dyn Disk,
    image: &'a dyn Image,
    below: Option<&'a Chain>,
    unused: Unused,
    wanted: Wanted,
    can_zero: bool,
    survey: Survey,
    buffers: (Vec<u8>, Vec<u8>),
    /// Bytes that were read since that was counted.
    read: u64,
    /// Of each layer where its file was looked at last, and the next part from there that the host keeps without a
    /// hole: to find where that ends takes long in a large file.
    kept: Vec<(u64, Range<u64>)>,
}

impl Look<'_> {
    /// At each block that the image holds, or, where it has none, at each step.
    fn at_all(&mut self, block: Option<u64>, progress: &Progress) -> Result<()> {
        let (size, unit) = (self.disk.virtual_size(), block.unwrap_or(STEP));
        progress.begin("looking for what can be given back", size);
        let mut at = 0;
        while at < size {
            progress.check()?;
            let extent = self.image.extent_at(at, size - at)?;
            let end = match extent.source {
                Source::Data(_) => (at / unit * unit).saturating_add(unit).min(size),
                _ => at + extent.len,
            };
            if let Source::Data(_) = extent.source {
                self.at_block(at / unit * unit..end, block.is_some())?;
            }
            let read = std::mem::take(&mut self.read).min(end - at);
            progress.skip(end - at - read);
            progress.advance(read);
            at = end;
        }
        Ok(())
    }

    fn at_block(&mut self, range: Range<u64>, can_go: bool) -> Result<()> {
        let own = self.own(range.clone())?;
        if can_go && self.goes(&range, &own)? {
            return Ok(());
        }
        if self.wanted.holes {
            return own.into_iter().try_for_each(|part| self.dig_in(part));
        }
        if !self.unused.free.is_empty() {
            for part in own {
                self.survey.stays.beside_data += self.free_in(part)?;
            }
        }
        Ok(())
    }

    /// Whether the whole block can go, which is noted then.
    fn goes(&mut self, range: &Range<u64>, own: &[Range<u64>]) -> Result<bool> {
        let size = self.survey.zero.size();
        let mut parts = range.clone().step_by(index(self.unused.free.size()));
        let some_free = !self.unused.free.is_empty() && parts.any(|at| self.unused.free.has(at));
        let given = if some_free { GivenBack::unused_mut } else { GivenBack::zeros_mut };
        if self.can_zero && self.is_loose(std::slice::from_ref(range))? {
            *given(&mut self.survey.given) += size;
            self.survey.zero.add(range.start);
            return Ok(true);
        }
        if self.below.is_some() && self.is_loose(own)? {
            if self.is_as_below(own, false)? {
                *given(&mut self.survey.given) += size;
                self.survey.parent.add(range.start);
                return Ok(true);
            }
            self.survey.stays.hiding_parent += if self.wanted.holes { 0 } else { size };
            return Ok(false);
        }
        if self.wanted.same_as_parent && self.is_as_below(own, true)? {
            self.survey.given.same_as_parent += size;
            self.survey.parent.add(range.start);
            return Ok(true);
        }
        Ok(false)
    }

    /// What of a range the image holds itself.
    fn own(&self, range: Range<u64>) -> Result<Vec<Range<u64>>> {
        let mut own: Vec<Range<u64>> = Vec::new();
        for_each_held(self.image, range, &mut |at, _, len| {
            match own.last_mut().filter(|last| last.end == at) {
                Some(last) => last.end += len,
                None => own.push(at..at + len),
            }
            Ok(())
        })?;
        Ok(own)
    }

    /// Bytes up to the next place where it may be another that is free or in use.
    fn step(&self, at: u64, end: u64) -> u64 {
        let grain = self.unused.free.size();
        let step = if self.wanted.unused { grain - at % grain } else { STEP };
        step.min(end - at).min(STEP)
    }

    /// Whether ranges hold nothing but zeros and what is free.
    fn is_loose(&mut self, ranges: &[Range<u64>]) -> Result<bool> {
        for range in ranges {
            let mut at = range.start;
            while at < range.end {
                let len = self.step(at, range.end);
                at += match self.unused.free.has(at) {
                    true => len,
                    false if self.unused.is_in_use(at) => return Ok(false),
                    false => match self.zeros(at, len)? {
                        Some(zeros) => zeros,
                        None => return Ok(false),
                    },
                };
            }
        }
        Ok(true)
    }

    /// What begins at this byte, up to so many: its length, and whether it certainly reads as zero.
    fn begins(&mut self, at: u64, len: u64) -> Result<(u64, bool)> {
        let extent = self.disk.extent_at(at, len)?;
        let found = extent.data.and_then(|(number, place)| self.disk.layer(number).map(|layer| (number, layer, place)));
        let Some((number, layer, place)) = found else { return Ok((extent.len, true)) };
        if self.kept.len() <= number {
            self.kept.resize(number + 1, (0, 0..0));
        }
        let (from, kept) = &mut self.kept[number];
        if !(*from..kept.end).contains(&place) {
            (*from, *kept) = (place, layer.storage().next_data(place)?.unwrap_or(u64::MAX..u64::MAX));
        }
        let (is_hole, end) = if kept.start > place { (true, kept.start) } else { (false, kept.end) };
        Ok(((end - place).clamp(1, extent.len), is_hole))
    }

    /// How many bytes from `at` on are zero, up to `len`; `None` where a byte of them is not.
    fn zeros(&mut self, at: u64, len: u64) -> Result<Option<u64>> {
        let (len, is_hole) = self.begins(at, len)?;
        if is_hole {
            return Ok(Some(len));
        }
        let part = &mut self.buffers.0[..index(len.min(STEP))];
        self.disk.read_at(part, at)?;
        self.read += part.len() as u64;
        Ok(is_zero(part).then_some(part.len() as u64))
    }

    /// Whether what stands below holds what the image holds in these ranges, but for what is free: zeros, or, where
    /// `anything` counts, the same.
    fn is_as_below(&mut self, ranges: &[Range<u64>], anything: bool) -> Result<bool> {
        let Some(below) = self.below else { return Ok(false) };
        for range in ranges {
            let mut at = range.start;
            while at < range.end {
                let len = self.step(at, range.end);
                // Past the end of a smaller parent there are zeros.
                let room = below.virtual_size().saturating_sub(at).min(len);
                if !self.unused.free.has(at) {
                    let (one, other) = (&mut self.buffers.0[..index(len)], &mut self.buffers.1[..index(len)]);
                    one.fill(0);
                    if anything {
                        self.disk.read_at(one, at)?;
                        self.read += len;
                    }
                    other.fill(0);
                    if room > 0 {
                        below.read_at(&mut other[..index(room)], at)?;
                    }
                    if one != other {
                        return Ok(false);
                    }
                }
                at += len;
            }
        }
        Ok(true)
    }

    /// Notes where holes can be dug in a range that the image holds.
    fn dig_in(&mut self, range: Range<u64>) -> Result<()> {
        let (grain, size) = (self.survey.holes.size(), self.disk.virtual_size());
        let mut at = range.start.next_multiple_of(grain);
        while at < range.end {
            let end = (at + grain).min(size);
            if end > range.end {
                break;
            }
            let (len, is_hole) = self.begins(at, end - at)?;
            let is_hole = is_hole && len == end - at;
            let is_free = self.unused.free.has(at);
            if !is_hole && (is_free || !self.unused.is_in_use(at) && self.are_zeros(at, end)?) {
                self.survey.holes.add(at);
                self.survey.given.holes += end - at;
            }
            at = end;
        }
        Ok(())
    }

    fn are_zeros(&mut self, mut at: u64, end: u64) -> Result<bool> {
        while at < end {
            let Some(zeros) = self.zeros(at, end - at)? else { return Ok(false) };
            at += zeros;
        }
        Ok(true)
    }

    /// Bytes of a range that are free and that the host keeps all the same.
    fn free_in(&mut self, range: Range<u64>) -> Result<u64> {
        let (mut at, mut free) = (range.start, 0);
        while at < range.end {
            let (len, is_hole) = self.begins(at, self.step(at, range.end))?;
            if self.unused.free.has(at) && !is_hole {
                free += len;
            }
            at += len;
        }
        Ok(free)
    }
}
