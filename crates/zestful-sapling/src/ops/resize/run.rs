//! The disk gets its size; carried on, or given up, where that was cut short.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::judge::first_data;
use super::plan::ResizePlan;
use super::record::{ResizeMark, ResizeRecord};
use crate::chain::{ChainMut, Disk, OpenOptions, open_parents};
use crate::error::{Error, Refusal, Result};
use crate::family::Guard;
use crate::image::{Format, Kind, Space, open_image_mut, vhd};
use crate::operation::{Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{Header, Journal, Member, Record, Redo, RedoPiece, modified, remove_redo};
use crate::storage::{Access, FileStorage, HostIdentity, ReadAt, Storage, folder_of};

/// What a disk writes whole or not at all.
const SECTOR: usize = 512;

/// What became of it. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct ResizeOutcome {
    /// The current image of the disk.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The size that it had.
    pub before: u64,
    /// The size that it has.
    pub after: u64,
    /// The partition that got another size with it.
    pub partition: Option<ResizedPartition>,
    /// Whether its file system took the space that was there.
    pub extended: bool,
    /// Layers below the disk: what stands there keeps the size that it has.
    pub layers_below: usize,
}

/// A partition that got another size. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct ResizedPartition {
    /// Its number.
    pub number: u32,
    /// The length that it had.
    pub before: u64,
    /// The length that it has.
    pub after: u64,
}

impl Planned for ResizePlan {
    type Outcome = ResizeOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Gives the disk its size. After a crash it has the old size or the new one, and where a partition table follows,
    /// or the image is a VHD, something is under way that can be carried on, and given up as long as nothing of the
    /// content was changed. Whatever is read meanwhile is what was there, or zero where the disk is new.
    ///
    /// # Errors
    /// `Refused` when the image was swapped, or written to since the plan was made; `UnderWay` when it was begun and
    /// could be neither finished nor taken back; `Io`.
    fn run(&self, progress: &Progress) -> Result<ResizeOutcome> {
        self.look_again()?;
        let options = OpenOptions::of_format(self.request.format);
        let record = self.extend_volume(progress)?;
        let begun = self.begin(&options, record).inspect_err(|_| remove_redo(&self.path).unwrap_or_default())?;
        let (mut disk, journal) = begun;
        let Some((journal, file)) = journal else {
            let layers_below = disk.parents().len();
            let resized = self.record.resize(&mut disk, progress);
            let closed = disk.close();
            resized.and(closed)?;
            return Ok(self.record.outcome(&self.request.path, layers_below));
        };
        let (identity, stand, opened) = (self.locked.identity, Stand::Begun, Some(disk));
        let work = Resizing { journal, stand, is_reopened: false, file, identity, options, opened };
        let done = work.run(progress)?;
        Ok(ResizeOutcome { path: self.request.path.clone(), ..done })
    }
}

impl ResizePlan {
    /// Nothing has happened to the image since it was looked at.
    fn look_again(&self) -> Result<()> {
        self.locked.refuse_swapped(&self.path)?;
        self.request.guard.refuse_writers([&*self.path])?;
        if (modified(&self.path), self.locked.storage.len()?) != self.before {
            return Err(Error::refused(
                Refusal::changed(&self.path),
                format!("{} was written to since the plan was made", self.path.display()),
                "look at it again, and begin again",
            ));
        }
        Ok(())
    }

    /// The disk, open, and the record of what happens to it, where one is kept. What cannot be opened leaves none.
    fn begin(&self, options: &OpenOptions, record: ResizeRecord) -> Result<Begun> {
        let disk = ChainMut::over(self.locked.clone(), options)?;
        if !self.needs_journal {
            return Ok((disk, None));
        }
        let file = file_of(self.locked.storage.clone(), &self.path)?;
        let member = Member::new(self.path.clone(), Uuid::nil())?;
        let journal = Journal::begin(Record::new(vec![member], self.path.clone(), record))?;
        Ok((disk, Some((journal, file))))
    }

    /// The record, with what the file system becomes, where it is extended.
    fn extend_volume(&self, progress: &Progress) -> Result<ResizeRecord> {
        let mut record = self.record.clone();
        if let (Some(volume), Some(show)) = (&self.volume, &self.request.volume) {
            let scratch = self.request.scratch.clone().unwrap_or_else(|| folder_of(&self.path));
            record.volume = Some(volume.extend(&**show, &self.path, &scratch, &record, progress)?);
            // That takes a while.
            self.look_again().inspect_err(|_| remove_redo(&self.path).unwrap_or_default())?;
        }
        Ok(record)
    }
}

type Begun = (ChainMut, Option<(Journal<ResizeRecord>, Arc<FileStorage>)>);

fn file_of(storage: Arc<dyn Storage>, path: &Path) -> Result<Arc<FileStorage>> {
    let file = storage.as_file().and_then(|file| file.downcast().ok());
    file.ok_or_else(|| Error::usage(format!("{} is no regular file", path.display()), "copy the disk into one"))
}

fn path_of(disk: &ChainMut) -> &Path {
    disk.layer(0).map_or(Path::new(""), |layer| layer.path())
}

impl ResizeRecord {
    /// What is told of it when it is done.
    fn outcome(&self, path: &Path, layers_below: usize) -> ResizeOutcome {
        ResizeOutcome {
            path: path.to_owned(),
            before: self.from,
            after: self.to,
            partition: self.partition.as_ref().map(|one| ResizedPartition {
                number: one.number,
                before: one.before,
                after: one.after,
            }),
            extended: self.volume.is_some(),
            layers_below,
        }
    }

    /// The size alone; done again it changes nothing.
    fn resize(&self, disk: &mut ChainMut, progress: &Progress) -> Result<()> {
        let now = disk.virtual_size();
        if ![self.from, self.to].contains(&now) {
            return Err(Error::refused(
                Refusal::changed(path_of(disk)),
                format!("{} has {now} bytes, and was to go from {} to {}", path_of(disk).display(), self.from, self.to),
                "look at it again, and begin again",
            ));
        }
        if self.to < self.from {
            return disk.shrink(self.to);
        }
        if self.to == self.from {
            return Ok(());
        }
        // A disk that has its size has had its space set aside.
        let space = if now < self.to && self.space != Space::Sparse { Space::Reserved } else { Space::Sparse };
        disk.grow(self.to, space)?;
        if self.space != Space::Written {
            return Ok(());
        }
        // How far that had come when it was cut short cannot be told.
        progress.begin("writing zeros".to_owned(), self.to - self.from);
        disk.write_new_part(self.from, &mut |len| {
            progress.check()?;
            progress.advance(len);
            Ok(())
        })
    }
}

/// How far it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd)]
enum Stand {
    /// All content is what it was.
    Begun,
    /// Some of it may be another.
    Changing,
    Done,
}

/// A resize that is under way.
struct Resizing {
    journal: Journal<ResizeRecord>,
    stand: Stand,
    /// Whether others may have been at the image since it was begun.
    is_reopened: bool,
    file: Arc<FileStorage>,
    identity: HostIdentity,
    options: OpenOptions,
    /// The disk, until it is worked on.
    opened: Option<ChainMut>,
}

impl Resizing {
    /// What was begun and cut short.
    fn reopen(begun: &Header, guard: &Guard) -> Result<Self> {
        let image = begun.image();
        let file = Arc::new(FileStorage::open(image, Access::Write)?);
        guard.refuse_writers([image])?;
        let (journal, marks) = Journal::<ResizeRecord>::reopen(begun)?;
        let identity = file.host_identity()?;
        let options = OpenOptions::new().with_format(journal.record().payload.format);
        let stand = match marks.last() {
            None => Stand::Begun,
            Some(ResizeMark::Changing) => Stand::Changing,
            Some(ResizeMark::Done) => Stand::Done,
        };
        Ok(Self { journal, stand, is_reopened: true, file, identity, options, opened: None })
    }

    fn record(&self) -> &ResizeRecord {
        &self.journal.record().payload
    }

    fn open(&self) -> Result<ChainMut> {
        let record = self.record();
        if record.format == Format::Vhd && record.to > record.from {
            vhd::back_to_footer(&*self.file, record.from)?;
        }
        let current = open_image_mut(self.file.clone(), Some(record.format))?;
        let (parents, _) = open_parents(&*current, self.identity, &self.options)?;
        Ok(ChainMut::from_parts(current, parents))
    }

    fn run(mut self, progress: &Progress) -> Result<ResizeOutcome> {
        let path = self.file.path().to_owned();
        match self.go(progress) {
            Ok(layers_below) => {
                let outcome = self.record().outcome(&path, layers_below);
                remove_redo(&path).and_then(|()| self.journal.end()).map_err(|error| error.under_way(&path))?;
                Ok(outcome)
            }
            // Nothing but the size has changed: that can be taken back.
            Err(error) if self.stand == Stand::Begun && !self.is_reopened => match self.give_up() {
                Ok(()) => Err(error),
                Err(_) => Err(error.under_way(&path)),
            },
            Err(error) => Err(error.under_way(&path)),
        }
    }

    /// Does all of it; how many layers the disk stands on.
    fn go(&mut self, progress: &Progress) -> Result<usize> {
        let mut disk = self.opened.take().map_or_else(|| self.open(), Ok)?;
        let layers_below = disk.parents().len();
        if self.stand == Stand::Done {
            return Ok(layers_below);
        }
        let done = self.change(&mut disk, progress);
        let closed = disk.close();
        done.and(closed)?;
        if self.record().volume.is_some() {
            // What it was written from may go.
            self.journal.mark(&ResizeMark::Done)?;
            self.stand = Stand::Done;
        }
        Ok(layers_below)
    }

    fn change(&mut self, disk: &mut ChainMut, progress: &Progress) -> Result<()> {
        let record = self.record().clone();
        let grows = record.to >= record.from;
        let redo = self.redo()?;
        if self.is_reopened && !self.is_as_left(disk, redo.as_ref())? {
            return Err(written_since(path_of(disk)));
        }
        if grows && self.stand == Stand::Begun {
            record.resize(disk, progress)?;
        }
        if !record.table.is_empty() || redo.is_some() || !grows {
            self.make_room(disk, &record, redo.as_ref(), progress)?;
        }
        // From here on nothing stops it that a later try does not mend.
        for step in &record.table {
            // What stands where the disk was cut already is gone.
            let inside = step.pieces().filter(|piece| end_of(piece) <= disk.virtual_size());
            inside.into_iter().try_for_each(|piece| disk.write_at(&piece.new, piece.offset))?;
            disk.flush()?;
        }
        if let Some(redo) = &redo {
            redo.for_each(|piece| disk.write_at(&piece.new, piece.offset))?;
            disk.flush()?;
        }
        if grows { Ok(()) } else { record.resize(disk, progress) }
    }

    /// What the file system becomes.
    fn redo(&self) -> Result<Option<Redo>> {
        self.record().volume.as_ref().map(|stored| Redo::open(self.file.path(), stored)).transpose()
    }

    /// Whether all places that it writes to hold what stood there, or, once content changes, what is to stand there:
    /// a guest that was started too early, or another program, has written something else.
    fn is_as_left(&self, disk: &ChainMut, redo: Option<&Redo>) -> Result<bool> {
        let mut is_so = true;
        let mut look = |piece: RedoPiece| {
            if end_of(&piece) > disk.virtual_size() {
                return Ok(());
            }
            let mut found = vec![0; piece.new.len()];
            disk.read_at(&mut found, piece.offset)?;
            let sectors = found.chunks(SECTOR).zip(piece.old.chunks(SECTOR).zip(piece.new.chunks(SECTOR)));
            let is_known =
                |found: &[u8], old: &[u8], new: &[u8]| found == old || self.stand != Stand::Begun && found == new;
            is_so &= sectors.into_iter().all(|(found, (old, new))| is_known(found, old, new));
            Ok(())
        };
        self.record().table.iter().flat_map(|step| step.pieces()).try_for_each(&mut look)?;
        redo.map_or(Ok(()), |redo| redo.for_each(&mut look))?;
        Ok(is_so)
    }

    /// All that will be written gets its place in the image, and the host's space, while it holds what it held.
    fn make_room(
        &mut self,
        disk: &ChainMut,
        record: &ResizeRecord,
        redo: Option<&Redo>,
        progress: &Progress,
    ) -> Result<()> {
        if self.stand != Stand::Begun {
            return Ok(());
        }
        let room = |piece: RedoPiece| {
            progress.check()?;
            let mut now = piece.new;
            disk.read_at(&mut now, piece.offset)?;
            disk.write_at(&now, piece.offset)
        };
        record.table.iter().flat_map(|step| step.pieces()).try_for_each(room)?;
        redo.map_or(Ok(()), |redo| redo.for_each(room))?;
        disk.flush()?;
        self.journal.mark(&ResizeMark::Changing)?;
        self.stand = Stand::Changing;
        Ok(())
    }

    /// The size that the disk had, and nothing under way any more.
    fn give_up(self) -> Result<()> {
        let (from, to) = (self.record().from, self.record().to);
        let mut disk = self.open()?;
        let now = disk.virtual_size();
        // A fixed VHD image may be longer than its disk by now.
        let is_fixed_vhd = disk.info().kind == Kind::Fixed && disk.info().format == Format::Vhd;
        let back = match (to > from, now == from) {
            // A guest that was started meanwhile has the larger disk, and may have used it.
            (true, false) if now == to && self.is_reopened && holds_data(&disk, from)? => Ok(()),
            (true, false) if now == to => disk.shrink(from),
            (true, true) if is_fixed_vhd => disk.shrink(from),
            (_, true) => Ok(()),
            (_, false) => Err(Error::refused(
                Refusal::changed(path_of(&disk)),
                format!("{} has {now} bytes, and was to go from {from} to {to}", path_of(&disk).display()),
                "look at it again",
            )),
        };
        let closed = disk.close();
        back.and(closed)?;
        remove_redo(self.file.path())?;
        self.journal.end()
    }
}

/// Carries on.
///
/// # Errors
/// `Refused` when another process is at it, or the image has neither of its two sizes; `UnderWay`, `Io`.
pub(crate) fn carry_on(begun: &Header, guard: &Guard, progress: &Progress) -> Result<ResizeOutcome> {
    Resizing::reopen(begun, guard)?.run(progress)
}

/// Gives it up: the disk has its old size, and all that it held. Where a guest was started meanwhile, and has written
/// to what was to be changed, or to what is new, the disk stays as it is.
///
/// # Errors
/// `Refused` when content was changed already, so that only going on is left, and as [`carry_on`].
pub(crate) fn give_up(begun: &Header, guard: &Guard) -> Result<()> {
    let work = Resizing::reopen(begun, guard)?;
    if work.stand == Stand::Begun {
        return work.give_up();
    }
    let is_left = || {
        let disk = work.open()?;
        let is_as_left = work.stand == Stand::Done || work.is_as_left(&disk, work.redo()?.as_ref())?;
        disk.close()?;
        Ok::<bool, Error>(is_as_left)
    };
    if is_left()? {
        return Err(Error::refused(
            Refusal::UnderWay { image: begun.image().to_owned(), must_go_on: true },
            format!("the content of {} is being changed already", begun.image().display()),
            "carry it on: all that it needs has its room",
        ));
    }
    remove_redo(begun.image())?;
    work.journal.end()
}

/// The first end of a piece that no disk can have lies behind every end.
fn end_of(piece: &RedoPiece) -> u64 {
    piece.offset.saturating_add(piece.new.len() as u64)
}

fn written_since(path: &Path) -> Error {
    Error::refused(
        Refusal::changed(path),
        format!("{} was written to since its resize was cut short: going on would spoil that", path.display()),
        "give it up: the disk stays as whoever wrote to it left it; check what is on it",
    )
}

/// Whether a disk holds anything but zeros from this byte on.
fn holds_data(disk: &dyn Disk, from: u64) -> Result<bool> {
    first_data(disk, from, disk.virtual_size()).map(|found| found.is_some())
}
