//! An image gets another name or folder, and all that know it by the old one are told.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use uuid::Uuid;

use super::moving::{MoveOutcome, MovePayload, MoveRecord, carry_on, is, run};
use crate::chain::{Chain, Disk, OpenOptions, records_absolute};
use crate::error::{Error, Result};
use crate::family::{Guard, children_of, refuse_link};
use crate::image::{format_of_name, recognise};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{Companion, Header, Journal, Member, Reader, Work, journal_of, refuse_under_way, under_way_at};
use crate::storage::{Access, FileId, Held, entry, folder_of, is_marked_read_only, real, refuse_existing};

/// An image to be moved or renamed.
///
/// What it can be allowed to do all the same: [`UnknownChildren`](crate::family::Override::UnknownChildren) moves
/// though something may have grown from the image of which that cannot be told,
/// [`UnrecordedChild`](crate::family::Override::UnrecordedChild) though a companion cannot be written,
/// [`InUse`](crate::family::Override::InUse), [`HardLinks`](crate::family::Override::HardLinks),
/// [`OtherHost`](crate::family::Override::OtherHost).
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

    /// A move of this image to this place that was cut short.
    fn begun(&self) -> Result<Option<Header>> {
        let source = entry(&self.source)?;
        let found = match under_way_at(&self.source)? {
            None => under_way_at(&self.target)?,
            found => found,
        };
        let is_this = |begun: &Header| {
            begun.work == Work::Move
                && begun.image() == source
                && entry(&self.target).is_ok_and(|target| target == begun.result)
        };
        Ok(found.filter(is_this))
    }

    /// An earlier move of the image to the place where it is now, cut short when only tidying was left.
    fn all_but_done(&self) -> Result<Option<Header>> {
        let is_tail = |begun: &Header| {
            let file = begun.members[0].file;
            begun.work == Work::Move
                && entry(&self.source).is_ok_and(|source| source == begun.result)
                && is(&begun.result, file)
                && !is(begun.image(), file)
        };
        Ok(under_way_at(&self.source)?.or(under_way_at(&self.target)?).filter(is_tail))
    }

    fn plan_to_carry_on(self, begun: Header) -> MovePlan {
        let mut plan = Plan { operation: "move", ..Plan::default() };
        plan.steps.push(format!("carry on the move that was begun {:.0}", begun.started));
        MovePlan { plan, request: self, looked: Vec::new(), held: Arc::default(), state: State::Begun(begun) }
    }

    fn plan_after(self, before: Header) -> MovePlan {
        let mut plan = Plan { operation: "move", ..Plan::default() };
        plan.steps.push(format!("finish the move to {} that was begun {:.0}", self.source.display(), before.started));
        plan.steps.push(format!("move it on to {}", self.target.display()));
        plan.renames(&self.source, &self.target);
        MovePlan { plan, request: self, looked: Vec::new(), held: Arc::default(), state: State::AfterAnother(before) }
    }

    fn refuse_target(&self) -> Result<()> {
        let is_meant_as_folder = self.target.as_os_str().as_encoded_bytes().ends_with(b"/");
        let folder = if is_meant_as_folder { self.target.clone() } else { folder_of(&self.target) };
        if !folder.is_dir() {
            let message = format!("{} is no folder that is there", folder.display());
            return Err(Error::usage(message, "make the folder first, or name another one"));
        }
        refuse_existing(&self.target)?;
        if format_of_name(&self.target) != format_of_name(&self.source) {
            return Err(Error::usage(
                format!("{} does not end as {} does", self.target.display(), self.source.display()),
                "a new ending would speak of another format; a copy can have one",
            ));
        }
        refuse_existing(&journal_of(&entry(&self.target)?))?;
        let companion = Companion::place(&entry(&self.target)?);
        // A companion that the image left behind there, when it was renamed by hand, goes with it.
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
                "copy the image there, or its whole chain to keep its layers",
            )),
        }
    }

    fn record(&self, chain: &Chain, own_parent: Option<&Path>, told: &[PathBuf]) -> Result<MoveRecord> {
        let info = chain.info();
        let identity = info.data_identity.unwrap_or(Uuid::nil());
        let own = Member::new(real(&self.source)?, identity)?;
        let payload = MovePayload { identity, absolute: records_absolute(info.parent.as_ref()) };
        let mut work = MoveRecord::new(vec![own], entry(&self.target)?, payload);
        if let Some(parent) = own_parent {
            let known_as = chain.layers()[1].info().data_identity.unwrap_or(Uuid::nil());
            work.header.parent = Some(Member::new(real(parent)?, known_as)?);
        }
        for child in told {
            let found = recognise(child)?;
            let absolute = found.is_some_and(|(image, _)| records_absolute(image.info().parent.as_ref()));
            work.header.readers.push(Reader { path: real(child)?, absolute, file: FileId::of(child)? });
        }
        Ok(work)
    }
}

impl Operation for MoveImage {
    type Planned = MovePlan;

    /// What moving would do. A move that was cut short is carried on. The image and its children stay locked as long
    /// as the plan lives.
    ///
    /// # Errors
    /// `Refused` when something else stands at the target, or the image or a child of it is in use, or may have
    /// children of which that cannot be told; `Usage` when the target is on another file system, or its ending speaks
    /// of another format; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        if let Some(work) = self.begun()? {
            return Ok(self.plan_to_carry_on(work));
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
        self.guard.refuse_kept(&self.source)?;
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
        let work = self.record(&chain, own_parent.as_deref(), &told)?;
        let (from, to) = (self.source.display(), self.target.display());
        plan.steps.push(format!("give {from} the second name {to}"));
        for child in told.iter().chain(own_parent.is_some().then_some(&self.source)) {
            plan.steps.push(format!("record the new place in {}", child.display()));
            plan.files.change.push(child.clone());
        }
        plan.steps.push(format!("take the name {from} away"));
        plan.renames(&self.source, &self.target);
        if told.is_empty() && is_marked_read_only(&self.source)? {
            plan.warnings.push(format!(
                "{from} was frozen for children, and none was found in {}: whoever has some elsewhere must relink them",
                children.place()
            ));
        }
        Ok(MovePlan { plan, request: self, looked: children.looked, held, state: State::Fresh { work, told } })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

/// A checked plan to move an image.
pub struct MovePlan {
    plan: Plan,
    request: MoveImage,
    looked: Vec<PathBuf>,
    /// Keeps others away from the image and its children until it has moved.
    held: Arc<Held>,
    state: State,
}

/// What a move has to begin with.
enum State {
    /// Nothing was begun; `told` are the children, as they were found.
    Fresh { work: MoveRecord, told: Vec<PathBuf> },
    /// This move was begun already.
    Begun(Header),
    /// Another one must be finished before.
    AfterAnother(Header),
}

impl Planned for MovePlan {
    type Outcome = MoveOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Moves the image. First it has both names, and records a way to its own parent that is good from both; then each
    /// child records the new one; then the old one goes. At every moment, also after a crash, each child finds its
    /// parent; the same move, or [`Resume`](crate::repair::Resume), carries on from there.
    ///
    /// # Errors
    /// `Refused` when another program has the image or a child open for writing by now; then nothing was begun.
    /// `UnderWay` when it was begun and could not be finished, with why.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let guard = &self.request.guard;
        let (work, told) = match &self.state {
            State::Begun(begun) => return carry_on(begun, &Arc::default(), guard),
            State::AfterAnother(before) => {
                carry_on(before, &Arc::default(), guard)?;
                return self.request.clone().plan()?.run(&Progress::new());
            }
            State::Fresh { work, told } => (work, told),
        };
        work.header.changing().try_for_each(|path| self.held.refuse_swapped(path))?;
        guard.refuse_writers(work.header.changing())?;
        run(Journal::begin(work.clone())?, &self.held, guard)?;
        // As they were named in the question, and found.
        let path = self.request.target.clone();
        Ok(MoveOutcome { path, children: told.clone(), looked: self.looked.clone() })
    }
}
