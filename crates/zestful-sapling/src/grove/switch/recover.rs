//! A switch that was cut short: done to its end, taken back, or left as it is.

use std::path::Path;
use std::sync::Arc;

use super::super::begun::Begun;
use super::super::folder::{clear_folder, save};
use super::run::Switching;
use super::stand::{Stand, open_ways, stands_of, stuck};
use super::{ReadyDisk, Switch, SwitchMark, SwitchRecord, Switched, switched};
use crate::chain::{Chain, OpenOptions};
use crate::error::{Error, Refusal, Result};
use crate::family::Guard;
use crate::sidecar::{Catalogue, Header, Journal, Work};
use crate::storage::{Access, Held, mark_read_only};

/// A switch that was cut short, its journal and its files in our hands.
struct CutShort<'a> {
    folder: &'a Path,
    catalogue: &'a Catalogue,
    guard: &'a Guard,
    journal: Journal<Switch>,
    record: SwitchRecord,
    ready: Vec<ReadyDisk>,
    held: Arc<Held>,
}

impl<'a> CutShort<'a> {
    fn take(folder: &'a Path, catalogue: &'a Catalogue, begun: &Header, guard: &'a Guard) -> Result<Self> {
        Self::take_with(Arc::default(), folder, catalogue, begun, guard)
    }

    /// Some of its files may be in our hands already.
    fn take_with(
        held: Arc<Held>,
        folder: &'a Path,
        catalogue: &'a Catalogue,
        begun: &Header,
        guard: &'a Guard,
    ) -> Result<Self> {
        guard.refuse_other_host(begun)?;
        begun.refuse_unproven()?;
        let (journal, marks) = Journal::<Switch>::reopen(begun)?;
        let record = journal.record().as_found();
        let ready = marks.into_iter().last().map_or_else(Vec::new, |SwitchMark::Ready(ready)| ready);
        for disk in switched(folder, &record) {
            for path in [disk.path(), &disk.kept].into_iter().filter(|path| path.exists()) {
                held.take(path, Access::AmendMetadata)?;
            }
            if let Some(base) = disk.base {
                Chain::open(&base.path, &OpenOptions::new().with_held(&held))?;
            }
            guard.refuse_writers([disk.path()])?;
        }
        Ok(Self { folder, catalogue, guard, journal, record, ready, held })
    }

    fn switching(&self) -> Switching<'_> {
        Switching { folder: self.folder, catalogue: self.catalogue, held: &self.held, guard: self.guard }
    }

    fn told(&self, done: bool) -> Begun {
        let kept = &self.record.payload.kept;
        Begun { path: self.folder.to_owned(), work: self.record.header.work, checkpoint: kept.name.clone(), done }
    }

    fn stands(&self, disks: &[Switched<'_>]) -> Vec<Stand> {
        stands_of(&self.record, disks, &self.ready)
    }

    fn forward(self, stands: &[Stand]) -> Result<Begun> {
        let told = self.told(true);
        self.switching()
            .forward(&self.journal, &self.ready, stands)
            .map_err(|error: Error| error.under_way(self.folder))?;
        self.journal.end()?;
        Ok(told)
    }

    fn back(self, disks: &[Switched<'_>]) -> Result<Begun> {
        let told = self.told(false);
        self.switching().back(&self.record, disks).map_err(|error: Error| error.under_way(self.folder))?;
        self.journal.end()?;
        Ok(told)
    }
}

/// Does it to its end where anything of it is to be seen, else takes it back.
///
/// # Errors
/// `Refused` when another host began it, or an image was written to meanwhile, so that neither is possible; `UnderWay`
/// when it could not be finished this time either.
pub(in crate::grove) fn recover(folder: &Path, catalogue: &Catalogue, begun: &Header, guard: &Guard) -> Result<Begun> {
    recover_held(Arc::default(), folder, catalogue, begun, guard)
}

/// The same, with some of its files in our hands already.
///
/// # Errors
/// As [`recover`].
pub(super) fn recover_held(
    held: Arc<Held>,
    folder: &Path,
    catalogue: &Catalogue,
    begun: &Header,
    guard: &Guard,
) -> Result<Begun> {
    let work = CutShort::take_with(held, folder, catalogue, begun, guard)?;
    let record = work.record.clone();
    let disks = switched(folder, &record);
    let stands = work.stands(&disks);
    let is_seen = stands.iter().any(|stand| !stand.is_old()) || has_entry(catalogue, &record);
    match (is_seen && !work.ready.is_empty(), open_ways(&stands)) {
        (true, (true, _)) => work.forward(&stands),
        (_, (_, true)) => work.back(&disks),
        _ => Err(stuck(&record, &disks, &stands)),
    }
}

fn has_entry(catalogue: &Catalogue, record: &SwitchRecord) -> bool {
    catalogue.next > record.payload.kept.number
}

/// Does it to its end.
///
/// # Errors
/// As [`recover`].
pub(in crate::grove) fn carry_on(folder: &Path, catalogue: &Catalogue, begun: &Header, guard: &Guard) -> Result<Begun> {
    let work = CutShort::take(folder, catalogue, begun, guard)?;
    let record = work.record.clone();
    let disks = switched(folder, &record);
    let stands = work.stands(&disks);
    match (work.ready.is_empty(), open_ways(&stands)) {
        // Nothing of it was finished: what it wanted to keep may have been written to since.
        (true, (_, true)) => work.back(&disks),
        (false, (true, _)) => work.forward(&stands),
        _ => Err(stuck(&record, &disks, &stands)),
    }
}

/// Takes it back, or, where an image was written to, leaves each disk as it reads now.
///
/// # Errors
/// As [`recover`].
pub(in crate::grove) fn give_up(folder: &Path, catalogue: &Catalogue, begun: &Header, guard: &Guard) -> Result<Begun> {
    let work = CutShort::take(folder, catalogue, begun, guard)?;
    let record = work.record.clone();
    let disks = switched(folder, &record);
    let stands = work.stands(&disks);
    match open_ways(&stands) {
        (_, true) => work.back(&disks),
        (true, false) => Err(Error::refused(
            Refusal::UnderWay { image: folder.to_owned(), must_go_on: true },
            format!("{} in {} has come too far to be taken back", begun.work, folder.display()),
            "only going on is left",
        )),
        _ if stands.contains(&Stand::Other) => Err(stuck(&record, &disks, &stands)),
        _ => work.leave(&disks, &stands),
    }
}

impl CutShort<'_> {
    /// Each disk stays as it reads now; what was frozen is kept, as a checkpoint that is named for it.
    fn leave(self, disks: &[Switched<'_>], stands: &[Stand]) -> Result<Begun> {
        let kept = &self.record.payload.kept;
        let mut left = kept.clone();
        left.name = Some(format!("unfinished-{}", kept.number));
        left.note = format!("what {} that was cut short had frozen", self.record.header.work);
        left.disks.clear();
        for ((disk, stand), layer) in disks.iter().zip(stands).zip(&kept.disks) {
            if stand.is_old() {
                disk.take_back(&self.held, self.guard)?;
            } else if disk.kept.exists() {
                mark_read_only(&disk.kept)?;
                left.disks.push(layer.clone());
            }
        }
        self.switching().clear_left_over(disks)?;
        let mut catalogue = self.catalogue.clone();
        catalogue.checkpoints.retain(|one| one.number != kept.number);
        catalogue.next = catalogue.next.max(kept.number + 1);
        let has_layers = !left.disks.is_empty();
        if has_layers && self.record.header.work == Work::Take {
            catalogue.after = Some(kept.number);
        }
        if has_layers {
            catalogue.checkpoints.push(left);
        }
        save(self.folder, &catalogue)?;
        if !has_layers {
            clear_folder(&self.folder.join(&kept.folder))?;
        }
        let told = self.told(false);
        self.journal.end()?;
        Ok(told)
    }
}
