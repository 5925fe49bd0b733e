//! A full copy of a disk, made elsewhere from the same beginnings, becomes a child that holds only what differs from a
//! base: the reverse of flattening a chain.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use super::base::Base;
use super::blank::BlankChild;
use super::new_disk::check_sectors;
use super::unchanged::{Unchanged, refuse_written};
use crate::chain::{
    Chain, Comparison, DataExtent, Disk, DiskSide, OpenOptions, Origin, Part, data_len, split_by_holes,
};
use crate::error::{Error, Result};
use crate::family::Guard;
use crate::image::{Format, open_image, open_image_mut};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::size::{exact_size, format_size};
use crate::storage::{ReadAt, StagedFile, folder_of, free_space};
use crate::transfer::{Delta, digest_of};

/// Bytes that are compared before the next look at the tables.
const BATCH: u64 = 256 << 20;

/// A disk that is to become a child of a base.
///
/// What it can be allowed to do all the same: [`Sectors`](crate::family::Override::Sectors),
/// [`UnrecordedChild`](crate::family::Override::UnrecordedChild) though the base's companion cannot record the child,
/// [`InUse`](crate::family::Override::InUse) though another process has the source or the base open for writing,
/// [`HardLinks`](crate::family::Override::HardLinks) though the base has several names.
#[derive(Clone, Debug)]
pub struct CopyOnto {
    source: PathBuf,
    source_format: Option<Format>,
    base: PathBuf,
    target: PathBuf,
    absolute: bool,
    block_size: Option<u64>,
    guard: Guard,
    verify: bool,
}

impl CopyOnto {
    /// The disk that `source` is the current image of (any format, a block device too), as the child `target` of
    /// `base`, whose format it has.
    ///
    /// ```
    /// use zestful_sapling::chain::{ChainMut, OpenOptions};
    /// use zestful_sapling::ops::{CopyDisk, CopyOnto, Make, Operation, Planned};
    /// use zestful_sapling::progress::Progress;
    /// # let folder = tempfile::tempdir().unwrap();
    /// # let path = |name: &str| folder.path().join(name);
    /// let progress = Progress::new();
    /// Make::new(path("fen-base.vhdx"), 64 << 20).plan().unwrap().run(&progress).unwrap();
    /// CopyDisk::new(path("fen-base.vhdx"), path("full.raw")).plan().unwrap().run(&progress).unwrap();
    /// let disk = ChainMut::open(&path("full.raw"), &OpenOptions::new()).unwrap();
    /// disk.write_at(&[1; 4096], 1 << 20).unwrap();
    /// disk.close().unwrap();
    /// let onto = CopyOnto::new(path("full.raw"), path("fen-base.vhdx"), path("germination-01.vhdx"));
    /// assert_eq!(onto.plan().unwrap().run(&progress).unwrap().bytes_written, 4096);
    /// ```
    pub fn new(source: impl Into<PathBuf>, base: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        Self {
            source: source.into(),
            source_format: None,
            base: base.into(),
            target: target.into(),
            absolute: false,
            block_size: None,
            guard: Guard::new(),
            verify: false,
        }
    }

    /// The source's format, whatever its signature says.
    pub fn with_source_format(mut self, format: Format) -> Self {
        self.source_format = Some(format);
        self
    }

    /// Record the base's absolute path on this host as well; the relative one is always recorded.
    pub fn with_absolute(mut self, absolute: bool) -> Self {
        self.absolute = absolute;
        self
    }

    /// Another block size than the default.
    pub fn with_block_size(mut self, bytes: u64) -> Self {
        self.block_size = Some(bytes);
        self
    }

    /// Reads the new disk back through its base, from the host's disk where the host lets us, and compares it by digest
    /// before it appears.
    pub fn with_verify(mut self, verify: bool) -> Self {
        self.verify = verify;
        self
    }
}

impl Operation for CopyOnto {
    type Planned = CopyOntoPlan;

    /// What it would do. How much differs shows only when contents are compared, so the bytes named are the most that
    /// it can be; that the host may have less room than that is a warning. Source and base stay locked against writers
    /// as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when the base is raw (it has no identity) or the name cannot be used; `Refused` when something stands
    /// there, an image is written to, or the sectors of a partition table would change; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let mut plan = Plan { operation: "copy", ..Plan::default() };
        let (base, chain) = Base::open(&self.base, &self.guard, &mut plan)?;
        let source = Chain::open(&self.source, &OpenOptions::of_format(self.source_format))?;
        // What was not looked at for the base was not for the source.
        let not_seen = refuse_written(&source, &self.guard)?.filter(|told| !plan.warnings.contains(told));
        plan.warnings.extend(not_seen);
        check_sectors(&source, chain.info().logical_sector, &self.guard, &mut plan)?;
        let (size, below) = (source.virtual_size(), chain.virtual_size());
        if size != below {
            plan.warnings.push(format!(
                "the disk has {} and its base {}: every look at the child will tell that",
                exact_size(size),
                exact_size(below)
            ));
        }
        let blank = base.child(&self.target, size, self.absolute, self.block_size, &mut plan)?;
        let laid_out = plan.peak_extra_space;
        let held = data_len(&source)?;
        let unchanged = [Unchanged::since_now(&source), Unchanged::since_now(&chain)];
        let (source, below) = (DiskSide::of(source)?, DiskSide::of(chain)?);
        let most = may_differ(&source, &below, size)?;
        plan.steps.push(format!(
            "compare up to {} of {} with {}, and write what differs",
            format_size(most),
            self.source.display(),
            self.base.display()
        ));
        plan.bytes_read = most.saturating_mul(2);
        plan.bytes_written = laid_out.saturating_add(most);
        plan.peak_extra_space = plan.bytes_written;
        if self.verify {
            plan.steps.push(format!("read {} back and compare", self.target.display()));
            plan.bytes_read = plan.bytes_read.saturating_add(held.saturating_mul(2));
        }
        Plan::require_space(&self.target, laid_out)?;
        let free = free_space(&folder_of(&self.target))?;
        if plan.peak_extra_space > free {
            plan.warnings.push(format!(
                "it takes {} if all of it differs, and the host has {} free: should that not do, nothing is made",
                format_size(plan.peak_extra_space),
                format_size(free)
            ));
        }
        base.plan_record(&mut plan);
        let Self { target, verify, .. } = self;
        Ok(CopyOntoPlan { plan, base, blank, target, verify, source, below, size, held, unchanged, laid_out })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// Bytes of data of the first disk of which tables cannot tell that the other has them, too.
fn may_differ(source: &DiskSide, below: &DiskSide, size: u64) -> Result<u64> {
    let mut most = 0u64;
    let mut pair = Comparison::new(source, below, 0..size);
    while let Some(part) = pair.next()? {
        match (part.differs, part.one, source.chain()) {
            (true, Origin::Data(number, at), Some(chain)) => {
                let layer = &*chain.layers()[number];
                split_by_holes(DataExtent { layer, at, offset: part.offset, len: part.len }, |part| {
                    if let Part::Data(data) = part {
                        most = most.saturating_add(data.len);
                    }
                    Ok(())
                })?;
            }
            (true, Origin::Below, _) => most = most.saturating_add(part.len),
            _ => {}
        }
    }
    Ok(most)
}

/// A checked plan to make a child of a full copy.
pub struct CopyOntoPlan {
    plan: Plan,
    base: Base,
    blank: BlankChild,
    target: PathBuf,
    verify: bool,
    source: DiskSide,
    below: DiskSide,
    size: u64,
    /// Bytes of data that the source holds.
    held: u64,
    /// That of the source and of the base.
    unchanged: [Unchanged; 2],
    /// Bytes of the empty child.
    laid_out: u64,
}

/// What became of it. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CopyOntoOutcome {
    /// The new image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The base that it reads through.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub parent: PathBuf,
    /// Its format, that of the base.
    pub format: Format,
    /// The size that a guest sees.
    pub virtual_size: u64,
    /// Bytes that differ from the base and so were written.
    pub bytes_written: u64,
    /// Bytes of data that the source holds and the child need not, since the base has them.
    pub bytes_saved: u64,
    /// Whether the base was frozen by this.
    pub newly_frozen: bool,
    /// Why the child could not be recorded in the base's companion, where that was allowed.
    pub unrecorded: Option<String>,
    /// Whether all was read back and found to be the same.
    pub verified: bool,
}

impl Planned for CopyOntoPlan {
    type Outcome = CopyOntoOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Compares, and writes what differs into the child, which appears under its name only when it is complete and
    /// durable, and recorded in the base's companion. Stopped, failed or killed before, nothing stands there; after a
    /// crash a recorded child may not be there.
    ///
    /// # Errors
    /// `Cancelled`; `Damaged` when a block cannot be read; `Refused` when something appeared at the target since, or
    /// another program changed source or base; `VerifyFailed`; `Io`, also when the host runs full.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        Plan::require_space(&self.target, self.laid_out)?;
        let staged = StagedFile::create(&self.target)?;
        let format = self.blank.format();
        let filled = self.fill(&staged, format, progress);
        // That one of the two changed explains whatever else went wrong.
        self.refuse_changed()?;
        let bytes_written = filled?;
        if self.verify {
            self.compare(&staged, format, progress)?;
            self.refuse_changed()?;
        }
        progress.check()?;
        let born = self.base.bear(vec![staged])?;
        Ok(CopyOntoOutcome {
            path: self.target.clone(),
            parent: self.base.path().to_owned(),
            format,
            virtual_size: self.size,
            bytes_written,
            bytes_saved: self.held.saturating_sub(bytes_written),
            newly_frozen: born.newly_frozen,
            unrecorded: born.unrecorded,
            verified: self.verify,
        })
    }
}

impl CopyOntoPlan {
    /// What was found to be the same is not in the child: a base that changed meanwhile would change it.
    fn refuse_changed(&self) -> Result<()> {
        self.unchanged.iter().try_for_each(Unchanged::verify)
    }

    fn fill(&self, staged: &StagedFile, format: Format, progress: &Progress) -> Result<u64> {
        self.blank.create_in(&*staged.storage())?;
        let mut image = open_image_mut(staged.storage(), Some(format))?;
        let most = self.plan.bytes_written.saturating_sub(self.laid_out);
        progress.begin(format!("comparing with {}", self.base.path().display()), most);
        let delta = Delta::Up { old: &self.source, new: &self.below, compare: true };
        let (mut from, mut written) = (0, 0);
        while from < self.size {
            progress.check()?;
            let batch = delta.batch(&*image, from, BATCH)?;
            written += delta.run(&batch, &mut *image, progress)?;
            from = batch.upto;
        }
        image.close()?;
        Ok(written)
    }

    /// Reads the child back through its base, and compares.
    fn compare(&self, staged: &StagedFile, format: Format, progress: &Progress) -> Result<()> {
        let Some(source) = self.source.chain() else { return Ok(()) };
        staged.sync_so_far()?;
        staged.forget_cached();
        let storage: Arc<dyn ReadAt> = staged.storage();
        let mut layers = vec![open_image(storage, Some(format))?];
        layers.extend(Chain::open(self.base.path(), &self.base.options())?.into_layers());
        let digest = |disk: &dyn Disk, name: &Path| digest_of(disk, name, self.size, progress);
        let expected = digest(source, source.layers()[0].path())?;
        if digest(&Chain::from_layers(layers), &self.target)? == expected {
            return Ok(());
        }
        Err(Error::VerifyFailed { path: self.target.clone() })
    }
}
