//! The base that new children grow from, from the look at it to the moment at which they have their names.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use uuid::Uuid;

use super::blank::BlankChild;
use crate::chain::{Chain, Disk, OpenOptions, identity_of, record_of};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, record_children};
use crate::image::{ImageInfo, format_of_name};
use crate::operation::Plan;
use crate::sidecar::{ChildrenChange, Companion, NewChild, refuse_under_way};
use crate::size::format_size;
use crate::storage::{Held, StagedFile, is_marked_read_only, mark_read_only, refuse_existing, unmark_read_only};

/// How long a look at all processes of the host counts, which takes a noticeable part of the time of so small a change.
const INSTANT: Duration = Duration::from_millis(20);

/// A base that children are to grow from.
pub(in crate::ops) struct Base {
    path: PathBuf,
    guard: Guard,
    /// Keeps the base and its parents locked against writers until the children are there.
    held: Arc<Held>,
    info: ImageInfo,
    identity: Uuid,
    /// When it was found out who has the base open for writing.
    looked: Instant,
}

/// What became of it when its children appeared.
pub(in crate::ops) struct Born {
    /// Whether the base was frozen by this.
    pub(in crate::ops) newly_frozen: bool,
    /// Why the children could not be recorded in the base's companion, where that was allowed.
    pub(in crate::ops) unrecorded: Option<String>,
}

impl Base {
    /// Opens a base with its whole chain, so that no child is grown from a broken one, and keeps it locked against
    /// writers.
    pub(in crate::ops) fn open(path: &Path, guard: &Guard, plan: &mut Plan) -> Result<(Self, Chain)> {
        let held = Arc::new(Held::default());
        let chain = Chain::open(path, &OpenOptions::new().with_held(&held))?;
        // The base is locked from here on. What was begun with it before shows in the journal beside it.
        refuse_changing(path, guard)?;
        let not_seen = guard.refuse_writers([path])?;
        let looked = Instant::now();
        let info = chain.info().clone();
        let identity = identity_of(path, &info)?;
        plan.warnings.extend(not_seen);
        if !is_marked_read_only(path)? {
            plan.steps.push(format!("mark {} read-only on this host", path.display()));
            plan.files.change.push(path.to_owned());
        }
        Ok((Self { path: path.to_owned(), guard: guard.clone(), held, info, identity, looked }, chain))
    }

    pub(in crate::ops) fn path(&self) -> &Path {
        &self.path
    }

    /// The options with which it is opened once more under its locks.
    pub(in crate::ops) fn options(&self) -> OpenOptions {
        OpenOptions::new().with_held(&self.held)
    }

    /// An empty child of `size` bytes that is to stand at `place`.
    pub(in crate::ops) fn child(
        &self,
        place: &Path,
        size: u64,
        absolute: bool,
        block_size: Option<u64>,
        plan: &mut Plan,
    ) -> Result<BlankChild> {
        refuse_existing(place)?;
        let format = self.info.format;
        if format_of_name(place) != Some(format) {
            return Err(Error::usage(
                format!("{} does not end in .{format}", place.display()),
                format!("a child of a {format} image is a {format} image: name it so"),
            ));
        }
        let record = record_of(place, &self.path, &self.info, absolute)?;
        let info = ImageInfo { virtual_size: size, ..self.info.clone() };
        let blank = BlankChild::new(format, &info, record, block_size)?;
        plan.steps.push(format!(
            "make {}: {format}, differencing, {}, a child of {}",
            place.display(),
            format_size(size),
            self.path.display()
        ));
        plan.files.create.push(place.to_owned());
        plan.peak_extra_space += blank.metadata_len()?;
        Ok(blank)
    }

    /// The last step of a plan.
    pub(in crate::ops) fn plan_record(&self, plan: &mut Plan) {
        let what = if plan.files.create.len() == 1 { "it" } else { "them" };
        plan.steps.push(format!("record {what} in {}", Companion::place(&self.path).display()));
    }

    /// Marks the base read-only, records the children in its companion, and gives them their names. A child is
    /// recorded, durably, before it appears; it appears whole and durable or not at all. After a crash a recorded child
    /// may not be there.
    ///
    /// # Errors
    /// `Refused` when the base was touched since it was opened, or cannot record its children. Children that appeared
    /// before stay.
    pub(in crate::ops) fn bear(&self, staged: Vec<StagedFile>) -> Result<Born> {
        let base = &self.path;
        refuse_changing(base, &self.guard)?;
        // A program that opens the base just after the look is not seen, and no look could see it.
        if self.looked.elapsed() > INSTANT {
            self.guard.refuse_writers([&**base])?;
        }
        self.held.refuse_swapped(base)?;
        let found = self.held.image(base)?.info().data_identity;
        if found != Some(self.identity) {
            return Err(Error::refused(
                Refusal::changed(base),
                format!("{} was changed by another program since the plan was made", base.display()),
                "end what uses it, and begin again",
            ));
        }
        let newly_frozen = !is_marked_read_only(base)?;
        let names: Vec<PathBuf> = staged.iter().map(|file| file.target().to_owned()).collect();
        let born = self.record_and_publish(staged, newly_frozen);
        let unrecorded = born.inspect_err(|_| self.take_back(names, newly_frozen))?;
        Ok(Born { newly_frozen, unrecorded })
    }

    fn record_and_publish(&self, staged: Vec<StagedFile>, newly_frozen: bool) -> Result<Option<String>> {
        let record = |file: &StagedFile| -> Result<NewChild> { Ok((file.target().to_owned(), Some(file.file_id()?))) };
        let new = staged.iter().map(record).collect::<Result<Vec<NewChild>>>()?;
        let change = ChildrenChange { new: &new, freezes: newly_frozen, ..ChildrenChange::default() };
        let unrecorded = record_children(&self.path, &change, &self.guard)?;
        mark_read_only(&self.path)?;
        staged.into_iter().try_for_each(StagedFile::publish)?;
        Ok(unrecorded)
    }

    /// Strikes children off the record that were recorded and did not appear. An error is left out: another one, which
    /// ended the work, is told.
    fn take_back(&self, names: Vec<PathBuf>, newly_frozen: bool) {
        let all = names.len();
        let missing: Vec<PathBuf> = names.into_iter().filter(|child| refuse_existing(child).is_ok()).collect();
        let thaws = newly_frozen && missing.len() == all;
        let change = ChildrenChange { gone: &missing, thaws, ..ChildrenChange::default() };
        _ = Companion::change_children(&self.path, &change);
        if thaws {
            _ = unmark_read_only(&self.path);
        }
    }
}

/// Refuses a base that something is happening to.
fn refuse_changing(base: &Path, guard: &Guard) -> Result<()> {
    refuse_under_way(base)?;
    guard.refuse_hard_links(base)
}
