//! All that can be read of a damaged disk goes into a new image.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;

use super::draft::RepairStep;
use super::impact::LossImpact;
use super::lenient::{Layer, LenientChain, Wanted};
use crate::chain::{Chain, Disk};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, OpenForWriting};
use crate::finding::Losses;
use crate::image::{Format, open_image_mut};
use crate::operation::{Operation, Plan, Planned};
use crate::ops::{CopyDiskPlan, NewImage, copy_of};
use crate::progress::Progress;
use crate::ranges::Ranges;
use crate::sidecar::{Salvaged, modified};
use crate::storage::BlockDevice;

/// Bytes that are read at once when what was missing is taken up.
const CHUNK: u64 = 1 << 20;

/// A damaged image, or one whose chain is broken, of which all that can be read is to be saved into a new image.
///
/// Nothing is written to the source, or to what it reads through. Damage is mended in memory, as
/// [`Repair`](super::Repair) would mend it with everything given up that must be; what the host cannot read is tried
/// again, and counts as lost. Zeros stand for what is lost. What is lost or doubtful is listed beside the new image;
/// when there is such a list, and the new image is there, only what it names is taken up again.
///
/// What it can be allowed to do all the same: as [`CopyDisk`](crate::ops::CopyDisk).
#[derive(Clone, Debug)]
pub struct Salvage {
    source: PathBuf,
    target: PathBuf,
    image: NewImage,
    wanted: Wanted,
    guard: Guard,
}

impl Salvage {
    /// The disk that `source` is the current image of, into a new image.
    pub fn new(source: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        Self {
            source: source.into(),
            target: target.into(),
            image: NewImage::new(),
            wanted: Wanted::default(),
            guard: Guard::new(),
        }
    }

    /// The source's format, whatever its signature says.
    pub fn with_source_format(mut self, format: Format) -> Self {
        self.wanted.format = Some(format);
        self
    }

    /// What the new image is to be.
    pub fn with_image(mut self, image: NewImage) -> Self {
        self.image = image;
        self
    }

    /// Goes on past a layer that is lost: whatever the layers above it do not hold themselves is doubtful, whether a
    /// layer below has something there or not.
    pub fn without(mut self, layer: impl Into<PathBuf>) -> Self {
        self.wanted.without.push(layer.into());
        self
    }

    /// What stands below a layer that is gone past and cannot tell that itself.
    pub fn with_below(mut self, layer: impl Into<PathBuf>) -> Self {
        self.wanted.below = Some(layer.into());
        self
    }
}

impl Operation for Salvage {
    type Planned = SalvagePlan;

    /// What would be saved, and what is known to be lost before the data themselves are read.
    ///
    /// # Errors
    /// `Damaged` when not even mending in memory makes an image of the source; `Parent` when a layer is lost that is
    /// not to be gone past; `Refused` when something stands at the target that this did not make of this source, the
    /// new image was written to since, the host has too little space, or the source is in use; `Usage`, `Io`.
    fn plan(self) -> Result<Self::Planned> {
        let progress = Progress::new();
        let mut wanted = self.wanted.clone();
        wanted.search = self.guard.search.clone();
        let LenientChain { chain, layers, skipped, content } = LenientChain::open(&self.source, &wanted, &progress)?;
        let before = match self.target.exists() {
            true => Salvaged::of(&self.target)?,
            false => None,
        };
        let work = match before {
            None => Saving::Whole(Box::new(copy_of("salvage", chain, &self.target, self.image.clone(), &self.guard)?)),
            Some(before) => {
                refuse_other(&self.source, &self.target, &before)?;
                let locked = self.guard.open_for_writing(&self.target)?;
                Saving::Rest(Box::new(Rest { chain, before, locked }))
            }
        };
        let plan = describe(&self.target, &work, &layers, &skipped, &content);
        Ok(SalvagePlan { plan, request: self, work, layers, skipped, content })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// Refuses a target that is not what was saved of this source.
fn refuse_other(source: &Path, target: &Path, before: &Salvaged) -> Result<()> {
    let same = std::fs::canonicalize(before.source.to_path()).ok() == std::fs::canonicalize(source).ok();
    let untouched = before.modified.is_none() || before.modified == modified(target);
    if same && untouched {
        return Ok(());
    }
    let why = if same { "was written to since" } else { "was saved of another image" };
    Err(Error::refused(
        Refusal::Exists { path: target.to_owned() },
        format!("{} {why}: nothing more of {} is put into it", target.display(), source.display()),
        "choose another name",
    ))
}

fn describe(target: &Path, work: &Saving, layers: &[Layer], skipped: &[PathBuf], content: &Losses) -> Plan {
    let mut plan = match work {
        Saving::Whole(copy) => copy.summary().clone(),
        Saving::Rest(rest) => {
            let before = &rest.before;
            let mut plan = Plan { operation: "salvage", ..Plan::default() };
            let bytes = before.lost.bytes() + before.doubtful.bytes();
            plan.steps.push(format!("take up the {bytes} bytes that were missing in {}", target.display()));
            plan.files.change.push(target.to_owned());
            (plan.bytes_read, plan.bytes_written, plan.peak_extra_space) = (bytes, bytes, bytes);
            plan
        }
    };
    for layer in layers {
        let steps = layer.steps.iter().filter(|step| step.lossy);
        plan.steps.extend(steps.map(|step| format!("in memory, of {}: {}", layer.path.display(), step.told())));
    }
    plan.steps.extend(skipped.iter().map(|path| format!("go on past {}", path.display())));
    if !content.is_empty() {
        plan.steps.push(format!("before the data are read: {content}"));
    }
    plan
}

impl Rest {
    /// All that was not certain before.
    fn missing(&self) -> Ranges {
        let mut missing = self.before.lost.clone();
        missing.join(&self.before.doubtful);
        missing
    }
}

enum Saving {
    Whole(Box<CopyDiskPlan>),
    Rest(Box<Rest>),
}

/// What was missing before.
struct Rest {
    chain: Chain,
    before: Salvaged,
    /// Keeps others away from the new image.
    locked: OpenForWriting,
}

/// A checked plan to save what can be read.
pub struct SalvagePlan {
    plan: Plan,
    request: Salvage,
    work: Saving,
    layers: Vec<Layer>,
    skipped: Vec<PathBuf>,
    content: Losses,
}

impl SalvagePlan {
    /// What is known to be lost, or doubtful, before the data are read.
    pub fn content(&self) -> &Losses {
        &self.content
    }

    /// Which partitions, structures and files of the disk lie in what is lost or doubtful: what is known of that before
    /// the data are read, or what the outcome says.
    ///
    /// # Errors
    /// As [`impact_of_losses`](super::impact_of_losses).
    pub fn impact(&self, losses: &Losses, progress: &Progress) -> Result<LossImpact> {
        let Salvage { source, wanted, guard, .. } = &self.request;
        let wanted = Wanted { search: guard.search.clone(), ..wanted.clone() };
        LossImpact::of(LenientChain::open(source, &wanted, progress)?, losses, progress)
    }
}

/// What was done to one layer, in memory.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct SalvagedLayer {
    /// The layer's file.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What was mended.
    pub steps: Vec<RepairStep>,
    /// Bytes of the file that the host could not read.
    pub unreadable_bytes: u64,
}

/// What became of it. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct SalvageOutcome {
    /// The new image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Its size.
    pub virtual_size: u64,
    /// The layers that it was read through, and what was mended in memory.
    pub layers: Vec<SalvagedLayer>,
    /// Layers that were gone past.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub skipped: Vec<PathBuf>,
    /// What of the disk is lost, and reads as zero, and what is doubtful.
    pub content: Losses,
    /// Bytes that were not zero and so were written.
    pub bytes_written: u64,
    /// Whether only what was missing before was taken up.
    pub taken_up: bool,
    /// The file that lists what is missing; none when nothing is.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Option<crate::path_data::PathData>")]
    pub list: Option<PathBuf>,
}

impl Planned for SalvagePlan {
    type Outcome = SalvageOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Saves. A new image appears under its name only when it is complete and durable; stopped, failed or killed
    /// before, no image stands there. Until its list of what is missing is written, a list says that all of it is
    /// doubtful. What is taken up goes into the new image in place: after a crash it is valid, and the same can be done
    /// again.
    ///
    /// # Errors
    /// `Cancelled`; `Refused` when something appeared at the target since, or another program changed the source; `Io`
    /// for what concerns the target.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let target = &self.request.target;
        // Nothing stands beside a device.
        let keeps_list = !BlockDevice::is_at(target);
        let mut content = self.content.clone();
        let mut unread = |chain: &Chain| -> Result<Losses> {
            let unread = LenientChain::unread(chain, &self.layers)?;
            unread.list().iter().for_each(|range| content.lose(range.offset..range.end()));
            Ok(content.clone())
        };
        let (chain, content, bytes_written, taken_up) = match &self.work {
            Saving::Whole(copy) => {
                let chain = copy.source();
                // Until all is known that is missing, whoever finds the new image must take all of it for doubtful.
                let all = std::iter::once(0..chain.map_or(0, Disk::virtual_size)).collect();
                if keeps_list {
                    Salvaged::new(&self.request.source, None, self.content.lost.clone(), all).put(target)?;
                }
                let done = copy.run(progress).inspect_err(|_| {
                    if keeps_list && !target.exists() {
                        Salvaged::clear(target).unwrap_or_default();
                    }
                })?;
                (chain, chain.map(unread).transpose()?.unwrap_or_default(), done.bytes_written, false)
            }
            Saving::Rest(rest) => {
                let written = self.take_up(rest, progress)?;
                // What was certain before is so still, whatever this look at the source had to leave out.
                (Some(&rest.chain), unread(&rest.chain)?.within(&rest.missing()), written, true)
            }
        };
        let virtual_size = chain.map_or(0, Disk::virtual_size);
        let list = match content.is_empty() {
            _ if !keeps_list => None,
            true => Salvaged::clear(target).map(|()| None)?,
            false => {
                let (lost, doubtful) = (content.lost.clone(), content.doubtful.clone());
                Some(Salvaged::new(&self.request.source, modified(target), lost, doubtful).put(target)?)
            }
        };
        let layers = self.layers.iter().map(|layer| SalvagedLayer {
            path: layer.path.clone(),
            steps: layer.steps.clone(),
            unreadable_bytes: layer.file.bad().bytes(),
        });
        Ok(SalvageOutcome {
            path: target.clone(),
            virtual_size,
            layers: layers.collect(),
            skipped: self.skipped.clone(),
            content,
            bytes_written,
            taken_up,
            list,
        })
    }
}

impl SalvagePlan {
    /// Reads what was missing once more, and puts what can be read now into the new image.
    fn take_up(&self, rest: &Rest, progress: &Progress) -> Result<u64> {
        let Rest { chain, before, locked } = rest;
        let target = &self.request.target;
        locked.refuse_swapped(target)?;
        // From here on its time says nothing, until all is done.
        before.being_changed().put(target)?;
        let image = open_image_mut(locked.storage.clone(), self.request.image.format())?;
        let missing = rest.missing();
        let name = target.file_name().unwrap_or_default().to_string_lossy().into_owned();
        progress.begin(format!("taking up what is missing in {name}"), missing.bytes());
        let sector = u64::from(image.info().logical_sector);
        let (size, mut buffer, mut written) = (image.info().virtual_size.min(chain.virtual_size()), Vec::new(), 0);
        for range in missing.list() {
            let (mut at, end) = (range.offset / sector * sector, range.end().next_multiple_of(sector).min(size));
            while at < end {
                progress.check()?;
                let step = CHUNK.min(end - at);
                buffer.resize(step as usize, 0);
                // What is lost this time as well stays as it was saved.
                if self.content.lost.within(at..at + step).map(|range| range.length).sum::<u64>() < step {
                    chain.read_at(&mut buffer, at)?;
                    image.write_at(&buffer, at)?;
                    written += step;
                }
                at += step;
                progress.advance(step);
            }
        }
        image.close()?;
        Ok(written)
    }
}
