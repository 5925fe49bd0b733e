//! The bytes of a repair are written, or written back: under a journal, so that it can be carried on or given up.

use std::path::Path;
use std::sync::Arc;

use rustix::io::Errno;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::error::{Error, Refusal, Result};
use crate::family::Guard;
use crate::finding::{Finding, JournalFinding};
use crate::sidecar::{Header, Journal, Member, Payload, Record, Stand, Undo, Work, modified, under_way_at};
use crate::storage::{Access, FileStorage, Held, ReadAt};

/// Which way the bytes go.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Way {
    /// The repair is done.
    Forth,
    /// It is taken back.
    Back,
}

/// What the journal says beside its header.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct RepairRecord {
    /// The number of the undo file.
    undo: u32,
    way: Way,
}

impl Payload for RepairRecord {
    type Mark = ();

    fn work(&self) -> Work {
        match self.way {
            Way::Forth => Work::Repair,
            Way::Back => Work::Undo,
        }
    }
}

/// A repair, or the taking back of one, that is under way.
pub(super) struct Repairing {
    journal: Journal<RepairRecord>,
    /// Gone when all but the journal is done.
    undo: Option<Undo>,
}

impl Repairing {
    /// From here on it is under way.
    ///
    /// # Errors
    /// `Refused` when something is under way already; `Io`.
    pub(super) fn begin(image: &Path, undo: Undo, way: Way) -> Result<Self> {
        let (image, target) = (image.to_owned(), image.to_owned());
        let payload = RepairRecord { undo: undo.number(), way };
        let record = Record::new(vec![Member::new(image.clone(), Uuid::nil())?], image, payload);
        let begun = Journal::begin(record);
        match begun {
            Ok(journal) => Ok(Self { journal, undo: Some(undo) }),
            Err(error) => {
                // A journal that has its name, though that could not be made durable, speaks of the undo file.
                let is_under_way = under_way_at(&target).map_or(true, |work| work.is_some());
                if way == Way::Forth && !is_under_way {
                    undo.remove().unwrap_or_default();
                }
                Err(error)
            }
        }
    }

    /// What was begun and cut short.
    ///
    /// # Errors
    /// `Refused` when another process is at it; `Damaged` when the undo file is; `Io`.
    fn reopen(begun: &Header) -> Result<Self> {
        let (journal, _) = Journal::<RepairRecord>::reopen(begun)?;
        let undo = Undo::open(begun.image(), journal.record().payload.undo)?;
        Ok(Self { journal, undo })
    }

    /// Writes all of it. Where a write fails, but no sync has, what was written is written back.
    ///
    /// # Errors
    /// `Io` when nothing of it is left; `UnderWay` otherwise.
    pub(super) fn run(self, file: &Arc<FileStorage>) -> Result<()> {
        let way = self.journal.record().payload.way;
        let image = file.path().to_owned();
        match self.go(file, way) {
            Ok(()) => self.end(file, way),
            Err(error) if has_no_room(&error) => {
                let other = if way == Way::Forth { Way::Back } else { Way::Forth };
                match self.go(file, other).and_then(|()| self.end(file, other)) {
                    Ok(()) => Err(error),
                    Err(_) => Err(error.under_way(&image)),
                }
            }
            Err(error) => Err(error.under_way(&image)),
        }
    }

    fn go(&self, file: &Arc<FileStorage>, way: Way) -> Result<()> {
        match (&self.undo, way) {
            (Some(undo), Way::Forth) => undo.redo(&**file),
            (Some(undo), Way::Back) => undo.undo(&**file),
            (None, _) => Ok(()),
        }
    }

    /// All bytes are written: what says so, and the end of the journal.
    fn end(self, file: &Arc<FileStorage>, way: Way) -> Result<()> {
        let Self { journal, undo } = self;
        let image = file.path().to_owned();
        let settle = || match (undo, way) {
            (Some(undo), Way::Forth) => undo.mark_done(modified(&image)),
            (Some(undo), Way::Back) => {
                // For who looks at times, such as a pin; the bytes are what they were in any case.
                undo.modified_before().map_or(Ok(()), |time| file.set_modified(time)).unwrap_or_default();
                undo.remove()
            }
            (None, _) => Ok(()),
        };
        settle().map_err(|error| error.under_way(&image))?;
        journal.end()
    }
}

fn has_no_room(error: &Error) -> bool {
    match error {
        Error::Io { source, .. } => {
            let code = source.raw_os_error();
            [Errno::NOSPC, Errno::DQUOT, Errno::FBIG].iter().any(|errno| code == Some(errno.raw_os_error()))
        }
        _ => false,
    }
}

/// Carries on a repair, or the taking back of one, or gives it up: goes on its way, or the other.
///
/// # Errors
/// `Refused` when another process is at it, or the image holds something that is neither what it was nor what it was
/// to be; otherwise as [`Repairing::run`].
fn settle(begun: &Header, guard: &Guard, carry_on: bool) -> Result<()> {
    let held = Arc::new(Held::default());
    let image = begun.image();
    let file = held.take(image, Access::AmendMetadata)?;
    guard.refuse_writers([image])?;
    let repairing = Repairing::reopen(begun)?;
    if let Some(undo) = &repairing.undo
        && undo.stand(&*file)? == Stand::Other
    {
        return Err(written_since(image, undo));
    }
    let begun_way = repairing.journal.record().payload.way;
    let way = match (carry_on, begun_way) {
        (true, way) => way,
        (false, Way::Forth) => Way::Back,
        (false, Way::Back) => Way::Forth,
    };
    match (&repairing.undo, begun_way) {
        (Some(_), _) => {}
        // The undo file goes when all is put back.
        (None, Way::Back) if carry_on => {}
        (None, Way::Back) => {
            return Err(Error::refused(
                Refusal::UnderWay { image: image.to_owned(), must_go_on: true },
                format!("the repair of {} is taken back already, and its undo file used up", image.display()),
                "carry it on: only the journal is left to go",
            ));
        }
        (None, Way::Forth) => {
            let why = "the undo file that it speaks of is gone, and the repair was not finished".to_owned();
            return Err(Finding::new(JournalFinding::Damaged { why }, 0).at(&begun.journal()).into());
        }
    }
    repairing.go(&file, way).map_err(|error| error.under_way(image))?;
    repairing.end(&file, way)
}

/// Carries on.
///
/// # Errors
/// As [`settle`].
pub(super) fn carry_on_repair(begun: &Header, guard: &Guard) -> Result<()> {
    settle(begun, guard, true)
}

/// Gives up.
///
/// # Errors
/// As [`settle`].
pub(super) fn give_up_repair(begun: &Header, guard: &Guard) -> Result<()> {
    settle(begun, guard, false)
}

/// The image is not the one that an undo file speaks of.
pub(super) fn written_since(image: &Path, undo: &Undo) -> Error {
    Error::refused(
        Refusal::changed(image),
        format!(
            "{} was written to since the repair of {:.0}, or {} belongs to another image: taking the repair back would \
             spoil what was written",
            image.display(),
            undo.made(),
            undo.place().display()
        ),
        "check the image as it is; what an undo file holds is of no use to a disk that has gone on",
    )
}
