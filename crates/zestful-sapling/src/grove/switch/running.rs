//! A checkpoint is taken while the machine runs: this process has its disks open for those who use them, and changes
//! the images under them.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use super::super::begun::Begun;
use super::super::copying;
use super::super::folder::{Locked, unfinished};
use super::super::resume::plan_to_settle;
use super::draft::Draft;
use super::recover::recover_held;
use super::run::{Switching, Users, refuse_changed};
use super::take::{TakeCheckpoint, TakeOutcome, tracked};
use crate::chain::{Disk, NextLayer, SharedDisk, Standstill, too_long};
use crate::error::{Error, Refusal, Result};
use crate::family::Guard;
use crate::image::{Image, ImageInfo};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{Journal, Work};
use crate::storage::{Access, FileStorage, Held, ReadAt};

/// How long requests may have to wait, unless told otherwise.
pub const PAUSE_AT_MOST: Duration = Duration::from_secs(5);

/// A checkpoint of a machine that runs, to be taken by the process that has its disks open.
///
/// Requests on all disks wait, those that were begun end, all is flushed, all disks are switched, and requests go on:
/// so the checkpoint is one moment on all of them. Whoever was told that one write is done before asking for another
/// one, on whichever disk, never finds the second without the first.
///
/// ```
/// use std::sync::Arc;
/// use zestful_sapling::chain::{ChainMut, OpenOptions, SharedDisk};
/// use zestful_sapling::grove::{AddDisk, Grove, NewGrove, TakeCheckpoint};
/// use zestful_sapling::ops::{Make, Operation, Planned};
/// use zestful_sapling::progress::Progress;
///
/// # let folder = tempfile::tempdir().unwrap();
/// # let (folder, progress) = (folder.path().join("herbarium"), Progress::new());
/// # std::fs::create_dir(&folder).unwrap();
/// let image = folder.join("system.vhdx");
/// Make::new(&image, 1 << 30).plan()?.run(&progress)?;
/// NewGrove::new(&folder, "herbarium").plan()?.run(&progress)?;
/// AddDisk::new(&folder, &image).plan()?.run(&progress)?;
///
/// let disk = Arc::new(SharedDisk::new(ChainMut::open(&image, &OpenOptions::new())?));
/// disk.write_at(b"before the upgrade", 0)?;
/// TakeCheckpoint::new(&folder, "before-upgrade").of_running(vec![disk.clone()]).plan()?.run(&progress)?;
/// disk.write_at(b"after the upgrade ", 0)?;
/// assert_eq!(disk.layers(), 2);
/// assert_eq!(Grove::open(&folder)?.catalogue().checkpoints.len(), 1);
/// # Ok::<(), zestful_sapling::Error>(())
/// ```
#[derive(Clone)]
pub struct TakeRunning {
    request: TakeCheckpoint,
    disks: Vec<Arc<SharedDisk>>,
    pause_at_most: Duration,
}

impl TakeCheckpoint {
    /// Of a machine that runs, whose disks these are. Others may be among them.
    pub fn of_running(self, disks: Vec<Arc<SharedDisk>>) -> TakeRunning {
        TakeRunning { request: self, disks, pause_at_most: PAUSE_AT_MOST }
    }
}

impl TakeRunning {
    /// Requests wait for so long at most, or the checkpoint is not taken; [`PAUSE_AT_MOST`] unless told otherwise. The
    /// host is not asked in vain: what it was told to do, such as a sync, is waited for.
    pub fn with_pause_at_most(mut self, most: Duration) -> Self {
        self.pause_at_most = most;
        self
    }

    /// The disks that the checkpoint keeps, in the order of the catalogue.
    fn in_order(&self, locked: &Locked) -> Result<Vec<Arc<SharedDisk>>> {
        let grove = &locked.grove;
        let (mut found, mut missing) = (Vec::new(), Vec::new());
        for disk in tracked(grove.catalogue())? {
            let path = grove.path(&disk.path);
            match self.disks.iter().find(|open| open.stands_at(&path)) {
                Some(open) => found.push(open.clone()),
                None => missing.push(disk.label.clone()),
            }
        }
        if missing.is_empty() {
            return Ok(found);
        }
        Err(Error::refused(
            Refusal::NotAllDisks { missing: missing.clone() },
            format!(
                "a checkpoint keeps all tracked disks at one moment, and the process that has disks of {} open for \
                 writing does not have these: {}",
                grove.catalogue().machine,
                missing.join(", ")
            ),
            "have one process serve all disks of the machine for writing, or end it before the checkpoint is taken",
        ))
    }

    fn draft<'a>(&self, locked: &'a Locked, guard: &'a Guard, disks: &[Arc<SharedDisk>]) -> Result<Draft<'a>> {
        let mut rest = disks.iter();
        self.request.draft(locked, guard, |draft, disk| match rest.next() {
            Some(open) => draft.add_open(disk, &open.info()),
            None => Ok(()),
        })
    }
}

impl Operation for TakeRunning {
    type Planned = TakeRunningPlan;

    /// What taking it would do. The grove stays locked as long as the plan lives; requests go on.
    ///
    /// # Errors
    /// As for [`TakeCheckpoint`]; `Refused` also when a tracked disk is not among those that are open
    /// ([`NotAllDisks`](crate::Refusal::NotAllDisks)).
    fn plan(self) -> Result<Self::Planned> {
        let locked = Locked::take(&self.request.folder)?;
        let guard = self.request.guard.clone().of_grove(locked.grove.folder());
        let disks = self.in_order(&locked)?;
        let mut plan = match &locked.begun {
            Some(begun) => plan_to_settle(begun, "checkpoint take")?,
            None => self.draft(&locked, &guard, &disks)?.plan,
        };
        let most = self.pause_at_most.as_secs_f64();
        plan.steps.push(format!("have requests on {} wait meanwhile, for {most} s at most", count(disks.len())));
        Ok(TakeRunningPlan { plan, request: self, locked, guard, disks })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.request.guard)
    }
}

fn count(disks: usize) -> String {
    if disks == 1 { "the disk".to_owned() } else { format!("the {disks} disks") }
}

/// A checked plan to take a checkpoint of a machine that runs.
pub struct TakeRunningPlan {
    plan: Plan,
    request: TakeRunning,
    locked: Locked,
    guard: Guard,
    disks: Vec<Arc<SharedDisk>>,
}

impl Planned for TakeRunningPlan {
    type Outcome = TakeOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Takes it. What [`TakePlan`](super::TakePlan) promises of crashes holds; what was flushed before is in the
    /// checkpoint, and requests go on whatever becomes of it.
    ///
    /// # Errors
    /// As the plan; `Refused` ([`PauseTooLong`](crate::Refusal::PauseTooLong)) when requests would have had to wait for
    /// too long, and nothing has changed. After `UnderWay` requests go on in the new images, and taking another
    /// checkpoint finishes this one first. When a disk cannot be opened again after a failure it takes no more writes,
    /// which is said; all that was flushed is there.
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        progress.check()?;
        let begun = self.settle_begun()?;
        let locked = self.locked.again()?;
        let draft = self.request.draft(&locked, &self.guard, &self.disks)?;
        let mut warnings = draft.plan.warnings.clone();
        // Most of the work is done while requests go on.
        self.disks.iter().try_for_each(|disk| disk.flush())?;
        let mut pause = Pause::begin(&self.disks, self.request.pause_at_most)?;
        let taken = self.switch(&locked, draft, &mut pause);
        let paused = pause.end()?;
        let mut outcome = taken?;
        for (layer, disk) in outcome.1.iter().zip(&self.disks) {
            // The checkpoint is there all the same.
            if let Err(error) = disk.let_others_read_below(layer) {
                warnings.push(format!("nobody else can read {} until the disk is closed: {error}", layer.display()));
            }
        }
        outcome.0.paused_milliseconds = Some(u64::try_from(paused.as_millis()).unwrap_or(u64::MAX));
        Ok(TakeOutcome { begun, warnings, ..outcome.0 })
    }
}

impl TakeRunningPlan {
    /// Finishes a checkpoint that could not be finished before, or takes it back, while the disks stand still.
    fn settle_begun(&self) -> Result<Option<Begun>> {
        let locked = self.locked.again()?;
        let Some(header) = &locked.begun else { return Ok(None) };
        match header.work {
            Work::Copy => return copying::take_back(header, &self.guard).map(Some),
            Work::Take => {}
            _ => return Err(unfinished(header)),
        }
        let (folder, catalogue) = (locked.grove.folder(), locked.grove.catalogue());
        self.disks.iter().try_for_each(|disk| disk.flush())?;
        let mut pause = Pause::begin(&self.disks, self.request.pause_at_most)?;
        pause.paths = tracked(catalogue)?.iter().map(|disk| locked.grove.path(&disk.path)).collect();
        let settled = pause.settle().and_then(|_| recover_held(pause.hold()?, folder, catalogue, header, &self.guard));
        pause.end()?;
        let begun = settled?;
        let grove = locked.again()?.grove;
        let kept = begun.checkpoint.as_ref().and_then(|name| grove.catalogue().checkpoint(name));
        for (layer, disk) in kept.iter().flat_map(|kept| &kept.disks).zip(&self.disks) {
            disk.let_others_read_below(&grove.path(&layer.path))?;
        }
        Ok(Some(begun))
    }

    /// Also returns where the frozen images stand.
    fn switch(
        &self,
        locked: &Locked,
        mut draft: Draft<'_>,
        pause: &mut Pause<'_>,
    ) -> Result<(TakeOutcome, Vec<PathBuf>)> {
        let infos = pause.settle()?;
        draft.stand_still(&infos)?;
        let after = locked.grove.catalogue().next;
        let (record, _, held) = draft.finish(Work::Take, Some(after));
        for (member, file) in record.header.members.iter().zip(&pause.files) {
            held.adopt(&member.path, file)?;
            pause.paths.push(member.path.clone());
        }
        refuse_changed(&record, &held)?;
        let (folder, catalogue, guard) = (locked.grove.folder(), locked.grove.catalogue(), &self.guard);
        Switching { folder, catalogue, held: &held, guard }.run(Journal::begin(record.clone())?, pause)?;
        let kept = record.payload.kept.disks.iter().map(|layer| locked.grove.path(&layer.path)).collect();
        Ok((self.request.request.outcome(locked, &record), kept))
    }
}

/// Disks whose users wait.
struct Pause<'a> {
    /// Until requests go on.
    still: Option<Standstill<'a>>,
    since: Instant,
    until: Instant,
    paused: Option<Duration>,
    /// The current images, handed over.
    files: Vec<Arc<FileStorage>>,
    paths: Vec<PathBuf>,
}

impl<'a> Pause<'a> {
    fn begin(disks: &'a [Arc<SharedDisk>], at_most: Duration) -> Result<Self> {
        let since = Instant::now();
        let until = since + at_most;
        let still = Some(Standstill::of(disks, until)?);
        Ok(Self { still, since, until, paused: None, files: Vec::new(), paths: Vec::new() })
    }

    /// Has what each disk holds durable and tidy; what the images say of themselves then.
    fn settle(&mut self) -> Result<Vec<ImageInfo>> {
        let mut infos = Vec::new();
        for chain in self.still.iter_mut().flat_map(Standstill::chains) {
            self.files.push(chain.hand_over()?);
            infos.push(chain.info().clone());
        }
        self.may_be_seen()?;
        Ok(infos)
    }

    /// The files that are locked for them.
    fn hold(&mut self) -> Result<Arc<Held>> {
        let held = Held::default();
        for chain in self.still.iter_mut().flat_map(Standstill::chains) {
            chain.files().try_for_each(|file| held.keep(&file))?;
        }
        Ok(Arc::new(held))
    }

    /// Has requests go on where they do not yet, in whichever image stands under each disk's name, and tells how long
    /// they have waited.
    fn end(mut self) -> Result<Duration> {
        let mut failed = None;
        if let Some(mut still) = self.still.take() {
            for ((number, file), chain) in self.files.iter().enumerate().zip(still.chains()) {
                let moved = self.paths.get(number).filter(|path| !file.stands_at(path).unwrap_or(false));
                let done = match moved {
                    None => chain.take_up(file.clone()),
                    Some(path) => FileStorage::open(path, Access::Write)
                        .and_then(|new| chain.next_layer(file.clone(), Arc::new(new)))
                        .map(|next| chain.go_on_over(next)),
                };
                failed = failed.or(done.err().map(|error| not_opened_again(chain.layer(0).map(Image::path), &error)));
            }
        }
        failed.map_or(Ok(self.paused.unwrap_or_else(|| self.since.elapsed())), Err)
    }
}

/// A disk stays with an image to which nothing more is written.
fn not_opened_again(path: Option<&Path>, error: &Error) -> Error {
    let path = path.unwrap_or(Path::new("a disk"));
    Error::refused(
        Refusal::EarlierFailure { path: path.to_owned() },
        format!(
            "{} could not be opened again when the checkpoint had failed, so nothing more is written to it: {}",
            path.display(),
            error.with_causes()
        ),
        "mend the cause, end what has the disk open, and open it again; all that was flushed is there",
    )
}

impl Users for Pause<'_> {
    fn may_be_seen(&mut self) -> Result<()> {
        match Instant::now() < self.until {
            true => Ok(()),
            false => Err(too_long("the host takes its time to make their content durable")),
        }
    }

    fn go_on_in(&mut self, new: Vec<Arc<FileStorage>>) -> Result<()> {
        let Some(still) = &mut self.still else { return Ok(()) };
        let each = still.chains().zip(&self.files).zip(new);
        let next = each.map(|((chain, old), new)| chain.next_layer(old.clone(), new));
        let next = next.collect::<Result<Vec<NextLayer>>>()?;
        still.chains().zip(next).for_each(|(chain, next)| chain.go_on_over(next));
        self.still = None;
        self.paused = Some(self.since.elapsed());
        Ok(())
    }

    fn are_there(&self) -> bool {
        true
    }
}
