//! An image gets another name or folder, and all that know it by the old one are told.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::Serialize;
use uuid::Uuid;

use crate::chain::{Chain, Disk, OpenOptions, record_of, records_absolute};
use crate::error::{Error, Refusal, Result};
use crate::family::{Guard, Override, Search, children_of, record_children, refuse_link};
use crate::image::{ParentRecord, format_of_name, recognise};
use crate::ops::plan::Plan;
use crate::sidecar::{
    ChildrenChange, Companion, Grandchild, Intent, Journal, Member, Work, child_at, intent_of, journal_of,
    refuse_under_way,
};
use crate::storage::{
    Access, FileId, Held, entry, folder_of, is_marked_read_only, link, real, refuse_existing, remove, sync_folder,
};

/// An image to be moved or renamed.
#[derive(Clone, Debug)]
pub struct MoveImage {
    source: PathBuf,
    target: PathBuf,
    guard: Guard,
}

impl MoveImage {
    /// The image at `source` to `target`, on the same file system: a new name, or a folder in which it keeps its name.
    pub fn new(source: impl Into<PathBuf>, target: impl Into<PathBuf>) -> Self {
        let (source, mut target) = (source.into(), target.into());
        if let Some(name) = source.file_name().filter(|_| target.is_dir()) {
            target.push(name);
        }
        Self { source, target, guard: Guard::new() }
    }

    /// Where to search for children beside the image's own folder.
    pub fn with_search(mut self, search: Search) -> Self {
        self.guard = self.guard.with_search(search);
        self
    }

    /// Allows something unusual: [`Override::UnknownChildren`] moves though something may have grown from the image
    /// of which that cannot be told, [`Override::UnrecordedChild`] though a companion cannot be written,
    /// [`Override::InUse`], [`Override::HardLinks`], [`Override::OtherHost`].
    pub fn with_override(mut self, allowed: Override) -> Self {
        self.guard = self.guard.with_override(allowed);
        self
    }

    /// What moving would do. A move that was cut short is carried on. The image and its children stay locked as long
    /// as the plan lives.
    ///
    /// # Errors
    /// `Refused` when something else stands at the target, or the image or a child of it is in use, or may have
    /// children of which that cannot be told; `Usage` when the target is on another file system, or its ending speaks
    /// of another format; otherwise as [`Chain::open`].
    pub fn plan(self) -> Result<MovePlan> {
        if let Some(intent) = self.begun()? {
            return Ok(self.plan_to_carry_on(intent));
        }
        if let Some(before) = self.all_but_done()? {
            return Ok(self.plan_after(before));
        }
        refuse_link(&self.source)?;
        let held = Arc::new(Held::default());
        held.take(&self.source, Access::AmendMetadata)?;
        let mut plan = Plan { operation: "move", ..Plan::default() };
        self.refuse_target()?;
        self.guard.refuse_protected(&self.source)?;
        self.guard.refuse_parent_under_way(&self.source)?;
        let chain = Chain::open(&self.source, &OpenOptions::new().with_held(&held))?;
        let own_parent = chain.layers().get(1).map(|parent| parent.path().to_owned());
        own_parent.as_deref().map_or(Ok(()), refuse_under_way)?;
        // Those that stand where it is going read through it, too; those that do not find it are told where it is.
        let children = children_of(&self.source, &self.guard.search.clone().and_beside(folder_of(&self.target)))?;
        plan.warnings.extend(self.guard.refuse_unknown(&self.source, &children)?);
        let told: Vec<PathBuf> = children.all().cloned().collect();
        for child in &told {
            held.take(child, Access::AmendMetadata)?;
            refuse_under_way(child)?;
            self.guard.refuse_hard_links(child)?;
        }
        let changed = std::iter::once(&self.source).chain(&told).map(PathBuf::as_path);
        plan.warnings.extend(self.guard.refuse_writers(changed)?);
        let intent = self.intent(&chain, own_parent.as_deref(), &told)?;
        let (from, to) = (self.source.display(), self.target.display());
        plan.steps.push(format!("give {from} the second name {to}"));
        for child in told.iter().chain(own_parent.is_some().then_some(&self.source)) {
            plan.steps.push(format!("record the new place in {}", child.display()));
            plan.files.change.push(child.clone());
        }
        plan.steps.push(format!("take the name {from} away"));
        plan.files.rename.push((self.source.clone(), self.target.clone()));
        if told.is_empty() && is_marked_read_only(&self.source)? {
            plan.warnings.push(format!(
                "{from} was frozen for children, and none was found in {}: whoever has some elsewhere must relink them \
                 (`relink`)",
                children.place()
            ));
        }
        Ok(MovePlan { plan, request: self, intent, told, looked: children.looked, held, state: State::Fresh })
    }

    /// A move of this image to this place that was cut short.
    fn begun(&self) -> Result<Option<Intent>> {
        let source = entry(&self.source)?;
        let intent = match intent_of(&self.source)? {
            None => intent_of(&self.target)?,
            found => found,
        };
        let is_this = |intent: &Intent| {
            intent.work == Work::Move
                && intent.child() == source
                && entry(&self.target).is_ok_and(|target| target == intent.result)
        };
        Ok(intent.filter(is_this))
    }

    /// An earlier move of the image to the place where it is now, cut short when only tidying was left.
    fn all_but_done(&self) -> Result<Option<Intent>> {
        let is_tail = |intent: &Intent| {
            let file = intent.layers[0].file;
            intent.work == Work::Move
                && entry(&self.source).is_ok_and(|source| source == intent.result)
                && is(&intent.result, file)
                && !is(intent.child(), file)
        };
        Ok(intent_of(&self.source)?.or(intent_of(&self.target)?).filter(is_tail))
    }

    fn plan_to_carry_on(self, intent: Intent) -> MovePlan {
        let mut plan = Plan { operation: "move", ..Plan::default() };
        plan.steps.push(format!("carry on the move that was begun {:.0}", intent.started));
        MovePlan {
            plan,
            request: self,
            intent,
            told: Vec::new(),
            looked: Vec::new(),
            held: Arc::default(),
            state: State::Begun,
        }
    }

    fn plan_after(self, before: Intent) -> MovePlan {
        let mut plan = Plan { operation: "move", ..Plan::default() };
        plan.steps.push(format!("finish the move to {} that was begun {:.0}", self.source.display(), before.started));
        plan.steps.push(format!("move it on to {}", self.target.display()));
        plan.files.rename.push((self.source.clone(), self.target.clone()));
        let (told, looked, held) = (Vec::new(), Vec::new(), Arc::default());
        MovePlan { plan, request: self, intent: before, told, looked, held, state: State::AfterAnother }
    }

    fn refuse_target(&self) -> Result<()> {
        refuse_existing(&self.target)?;
        if format_of_name(&self.target) != format_of_name(&self.source) {
            return Err(Error::usage(
                format!("{} does not end as {} does", self.target.display(), self.source.display()),
                "a new ending would speak of another format; `copy` makes one",
            ));
        }
        refuse_existing(&journal_of(&entry(&self.target)?))?;
        let companion = Companion::place(&entry(&self.target)?);
        // One that the image left behind there, when it was renamed by hand, comes to it again.
        if Companion::joined(&self.source, None, std::slice::from_ref(&companion))?.is_none() {
            refuse_existing(&companion)?;
        }
        let folder = folder_of(&self.target);
        let device = |path: &Path| -> Result<u64> {
            std::fs::metadata(path).map(|found| found.dev()).map_err(|e| Error::io("look up", path, e))
        };
        match device(&folder)? == device(&self.source)? {
            true => Ok(()),
            false => Err(Error::usage(
                format!("{} is on another file system", folder.display()),
                "copy the image there (`copy`, with --depth chain to keep its layers)",
            )),
        }
    }

    fn intent(&self, chain: &Chain, own_parent: Option<&Path>, told: &[PathBuf]) -> Result<Intent> {
        let info = chain.info();
        let identity = info.data_identity.unwrap_or(Uuid::nil());
        let own = Member::new(real(&self.source)?, identity)?;
        let mut intent = Intent::new(Work::Move, vec![own], identity, entry(&self.target)?);
        intent.absolute = records_absolute(info.parent.as_ref());
        if let Some(parent) = own_parent {
            let known_as = chain.layers()[1].info().data_identity.unwrap_or(Uuid::nil());
            intent.parent = Some(Member::new(real(parent)?, known_as)?);
        }
        for child in told {
            let found = recognise(child)?;
            let absolute = found.is_some_and(|(image, _)| records_absolute(image.info().parent.as_ref()));
            intent.children.push(Grandchild { path: real(child)?, absolute, file: FileId::of(child)? });
        }
        Ok(intent)
    }
}

/// A checked plan to move an image.
pub struct MovePlan {
    plan: Plan,
    request: MoveImage,
    intent: Intent,
    /// The children, as they were found.
    told: Vec<PathBuf>,
    looked: Vec<PathBuf>,
    /// Keeps others away from the image and its children until it has moved.
    held: Arc<Held>,
    state: State,
}

/// What a move has to begin with.
#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    Fresh,
    /// This move was begun already.
    Begun,
    /// Another one must be finished before.
    AfterAnother,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct MoveOutcome {
    /// Where the image stands now.
    #[serde(serialize_with = "crate::lossy::text")]
    pub path: PathBuf,
    /// The children that were told.
    #[serde(serialize_with = "crate::lossy::text")]
    pub children: Vec<PathBuf>,
    /// The folders in which children were looked for; none for a move that was carried on.
    #[serde(serialize_with = "crate::lossy::text")]
    pub looked: Vec<PathBuf>,
}

impl MovePlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Moves the image. First it has both names, and records a way to its own parent that is good from both; then each
    /// child records the new one; then the old one goes. At every moment, also after a crash, each child finds its
    /// parent; the same move, or [`resume`](super::resume), carries on from there.
    ///
    /// # Errors
    /// `Refused` when another program has the image or a child open for writing by now; then nothing was begun.
    /// `UnderWay` when it was begun and could not be finished, with why.
    pub fn run(&self) -> Result<MoveOutcome> {
        let guard = &self.request.guard;
        if self.state != State::Fresh {
            self.intent.refuse_unproven()?;
            let outcome = carry_on(Journal::reopen(&self.intent)?.0, &Arc::default(), guard)?;
            return match self.state {
                State::AfterAnother => self.request.clone().plan()?.run(),
                _ => Ok(outcome),
            };
        }
        self.files_to_change().try_for_each(|path| self.held.refuse_swapped(path))?;
        guard.refuse_writers(self.files_to_change())?;
        carry_on(Journal::begin(self.intent.clone())?, &self.held, guard)?;
        // As they were named in the question, and found.
        let path = self.request.target.clone();
        Ok(MoveOutcome { path, children: self.told.clone(), looked: self.looked.clone() })
    }

    fn files_to_change(&self) -> impl Iterator<Item = &Path> {
        std::iter::once(self.intent.child()).chain(self.intent.children.iter().map(|child| &*child.path))
    }
}

/// Goes on with a move from wherever it is.
pub(in crate::ops) fn carry_on(journal: Journal, held: &Arc<Held>, guard: &Guard) -> Result<MoveOutcome> {
    let intent = journal.intent().as_found();
    let run = || {
        guard.refuse_other_host(&intent)?;
        let moving = Moving::take(&intent, held, guard)?;
        moving.run()
    };
    let outcome = run().map_err(|error: Error| error.under_way(&intent.result))?;
    journal.end()?;
    Ok(outcome)
}

/// Takes a move back whose old name is still there: all is as before.
pub(in crate::ops) fn give_up(journal: Journal, guard: &Guard) -> Result<()> {
    let intent = journal.intent().as_found();
    let held = Arc::new(Held::default());
    let moving = Moving::take(&intent, &held, guard)?;
    moving.take_back()?;
    journal.end()
}

/// A move whose files are locked.
struct Moving<'a> {
    intent: &'a Intent,
    held: &'a Arc<Held>,
    guard: &'a Guard,
    source: &'a Path,
    target: &'a Path,
}

impl<'a> Moving<'a> {
    fn take(intent: &'a Intent, held: &'a Arc<Held>, guard: &'a Guard) -> Result<Self> {
        let (source, target) = (intent.child(), &*intent.result);
        let moving = Self { intent, held, guard, source, target };
        let file = intent.layers[0].file;
        let names: Vec<&Path> = [source, target].into_iter().filter(|path| is(path, file)).collect();
        let Some(name) = names.first() else {
            return Err(Error::refused(
                Refusal::SourceChanged,
                format!("neither {} nor {} is the image that was being moved", source.display(), target.display()),
                "put it back under one of the two names, and carry on",
            ));
        };
        held.take(name, Access::AmendMetadata)?;
        for child in intent.children.iter().filter(|child| is(&child.path, child.file)) {
            held.take(&child.path, Access::AmendMetadata)?;
        }
        if let Some(missing) = intent.children.iter().find(|child| !is(&child.path, child.file))
            && !guard.allows(Override::UnknownChildren)
        {
            return Err(Error::refused(
                Refusal::NeededByChildren,
                format!("{} is to be told, and is not there any more", missing.path.display()),
                "bring it back, or say --force=unknown-children if it is gone for good",
            ));
        }
        let children = intent.children.iter().map(|child| &*child.path);
        guard.refuse_writers(names.iter().copied().chain(children))?;
        Ok(moving)
    }

    fn run(&self) -> Result<MoveOutcome> {
        let Self { intent, source, target, .. } = *self;
        let file = intent.layers[0].file;
        let children = || intent.children.iter().filter(|child| is(&child.path, child.file));
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
        if !intent.absolute {
            self.record_own_parent(target, false)?;
        }
        if let Some(parent) = &intent.parent {
            let (gone, new) = ([source.to_owned()], [child_at(target)]);
            let change = ChildrenChange { gone: &gone, new: &new, ..ChildrenChange::default() };
            record_children(&parent.path, &change, self.guard)?;
        }
        Companion::remove(source)?;
        let children = children().map(|child| child.path.clone()).collect();
        Ok(MoveOutcome { path: target.to_owned(), children, looked: Vec::new() })
    }

    fn take_back(&self) -> Result<()> {
        let Self { intent, source, target, .. } = *self;
        let file = intent.layers[0].file;
        if !is(source, file) {
            return Err(Error::refused(
                Refusal::UnderWay,
                format!("{} has its new name only", target.display()),
                format!("only going on is left: `resume {}`", target.display()),
            ));
        }
        self.record_own_parent(source, true)?;
        for child in intent.children.iter().filter(|child| is(&child.path, child.file)) {
            self.record_in_child(child, source)?;
        }
        if is(target, file) {
            remove(target)?;
            sync_folder(target)?;
        }
        if !intent.absolute {
            self.record_own_parent(source, false)?;
        }
        if let Some(parent) = &intent.parent {
            let gone = [target.to_owned()];
            record_children(&parent.path, &ChildrenChange { gone: &gone, ..ChildrenChange::default() }, self.guard)?;
        }
        Companion::remove(target)
    }

    /// What is known of the image's children, and the image as a child of its parent, is known under the new name
    /// before that is there.
    fn take_companion_along(&self) -> Result<()> {
        let Self { intent, source, target, guard, .. } = *self;
        if let Some(companion) = Companion::known(source)? {
            let paths = companion.child_paths(source);
            let files = companion.children.iter().map(|child| child.file);
            let new: Vec<_> = paths.into_iter().zip(files).collect();
            let freezes = companion.frozen.is_some();
            record_children(target, &ChildrenChange { new: &new, freezes, ..ChildrenChange::default() }, guard)?;
        }
        if let Some(parent) = &intent.parent {
            // Under both names until the old one is gone.
            let new = [(target.to_owned(), None), child_at(source)];
            record_children(&parent.path, &ChildrenChange { new: &new, ..ChildrenChange::default() }, guard)?;
        }
        Ok(())
    }

    /// Records in the image the way to its own parent from the folder of `place`.
    fn record_own_parent(&self, place: &Path, absolute: bool) -> Result<()> {
        let Some(parent) = &self.intent.parent else { return Ok(()) };
        let info = Chain::open(&parent.path, &OpenOptions::new().without_locks())?.info().clone();
        // Whatever became of the parent meanwhile, the image is made for the one that it was.
        let record = record_of(place, &parent.path, &info, absolute || self.intent.absolute)?;
        let record = ParentRecord { identity: parent.identity, ..record };
        let name = if is(self.target, self.intent.layers[0].file) { self.target } else { self.source };
        let mut image = self.held.image_mut(name)?;
        image.set_parent(&record)?;
        image.close()
    }

    fn record_in_child(&self, child: &Grandchild, place: &Path) -> Result<()> {
        let info = self.held.image(place)?.info().clone();
        let record = record_of(&child.path, place, &info, child.absolute)?;
        let record = ParentRecord { identity: self.intent.identity, ..record };
        let mut image = self.held.image_mut(&child.path)?;
        image.set_parent(&record)?;
        image.close()
    }
}

fn is(path: &Path, file: FileId) -> bool {
    FileId::of(path).is_ok_and(|found| found == file)
}
