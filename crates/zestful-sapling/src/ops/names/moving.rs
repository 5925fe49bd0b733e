//! The run of a move: from its beginning, from wherever it was cut short, or back.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::chain::{Chain, Disk, OpenOptions, record_of};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override, record_children};
use crate::image::ParentRecord;
use crate::sidecar::{
    ChildrenChange, Companion, Header, Journal, Payload, Reader, Record, Work, child_at, take_undo_along,
};
use crate::storage::{Access, FileId, Held, link, remove, sync_folder};

/// A move that is under way: the only member is the image; its readers are told of the new place.
pub(super) type MoveRecord = Record<MovePayload>;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(in crate::ops) struct MovePayload {
    /// The data identity of the image.
    pub(super) identity: Uuid,
    /// Whether the image recorded the absolute path of its own parent.
    pub(super) absolute: bool,
}

/// A move makes no marks: the names tell how far it is.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(in crate::ops) enum NoMark {}

impl Payload for MovePayload {
    type Mark = NoMark;

    fn work(&self) -> Work {
        Work::Move
    }
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct MoveOutcome {
    /// Where the image stands now.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The children that were told.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub children: Vec<PathBuf>,
    /// The folders in which children were looked for; none for a move that was carried on.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub looked: Vec<PathBuf>,
}

/// Goes on with a move from wherever it is.
pub(crate) fn carry_on(begun: &Header, held: &Arc<Held>, guard: &Guard) -> Result<MoveOutcome> {
    begun.refuse_unproven()?;
    run(Journal::reopen(begun)?.0, held, guard)
}

pub(super) fn run(journal: Journal<MovePayload>, held: &Arc<Held>, guard: &Guard) -> Result<MoveOutcome> {
    let work = journal.record().as_found();
    let run = || {
        guard.refuse_other_host(&work.header)?;
        let moving = Moving::take(&work, held, guard)?;
        moving.run()
    };
    let outcome = run().map_err(|error: Error| error.under_way(&work.header.result))?;
    journal.end()?;
    Ok(outcome)
}

/// Takes a move back whose old name is still there: all is as before.
pub(crate) fn give_up(begun: &Header, guard: &Guard) -> Result<()> {
    let (journal, _) = Journal::<MovePayload>::reopen(begun)?;
    let work = journal.record().as_found();
    let held = Arc::new(Held::default());
    let moving = Moving::take(&work, &held, guard)?;
    moving.take_back()?;
    journal.end()
}

/// A move whose files are locked.
struct Moving<'a> {
    work: &'a MoveRecord,
    held: &'a Arc<Held>,
    guard: &'a Guard,
    source: &'a Path,
    target: &'a Path,
}

impl<'a> Moving<'a> {
    fn take(work: &'a MoveRecord, held: &'a Arc<Held>, guard: &'a Guard) -> Result<Self> {
        let (source, target) = (work.header.image(), &*work.header.result);
        let moving = Self { work, held, guard, source, target };
        let file = work.header.members[0].file;
        let names: Vec<&Path> = [source, target].into_iter().filter(|path| is(path, file)).collect();
        let Some(name) = names.first() else {
            return Err(Error::refused(
                Refusal::changed(source),
                format!("neither {} nor {} is the image that was being moved", source.display(), target.display()),
                "put it back under one of the two names, and carry on",
            ));
        };
        held.take(name, Access::AmendMetadata)?;
        for child in work.header.readers.iter().filter(|child| is(&child.path, child.file)) {
            held.take(&child.path, Access::AmendMetadata)?;
        }
        if let Some(missing) = work.header.readers.iter().find(|child| !is(&child.path, child.file))
            && !guard.allows(Override::UnknownChildren)
        {
            return Err(Error::refused(
                Refusal::NeededByChildren {
                    image: source.to_owned(),
                    children: Vec::new(),
                    unknown: vec![missing.path.clone()],
                },
                format!("{} is to be told, and is not there any more", missing.path.display()),
                "bring it back",
            ));
        }
        let children = work.header.readers.iter().map(|child| &*child.path);
        guard.refuse_writers(names.iter().copied().chain(children))?;
        Ok(moving)
    }

    fn run(&self) -> Result<MoveOutcome> {
        let Self { work, source, target, .. } = *self;
        let file = work.header.members[0].file;
        let children = || work.header.readers.iter().filter(|child| is(&child.path, child.file));
        if is(source, file) {
            if !is(target, file) {
                self.take_companion_along()?;
                link(source, target)?;
            }
            sync_folder(target)?;
            // The relative way holds from the new folder; from the old one the absolute way leads there.
            self.record_own_parent(target, true)?;
            for child in children() {
                self.record_in_child(child, target)?;
            }
            remove(source)?;
        }
        sync_folder(source)?;
        if !work.payload.absolute {
            self.record_own_parent(target, false)?;
        }
        if let Some(parent) = &work.header.parent {
            let (gone, new) = ([source.to_owned()], [child_at(target)]);
            let change = ChildrenChange { gone: &gone, new: &new, ..ChildrenChange::default() };
            record_children(&parent.path, &change, self.guard)?;
        }
        Companion::remove(source)?;
        take_undo_along(source, target)?;
        let children = children().map(|child| child.path.clone()).collect();
        Ok(MoveOutcome { path: target.to_owned(), children, looked: Vec::new() })
    }

    fn take_back(&self) -> Result<()> {
        let Self { work, source, target, .. } = *self;
        let file = work.header.members[0].file;
        if !is(source, file) {
            return Err(Error::refused(
                Refusal::UnderWay { image: target.to_owned(), must_go_on: true },
                format!("{} has its new name only", target.display()),
                "only going on is left",
            ));
        }
        self.record_own_parent(source, true)?;
        for child in work.header.readers.iter().filter(|child| is(&child.path, child.file)) {
            self.record_in_child(child, source)?;
        }
        if is(target, file) {
            remove(target)?;
            sync_folder(target)?;
        }
        if !work.payload.absolute {
            self.record_own_parent(source, false)?;
        }
        if let Some(parent) = &work.header.parent {
            let gone = [target.to_owned()];
            record_children(&parent.path, &ChildrenChange { gone: &gone, ..ChildrenChange::default() }, self.guard)?;
        }
        Companion::remove(target)
    }

    /// What is known of the image's children, and the image as a child of its parent, is known under the new name
    /// before that is there.
    fn take_companion_along(&self) -> Result<()> {
        let Self { work, source, target, guard, .. } = *self;
        if let Some(companion) = Companion::known(source)? {
            let paths = companion.child_paths(source);
            let files = companion.children.iter().map(|child| child.file);
            let new: Vec<_> = paths.into_iter().zip(files).collect();
            let freezes = companion.frozen.is_some();
            record_children(target, &ChildrenChange { new: &new, freezes, ..ChildrenChange::default() }, guard)?;
        }
        if let Some(parent) = &work.header.parent {
            // Under both names until the old one is gone.
            let new = [(target.to_owned(), None), child_at(source)];
            record_children(&parent.path, &ChildrenChange { new: &new, ..ChildrenChange::default() }, guard)?;
        }
        Ok(())
    }

    /// Records in the image the way to its own parent from the folder of `place`.
    fn record_own_parent(&self, place: &Path, absolute: bool) -> Result<()> {
        let Some(parent) = &self.work.header.parent else { return Ok(()) };
        let info = Chain::open(&parent.path, &OpenOptions::new().without_locks())?.info().clone();
        // Whatever became of the parent meanwhile, the image is made for the one that it was.
        let record = record_of(place, &parent.path, &info, absolute || self.work.payload.absolute)?;
        let record = ParentRecord { identity: parent.identity, ..record };
        let name = if is(self.target, self.work.header.members[0].file) { self.target } else { self.source };
        self.held.record_parent(name, &record)
    }

    fn record_in_child(&self, child: &Reader, place: &Path) -> Result<()> {
        let info = self.held.image(place)?.info().clone();
        let record = record_of(&child.path, place, &info, child.absolute)?;
        let record = ParentRecord { identity: self.work.payload.identity, ..record };
        self.held.record_parent(&child.path, &record)
    }
}

pub(super) fn is(path: &Path, file: FileId) -> bool {
    FileId::of(path).is_ok_and(|found| found == file)
}
