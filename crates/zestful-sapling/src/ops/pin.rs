//! A base is marked as never to change, with the digests that prove that it did not.

use std::ops::Range;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::Serialize;

use super::Plan;
use super::diff::DiffRange;
use super::kin::{Search, children_of, look};
use crate::chain::{
    Chain, Companion, Disk, OpenOptions, PIECE, Pin, changed_since, digest_pieces, modified, refuse_under_way,
};
use crate::error::{Error, Result};
use crate::image::Source;
use crate::progress::Progress;
use crate::size::format_size;
use crate::storage::{is_marked_read_only, mark_read_only, unmark_read_only};

/// An image to be pinned.
#[derive(Clone, Debug)]
pub struct PinImage {
    path: PathBuf,
}

impl PinImage {
    /// The image at `path`, a base as a rule.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into() }
    }

    /// What pinning would do.
    ///
    /// # Errors
    /// `Usage` when it is pinned already; `Refused` when somebody writes to it; otherwise as [`Chain::open`].
    pub fn plan(self) -> Result<PinPlan> {
        refuse_under_way(&self.path)?;
        if let Some(pin) = pin_of(&self.path)? {
            return Err(Error::usage(
                format!("{} is pinned already, since {:.0}", self.path.display(), pin.pinned),
                "`pin --verify` compares it with what was pinned",
            ));
        }
        let disk = Chain::open(&self.path, &OpenOptions::new())?;
        let mut plan = Plan { operation: "pin", ..Plan::default() };
        let bytes = crate::chain::data_len(&disk)?;
        plan.steps.push(format!("mark {} read-only on this host", self.path.display()));
        plan.steps.push(format!("read {} and keep its digests in the companion", format_size(bytes)));
        plan.files.change.push(self.path.clone());
        plan.files.create.push(Companion::place(&self.path));
        plan.bytes_read = bytes;
        // Each digest as text.
        plan.bytes_written = bytes.div_ceil(PIECE) * 80 + 4096;
        plan.peak_extra_space = plan.bytes_written;
        Ok(PinPlan { plan, path: self.path, disk })
    }
}

fn pin_of(path: &Path) -> Result<Option<Pin>> {
    Ok(Companion::of(path)?.and_then(|companion| companion.pin))
}

/// A checked plan to pin.
pub struct PinPlan {
    plan: Plan,
    path: PathBuf,
    /// Keeps it locked against writers until its digests are kept.
    disk: Chain,
}

/// What was pinned. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PinOutcome {
    /// The image.
    pub path: PathBuf,
    /// Where its digests are kept.
    pub companion: PathBuf,
    /// The digest of the whole.
    pub digest: String,
    /// Pieces that hold anything but zeros.
    pub pieces: u64,
    /// The bytes that each digest covers.
    pub piece_size: u64,
}

impl PinPlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Pins the image: first no writer can open it any more, then it is read, and in the end the companion says so. A run
    /// that is stopped or killed leaves it unpinned, at most with the read-only mark.
    ///
    /// # Errors
    /// `Cancelled`, `Io`, `Damaged`.
    pub fn run(&self, progress: &Progress) -> Result<PinOutcome> {
        let marked = !is_marked_read_only(&self.path)?;
        mark_read_only(&self.path)?;
        let kept = self.keep(marked, progress);
        if kept.is_err() && marked {
            unmark_read_only(&self.path)?;
        }
        kept
    }

    fn keep(&self, marked: bool, progress: &Progress) -> Result<PinOutcome> {
        let digests = digest_pieces(&self.disk, PIECE, progress)?;
        let digest = digests.whole.to_string();
        let pieces = digests.runs.iter().map(|run| run.digests.len() as u64).sum();
        let mut companion = Companion::of(&self.path)?.unwrap_or_default();
        companion.pin = Some(Pin {
            identity: self.disk.info().data_identity,
            virtual_size: self.disk.virtual_size(),
            piece_size: PIECE,
            runs: digests.runs,
            whole: digests.whole,
            modified: modified(&self.path),
            pinned: Timestamp::now(),
            program: env!("CARGO_PKG_VERSION").to_owned(),
            marked,
        });
        companion.put(&self.path)?;
        Ok(PinOutcome {
            path: self.path.clone(),
            companion: Companion::place(&self.path),
            digest,
            pieces,
            piece_size: PIECE,
        })
    }
}

/// Whether a pinned image still is what was pinned.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PinReport {
    /// The image.
    pub path: PathBuf,
    /// When it was pinned.
    pub pinned: Timestamp,
    /// Whether it is what it was.
    pub ok: bool,
    /// The ranges that changed, in whole pieces.
    pub changed: Vec<DiffRange>,
    /// Whether its identity is another one, so that its children do not find it any more.
    pub identity_changed: bool,
    /// The children in reach, and how much of what changed each of them reads.
    pub children: Vec<PinnedChild>,
}

/// A child of a pinned image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct PinnedChild {
    /// The child.
    pub path: PathBuf,
    /// Bytes of the changed ranges that it does not hold itself.
    pub bytes_read_through: u64,
}

/// Compares a pinned image with what was pinned, and tells which ranges changed and which children depend on them.
///
/// # Errors
/// `Usage` when it is not pinned; `Damaged` when it, or what was kept, cannot be read; `Cancelled`, `Io`.
pub fn verify_pin(path: &Path, search: &Search, progress: &Progress) -> Result<PinReport> {
    let Some(pin) = pin_of(path)? else {
        return Err(Error::usage(
            format!("{} is not pinned, so there is nothing to compare it with", path.display()),
            "pin it while it is known to be right (`pin`)",
        ));
    };
    let disk = Chain::open(path, &OpenOptions::new())?;
    let changed = changed_since(&disk, &pin, progress)?;
    let identity_changed = disk.info().data_identity != pin.identity;
    let mut children = Vec::new();
    if !changed.is_empty() || identity_changed {
        for child in children_of(path, search)?.all() {
            let bytes_read_through = read_through(child, &changed)?;
            children.push(PinnedChild { path: child.clone(), bytes_read_through });
        }
    }
    let ok = changed.is_empty() && !identity_changed;
    let changed = changed.into_iter().map(|range| DiffRange { offset: range.start, length: range.end - range.start });
    Ok(PinReport {
        path: path.to_owned(),
        pinned: pin.pinned,
        ok,
        changed: changed.collect(),
        identity_changed,
        children,
    })
}

/// How much of some ranges an image has from its parent.
fn read_through(child: &Path, ranges: &[Range<u64>]) -> Result<u64> {
    let Some((image, _)) = look(child) else { return Ok(0) };
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct UnpinOutcome {
    /// The image.
    pub path: PathBuf,
    /// Whether it can be written to again; images that others grew from stay read-only.
    pub writable: bool,
}

/// Takes the pin of an image away; its digests are forgotten. After a crash it is pinned or it is not.
///
/// # Errors
/// `Usage` when it is not pinned; `Damaged`, `Io`.
pub fn unpin(path: &Path) -> Result<UnpinOutcome> {
    let Some(mut companion) = Companion::of(path)? else { return Err(not_pinned(path)) };
    let Some(pin) = companion.pin.take() else { return Err(not_pinned(path)) };
    companion.put(path)?;
    let children = children_of(path, &Search::default())?;
    let needed = children.all().next().is_some() || !children.unseen.is_empty();
    if pin.marked && !needed {
        unmark_read_only(path)?;
    }
    Ok(UnpinOutcome { path: path.to_owned(), writable: !is_marked_read_only(path)? })
}

fn not_pinned(path: &Path) -> Error {
    Error::usage(format!("{} is not pinned", path.display()), "`show` tells whether an image is")
}
