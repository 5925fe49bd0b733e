//! Where two disks differ.

use std::ops::Range;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;

use crate::chain::{Comparison, DiskSide};
use crate::error::Result;
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::ranges::{DiskRange, Ranges};

/// Content is compared in units of this.
const SECTOR: usize = 512;
const CHUNK: u64 = 1 << 20;

/// Two disks to be compared: any two images, or two layers of one chain.
#[derive(Clone, Debug)]
pub struct Diff {
    one: PathBuf,
    other: PathBuf,
    contents: bool,
}

/// Where they differ. Sizes and places are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct Difference {
    /// The ranges that differ, or may differ, in order; what lies past the end of the smaller disk counts as zero
    /// there.
    pub differ: Vec<DiskRange>,
    /// Their sum.
    pub bytes: u64,
    /// The size of the larger disk.
    pub virtual_size: u64,
    /// Whether both have the same size.
    pub same_size: bool,
    /// Whether contents were compared; otherwise the ranges are those that tables cannot tell to be the same.
    pub compared: bool,
}

impl Diff {
    /// The disks that these two images are the current ones of.
    ///
    /// ```
    /// use zestful_sapling::ops::{Diff, Make, Operation, Planned};
    /// use zestful_sapling::progress::Progress;
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let (one, other) = (folder.path().join("a.vhdx"), folder.path().join("b.vhd"));
    /// for path in [&one, &other] {
    ///     Make::new(path, 1 << 30).plan().unwrap().run(&Progress::new()).unwrap();
    /// }
    /// assert_eq!(Diff::new(one, other).plan().unwrap().run(&Progress::new()).unwrap().bytes, 0);
    /// ```
    pub fn new(one: impl Into<PathBuf>, other: impl Into<PathBuf>) -> Self {
        Self { one: one.into(), other: other.into(), contents: false }
    }

    /// Reads whatever may differ and compares it, in units of 512 bytes.
    pub fn with_contents(mut self, contents: bool) -> Self {
        self.contents = contents;
        self
    }
}

impl Operation for Diff {
    type Planned = DiffPlan;

    /// What comparing would read. Both disks stay locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// As [`Chain::open`](crate::chain::Chain::open).
    fn plan(self) -> Result<Self::Planned> {
        let (one, other) = (DiskSide::open(&self.one)?, DiskSide::open(&self.other)?);
        let mut plan = Plan { operation: "diff", ..Plan::default() };
        let how = if self.contents { "by their contents where tables cannot tell" } else { "by their tables" };
        plan.steps.push(format!("compare {} and {} {how}", self.one.display(), self.other.display()));
        Ok(DiffPlan { plan, request: self, one, other })
    }
}

/// A checked plan to compare two disks.
pub struct DiffPlan {
    plan: Plan,
    request: Diff,
    one: DiskSide,
    other: DiskSide,
}

impl Planned for DiffPlan {
    type Outcome = Difference;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Compares. Ranges that both disks have from one place of one file, or as zeros, are the same without being read;
    /// images that grew from one base therefore differ only where one of them was written to.
    ///
    /// # Errors
    /// `Damaged`, `Io`, `Cancelled`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let Self { request, one, other, .. } = self;
        let size = one.virtual_size().max(other.virtual_size());
        let same_size = one.virtual_size() == other.virtual_size();
        let mut found = Ranges::default();
        progress.begin(format!("comparing {} and {}", request.one.display(), request.other.display()), size);
        let mut pair = Comparison::new(one, other, 0..size);
        while let Some(part) = pair.next()? {
            progress.check()?;
            let range = part.offset..part.offset + part.len;
            match (part.differs, request.contents) {
                (false, _) => {}
                (true, false) => found.add(range),
                (true, true) => compare(one, other, range, &mut found, progress)?,
            }
            progress.advance(part.len);
        }
        let (differ, bytes) = (found.list().to_vec(), found.bytes());
        Ok(Difference { differ, bytes, virtual_size: size, same_size, compared: request.contents })
    }
}

/// Reads a range of both and notes the sectors that are not the same.
fn compare(one: &DiskSide, other: &DiskSide, range: Range<u64>, found: &mut Ranges, progress: &Progress) -> Result<()> {
    let (mut first, mut second) = (Vec::new(), Vec::new());
    let mut at = range.start;
    while at < range.end {
        progress.check()?;
        let step = CHUNK.min(range.end - at) as usize;
        for (side, buffer) in [(one, &mut first), (other, &mut second)] {
            buffer.resize(step, 0);
            side.read_at(buffer, at)?;
        }
        if first != second {
            for (number, (a, b)) in first.chunks(SECTOR).zip(second.chunks(SECTOR)).enumerate() {
                if a != b {
                    let start = at + (number * SECTOR) as u64;
                    found.add(start..start + a.len() as u64);
                }
            }
        }
        at += step as u64;
    }
    Ok(())
}
