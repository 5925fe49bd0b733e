//! A base is marked as never to change, with the digests that prove that it did not.

use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::chain::{Chain, Disk, OpenOptions};
use crate::error::{Error, Result};
use crate::family::{Guard, Health, children_of};
use crate::image::{Source, recognise};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::ranges::DiskRange;
use crate::sidecar::{Companion, Pin, modified, refuse_device, refuse_under_way};
use crate::size::format_size;
use crate::storage::{Access, Held, is_marked_read_only, mark_read_only, unmark_read_only};
use crate::transfer::{PIECE, changed_since, digest_pieces};

/// An image to be pinned.
///
/// What it can be allowed to do all the same: [`InUse`](crate::family::Override::InUse) pins though another process
/// has the image open for writing, [`HardLinks`](crate::family::Override::HardLinks) one of several names of it.
#[derive(Clone, Debug)]
pub struct PinImage {
    path: PathBuf,
    guard: Guard,
}

impl PinImage {
    /// The image at `path`, a base as a rule.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), guard: Guard::new() }
    }

    /// Refuses an image that something is happening to.
    fn refuse_changing(&self) -> Result<Option<String>> {
        refuse_under_way(&self.path)?;
        self.guard.refuse_hard_links(&self.path)?;
        self.guard.refuse_writers([&*self.path])
    }
}

impl Operation for PinImage {
    type Planned = PinPlan;

    /// What pinning would do.
    ///
    /// # Errors
    /// `Usage` when it is pinned already, or a device; `Refused` when somebody writes to it; otherwise as
    /// [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        refuse_device(&self.path)?;
        let held = Arc::new(Held::default());
        let disk = Chain::open(&self.path, &OpenOptions::new().with_held(&held))?;
        let not_seen = self.refuse_changing()?;
        if let Some(pin) = pin_of(&self.path)? {
            return Err(Error::usage(
                format!("{} is pinned already, since {:.0}", self.path.display(), pin.pinned),
                "verifying the pin compares it with what was pinned",
            ));
        }
        let mut plan = Plan { operation: "pin", ..Plan::default() };
        let bytes = crate::chain::data_len(&disk)?;
        plan.warnings.extend(not_seen);
        plan.steps.push(format!("mark {} read-only on this host", self.path.display()));
        plan.steps.push(format!("read {} and keep its digests in the companion", format_size(bytes)));
        plan.files.change.push(self.path.clone());
        plan.files.create.push(Companion::place(&self.path));
        plan.bytes_read = bytes;
        // Each digest as text.
        plan.bytes_written = bytes.div_ceil(PIECE) * 80 + 4096;
        plan.peak_extra_space = plan.bytes_written;
        Ok(PinPlan { plan, request: self, disk, held })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

fn pin_of(path: &Path) -> Result<Option<Pin>> {
    Ok(Companion::known(path)?.and_then(|companion| companion.pin))
}

/// A checked plan to pin.
pub struct PinPlan {
    plan: Plan,
    request: PinImage,
    disk: Chain,
    /// Keeps it locked against writers until its digests are kept.
    held: Arc<Held>,
}

/// What was pinned. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct PinOutcome {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Where its digests are kept.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub companion: PathBuf,
    /// The digest of the whole.
    pub digest: String,
    /// Pieces that hold anything but zeros.
    pub pieces: u64,
    /// The bytes that each digest covers.
    pub piece_size: u64,
}

impl Planned for PinPlan {
    type Outcome = PinOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Pins the image: first no writer can open it any more, then it is read, and in the end the companion says so. A
    /// run that is stopped or killed leaves it unpinned, at most with the read-only mark.
    ///
    /// # Errors
    /// `Cancelled`, `Io`, `Damaged`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let path = &self.request.path;
        self.request.refuse_changing()?;
        let marked = !is_marked_read_only(path)?;
        mark_read_only(path)?;
        let kept = self.keep(marked, progress);
        // Meanwhile somebody may have grown a child from it.
        let has_children =
            || Companion::known(path).map_or(true, |known| known.is_some_and(|it| !it.children.is_empty()));
        if kept.is_err() && marked && !has_children() {
            unmark_read_only(path)?;
        }
        kept
    }
}

impl PinPlan {
    fn keep(&self, marked: bool, progress: &Progress) -> Result<PinOutcome> {
        let path = &self.request.path;
        let digests = digest_pieces(&self.disk, PIECE, progress)?;
        let digest = digests.whole.to_string();
        let pieces = digests.runs.iter().map(|run| run.digests.len() as u64).sum();
        // A program without locks may have written while it was read: then the digests are of no state at all.
        self.request.refuse_changing()?;
        self.held.refuse_swapped(path)?;
        let pin = Pin {
            identity: self.disk.info().data_identity,
            virtual_size: self.disk.virtual_size(),
            piece_size: PIECE,
            runs: digests.runs,
            whole: digests.whole,
            modified: modified(path),
            pinned: Timestamp::now(),
            program: env!("CARGO_PKG_VERSION").to_owned(),
            marked,
        };
        Companion::change(path, &[], |companion| companion.pin = Some(pin))?;
        Ok(PinOutcome { path: path.clone(), companion: Companion::place(path), digest, pieces, piece_size: PIECE })
    }
}

/// Whether a pinned image still is what was pinned.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct PinReport {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// When it was pinned.
    pub pinned: Timestamp,
    /// Healthy when it is what was pinned, broken when it is not.
    pub state: Health,
    /// The ranges that changed, in whole pieces.
    pub changed: Vec<DiskRange>,
    /// Whether its identity is another one, so that its children do not find it any more.
    pub identity_changed: bool,
    /// The children in reach, and how much of what changed each of them reads.
    pub children: Vec<PinnedChild>,
    /// Whether the file had been touched, or copied by hand, though its content is what was pinned, and the record of
    /// the pin was put right.
    pub record_renewed: bool,
    /// Why that record could not be put right.
    pub record_stale: Option<String>,
}

/// A child of a pinned image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct PinnedChild {
    /// The child.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Bytes of the changed ranges that it does not hold itself.
    pub bytes_read_through: u64,
}

/// A pinned image to be compared with what was pinned: which ranges changed, and which children depend on them. When
/// nothing changed, though the file was touched or copied by hand, the pin's record of the file is put right: it is
/// whole again for whoever only looks.
#[derive(Clone, Debug)]
pub struct VerifyPin {
    path: PathBuf,
    guard: Guard,
}

impl VerifyPin {
    /// The image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), guard: Guard::new() }
    }
}

impl Operation for VerifyPin {
    type Planned = VerifyPinPlan;

    /// What comparing would read. The image and its parents stay locked against writers as long as the plan lives.
    ///
    /// # Errors
    /// `Usage` when it is not pinned; `Damaged` when what was kept cannot be read; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        let Some(pin) = pin_of(&self.path)? else {
            return Err(Error::usage(
                format!("{} is not pinned, so there is nothing to compare it with", self.path.display()),
                "pin it while it is known to be right",
            ));
        };
        let disk = Chain::open(&self.path, &OpenOptions::new())?;
        let time = modified(&self.path);
        let mut plan = Plan { operation: "pin verify", ..Plan::default() };
        plan.bytes_read = crate::chain::data_len(&disk)?;
        plan.steps.push(format!("read {} and compare it with its digests", format_size(plan.bytes_read)));
        Ok(VerifyPinPlan { plan, request: self, pin, disk, time })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to compare a pinned image.
pub struct VerifyPinPlan {
    plan: Plan,
    request: VerifyPin,
    pin: Pin,
    disk: Chain,
    /// When the file was last changed, at the time when it was locked.
    time: Option<Timestamp>,
}

impl Planned for VerifyPinPlan {
    type Outcome = PinReport;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Compares. What differs is part of the report.
    ///
    /// # Errors
    /// `Damaged` when the image, or what was kept, cannot be read; `Cancelled`, `Io`.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let Self { request: VerifyPin { path, guard }, pin, disk, time, .. } = self;
        let changed = changed_since(disk, pin, progress)?;
        let identity_changed = disk.info().data_identity != pin.identity;
        let mut children = Vec::new();
        if !changed.is_empty() || identity_changed {
            for child in children_of(path, &guard.search)?.all() {
                let bytes_read_through = read_through(child, &changed)?;
                children.push(PinnedChild { path: child.clone(), bytes_read_through });
            }
        }
        let ok = changed.is_empty() && !identity_changed;
        // The time is that of the file as it was when it was locked for reading: who wrote since has another one.
        let is_stale = ok && *time != pin.modified;
        let renew =
            || Companion::change(path, &[], |companion| companion.pin.iter_mut().for_each(|pin| pin.modified = *time));
        let renewed = if is_stale { Some(renew()) } else { None };
        Ok(PinReport {
            path: path.clone(),
            pinned: pin.pinned,
            state: if ok { Health::Healthy } else { Health::Broken },
            changed: changed.into_iter().map(DiskRange::from).collect(),
            identity_changed,
            children,
            record_renewed: matches!(renewed, Some(Ok(()))),
            record_stale: renewed.and_then(Result::err).map(|error| error.with_causes()),
        })
    }
}

/// How much of some ranges an image has from its parent.
fn read_through(child: &Path, ranges: &[Range<u64>]) -> Result<u64> {
    let Ok(Some((image, _))) = recognise(child) else { return Ok(0) };
    let mut bytes = 0;
    for range in ranges {
        let end = range.end.min(image.info().virtual_size);
        let mut at = range.start;
        while at < end {
            let extent = image.extent_at(at, end - at)?;
            bytes += if extent.source == Source::Parent { extent.len } else { 0 };
            at += extent.len;
        }
    }
    Ok(bytes)
}

/// What became of a pin.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct UnpinOutcome {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// Whether it can be written to again; images that others grew from, or may have grown from, stay read-only.
    pub writable: bool,
}

/// A pin to be taken away; its digests are forgotten.
///
/// Children of a pinned image may have been grown without a record, since nothing changed it; they are not known now.
#[derive(Clone, Debug)]
pub struct Unpin {
    path: PathBuf,
    guard: Guard,
}

impl Unpin {
    /// The pin of the image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), guard: Guard::new() }
    }
}

impl Operation for Unpin {
    type Planned = UnpinPlan;

    /// What taking it away would do. The image stays locked as long as the plan lives: nobody grows a child from it
    /// meanwhile.
    ///
    /// # Errors
    /// `Usage` when it is not pinned; `Refused` when it is in use or something is under way with it; `Damaged`, `Io`.
    fn plan(self) -> Result<Self::Planned> {
        let held = Arc::new(Held::default());
        held.take(&self.path, Access::AmendMetadata)?;
        refuse_under_way(&self.path)?;
        let not_pinned = || Error::usage(format!("{} is not pinned", self.path.display()), "nothing needs to be done");
        let pin = pin_of(&self.path)?.ok_or_else(not_pinned)?;
        let children = children_of(&self.path, &self.guard.search)?;
        let is_free = pin.marked && children.is_none();
        let mut plan = Plan { operation: "unpin", ..Plan::default() };
        plan.steps.push(format!("forget the digests of {}", self.path.display()));
        if is_free {
            plan.steps.push(format!("give {} its write permission back", self.path.display()));
        }
        plan.files.change.push(Companion::place(&self.path));
        Ok(UnpinPlan { plan, request: self, is_free, held })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to take a pin away.
pub struct UnpinPlan {
    plan: Plan,
    request: Unpin,
    /// Whether the image can be written to afterwards.
    is_free: bool,
    /// Keeps others away from the image.
    held: Arc<Held>,
}

impl Planned for UnpinPlan {
    type Outcome = UnpinOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Takes the pin away. After a crash the image is pinned or it is not.
    ///
    /// # Errors
    /// `Refused` when another file took the image's place; `Damaged`, `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let path = &self.request.path;
        self.held.refuse_swapped(path)?;
        Companion::change(path, &[], |companion| {
            companion.pin = None;
            companion.frozen = companion.frozen.filter(|_| !self.is_free);
        })?;
        if self.is_free {
            unmark_read_only(path)?;
        }
        Ok(UnpinOutcome { path: path.clone(), writable: !is_marked_read_only(path)? })
    }
}
