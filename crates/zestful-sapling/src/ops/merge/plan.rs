//! What is to be merged, checked and planned.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::estimate::{self, Direction, KeepName, MergeEstimate, Scene};
use super::finish::MergeOutcome;
use super::record::{MergePayload, MergeRecord, State};
use super::relatives::reader;
use super::{data, run};
use crate::chain::{Chain, OpenOptions, identity_of, records_absolute};
use crate::error::{Error, Refusal, Result};
use crate::family::{Children, Guard, Override, children_of_each, needed_by, refuse_link};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{Companion, Header, Journal, Member, Work, refuse_pinned, refuse_under_way, under_way_at};
use crate::size::format_size;
use crate::storage::{Access, Held, entry, folder_of, is_marked_read_only, is_writable_folder, real};

/// A child to be merged with its parent, or with everything up to an ancestor.
///
/// What it can be allowed to do all the same: [`UnknownChildren`](crate::family::Override::UnknownChildren) merges
/// though something may have grown from a layer of which that cannot be told,
/// [`UnrecordedChild`](crate::family::Override::UnrecordedChild) though a companion cannot be written,
/// [`InUse`](crate::family::Override::InUse) though another process has an image open for writing,
/// [`HardLinks`](crate::family::Override::HardLinks) though one has a second name,
/// [`SavedState`](crate::family::Override::SavedState) though a suspended machine goes on from one,
/// [`OtherHost`](crate::family::Override::OtherHost) carries on what another host began.
#[derive(Clone, Debug)]
pub struct Merge {
    child: PathBuf,
    into: Option<PathBuf>,
    keep: KeepName,
    direction: Option<Direction>,
    guard: Guard,
}

impl Merge {
    /// Under this guard.
    pub(crate) fn with_guard(mut self, guard: Guard) -> Self {
        self.guard = guard;
        self
    }

    /// The child with its parent; the result stands under the child's name.
    pub fn new(child: impl Into<PathBuf>) -> Self {
        Self { child: child.into(), into: None, keep: KeepName::Child, direction: None, guard: Guard::new() }
    }

    /// The child, this ancestor of it, and all layers between.
    pub fn with_ancestor(mut self, ancestor: impl Into<PathBuf>) -> Self {
        self.into = Some(ancestor.into());
        self
    }

    /// Under whose name the result is to stand.
    pub fn with_name_of(mut self, keep: KeepName) -> Self {
        self.keep = keep;
        self
    }

    /// This way, though the other may move fewer bytes.
    pub fn with_direction(mut self, direction: Direction) -> Self {
        self.direction = Some(direction);
        self
    }

    /// Locks the layers that are to become one, and opens the chain through them.
    fn lock_layers(&self, held: &Arc<Held>) -> Result<(Chain, Vec<PathBuf>)> {
        held.take(&self.child, Access::AmendMetadata)?;
        let paths = |chain: &Chain| -> Result<Vec<PathBuf>> {
            let depth = self.depth(chain)?;
            chain.layers()[..=depth].iter().map(|layer| real(layer.path())).collect()
        };
        let layers = paths(&Chain::open(&self.child, &OpenOptions::new().without_locks())?)?;
        for layer in &layers {
            held.take(layer, Access::AmendMetadata)?;
        }
        let chain = Chain::open(&self.child, &OpenOptions::new().with_held(held))?;
        match paths(&chain)? == layers {
            true => Ok((chain, layers)),
            false => Err(Error::refused(
                Refusal::changed(&self.child),
                format!("the chain of {} changed this moment", self.child.display()),
                "begin again",
            )),
        }
    }

    /// Refuses a parent below the layers that could not record the merged image as its child.
    fn refuse_unrecordable(&self, parent: &Path) -> Result<()> {
        let folder = folder_of(parent);
        let is_pinned = || Companion::known(parent).is_ok_and(|known| known.is_some_and(|it| it.pin.is_some()));
        if is_writable_folder(&folder) || self.guard.allows(Override::UnrecordedChild) || is_pinned() {
            return Ok(());
        }
        Err(Error::refused(
            Refusal::Unrecorded { parent: parent.to_owned(), children: Vec::new() },
            format!(
                "the merged image cannot be recorded as grown from {}: the folder {} is read-only",
                parent.display(),
                folder.display()
            ),
            "make it writable: whoever later changes that parent would not know of the image",
        ))
    }

    /// Why there may be images that grew from the child though none was found.
    fn unknown_grandchildren(&self, child: &Path, children: &Children) -> Result<Option<String>> {
        if self.guard.allows(Override::UnknownChildren) {
            return Ok(None);
        }
        let refused = |refused: Result<Option<String>>| match refused {
            Err(Error::Refused(Refusal::NeededByChildren { .. }, advice)) => Ok(Some(advice.message)),
            other => other.map(|_| None),
        };
        let unknown = refused(self.guard.refuse_unknown(child, children))?;
        match unknown.is_some() || children.all().next().is_some() {
            true => Ok(unknown),
            false => refused(self.guard.refuse_frozen(child, children)),
        }
    }

    fn plan_to_carry_on(self, begun: Header) -> Result<MergePlan> {
        let ancestor = begun.members.last().map(|member| member.path.clone()).unwrap_or_default();
        let other = |path: &Path| entry(path).map_or(true, |path| path != ancestor && path != begun.result);
        // The child's file may be gone by now; its name belongs to the result.
        let is_this = begun.work == Work::Merge && entry(&self.child).is_ok_and(|child| child == begun.image());
        if !is_this || self.into.as_deref().is_some_and(other) {
            refuse_under_way(&self.child)?;
        }
        let mut plan = Plan { operation: "merge", ..Plan::default() };
        plan.steps.push(format!(
            "carry on the merge of {} and {} that was begun {:.0}",
            begun.image().display(),
            ancestor.display(),
            begun.started
        ));
        let (state, held) = (State::Begun(begun), Arc::default());
        Ok(MergePlan { plan, estimates: Vec::new(), state, guard: self.guard, held })
    }

    /// How many layers below the child the ancestor stands.
    fn depth(&self, chain: &Chain) -> Result<usize> {
        if chain.layers().len() < 2 {
            return Err(Error::usage(
                format!("{} has no parent to be merged with", self.child.display()),
                "name a child",
            ));
        }
        let Some(into) = &self.into else { return Ok(1) };
        let wanted = real(into)?;
        let found = chain.layers().iter().position(|layer| real(layer.path()).is_ok_and(|path| path == wanted));
        found.filter(|depth| *depth > 0).ok_or_else(|| {
            let names: Vec<String> = chain.layers().iter().map(|layer| layer.path().display().to_string()).collect();
            Error::usage(
                format!("{} is no ancestor of {}", into.display(), self.child.display()),
                format!("its chain is {}", names.join(", ")),
            )
        })
    }

    /// Every layer but the first may have one child only: the layer before it.
    fn refuse_other_children(&self, layers: &[PathBuf], each: &[Children]) -> Result<Vec<String>> {
        let mut warnings = Vec::new();
        for (pair, children) in layers.windows(2).zip(&each[1..]) {
            let is_other = |path: &&PathBuf| real(path).is_ok_and(|path| path != pair[0]);
            let others: Vec<String> = children.all().filter(is_other).map(|path| path.display().to_string()).collect();
            if !others.is_empty() {
                return Err(Error::refused(
                    needed_by(&pair[1], children),
                    format!(
                        "{} has other children than {}: {} (looked into {})",
                        pair[1].display(),
                        pair[0].display(),
                        others.join(", "),
                        children.place()
                    ),
                    "they need it as it is: merge or remove them first, or copy each into an image of its own",
                ));
            }
            warnings.extend(self.guard.refuse_unknown(&pair[1], children)?);
        }
        Ok(warnings)
    }

    fn choose(&self, estimates: &[MergeEstimate], for_unknown_children: bool) -> Result<Direction> {
        let wanted =
            |estimates: &&MergeEstimate| self.direction.is_none_or(|direction| direction == estimates.direction);
        let possible = estimates.iter().filter(wanted).filter(|estimates| estimates.refused.is_none());
        if let Some(best) = possible.min_by_key(|estimates| estimates.bytes_moved) {
            return Ok(best.direction);
        }
        let reasons: Vec<String> = estimates
            .iter()
            .filter(wanted)
            .filter_map(|estimates| Some(format!("{}: {}", estimates.direction, estimates.refused.as_ref()?)))
            .collect();
        let short = estimates.iter().find_map(|estimates| estimates.short_of_space.clone());
        let why = short.unwrap_or_else(|| Refusal::NoWay { image: self.child.clone(), for_unknown_children });
        Err(Error::refused(
            why,
            format!("{} cannot be merged; {}", self.child.display(), reasons.join("; ")),
            "a copy of the whole disk is one image, too, and leaves the chain alone",
        ))
    }
}

impl Operation for Merge {
    type Planned = MergePlan;

    /// What merging would do, and which way is cheaper. A merge that was cut short is carried on as it was begun.
    /// Every image that will change, get another parent's record, or go stays locked as long as the plan lives, and
    /// those that are only read are kept from writers.
    ///
    /// # Errors
    /// `Usage` when the child has no parent or the other image is no ancestor of it; `Refused` when a layer that
    /// would go or change has other children (they are named, and where was looked) or may have, is pinned or in use,
    /// has a second name, when something else is under way with it, or when neither way is possible, with the reason
    /// for each; otherwise as [`Chain::open`].
    fn plan(self) -> Result<Self::Planned> {
        if let Some(header) = under_way_at(&self.child)? {
            return self.plan_to_carry_on(header);
        }
        refuse_link(&self.child)?;
        let held = Arc::new(Held::default());
        let (chain, layers) = self.lock_layers(&held)?;
        // The layers are locked from here on. What was begun with them before shows in the journals beside them.
        for (path, layer) in layers.iter().zip(chain.layers()) {
            self.guard.refuse_protected(path)?;
            match self.keep == KeepName::Child && *path == layers[0] {
                true => self.guard.refuse_kept_layer(path)?,
                false => self.guard.refuse_kept(path)?,
            }
            self.guard.refuse_saved_state(path, layer.info())?;
        }
        let parent = chain.layers().get(layers.len()).map(|parent| parent.path().to_owned());
        if let Some(parent) = &parent {
            refuse_under_way(parent)?;
            self.refuse_unrecordable(parent)?;
        }
        let each = children_of_each(&layers, &self.guard.search)?;
        let mut warnings = self.refuse_other_children(&layers, &each)?;
        let grandchildren = each[0].all().cloned().collect::<Vec<_>>();
        for grandchild in &grandchildren {
            held.take(grandchild, Access::AmendMetadata)?;
            refuse_under_way(grandchild)?;
        }
        warnings.extend(self.guard.refuse_writers(layers.iter().chain(&grandchildren).map(PathBuf::as_path))?);
        warnings.extend(chain.warnings().iter().map(ToString::to_string));
        let frozen = is_marked_read_only(&layers[0])?;
        let scene = Scene {
            unknown: self.unknown_grandchildren(&layers[0], &each[0])?,
            keep: self.keep,
            chain: &chain,
            layers: &layers,
            grandchildren: &grandchildren,
        };
        let mut estimates = estimate::both(&scene)?;
        let direction = self.choose(&estimates, scene.unknown.is_some())?;
        let work = record_for(&scene, frozen, direction)?;
        let chosen = &mut estimates[direction as usize];
        chosen.chosen = true;
        for grandchild in &chosen.relinked {
            refuse_pinned(grandchild)?;
            self.guard.refuse_hard_links(grandchild)?;
        }
        let mut plan = chosen.plan(&work);
        plan.warnings = warnings;
        Ok(MergePlan { plan, estimates, state: State::Fresh(work), guard: self.guard, held })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

fn record_for(scene: &Scene<'_>, frozen: bool, direction: Direction) -> Result<MergeRecord> {
    let all = scene.chain.layers();
    let identity_of_layer = |number: usize| identity_of(all[number].path(), all[number].info());
    let member = |(number, path): (usize, &PathBuf)| Member::new(path.clone(), identity_of_layer(number)?);
    let mut layers: Vec<Member> = scene.layers.iter().enumerate().map(member).collect::<Result<_>>()?;
    let (survivor, identity) = match direction {
        Direction::IntoParent => (layers.len() - 1, uuid::Uuid::new_v4()),
        Direction::IntoChild => (0, identity_of_layer(0)?),
    };
    if direction == Direction::IntoParent {
        // What is written into the ancestor shows through every layer above it that holds nothing there.
        let between = 1..layers.len() - 1;
        layers[between].iter_mut().for_each(|member| member.renewed = Some(uuid::Uuid::new_v4()));
        layers.iter_mut().skip(1).last().into_iter().for_each(|ancestor| ancestor.renewed = Some(identity));
    }
    let ancestor = &all[scene.layers.len() - 1];
    let absolute = records_absolute(ancestor.info().parent.as_ref());
    let payload = MergePayload { direction, identity, frozen, absolute };
    let mut work = MergeRecord::new(layers, scene.result().to_owned(), payload);
    work.header.survivor = survivor;
    work.header.readers = scene.grandchildren.iter().map(|path| reader(path)).collect::<Result<_>>()?;
    if let Some(parent) = all.get(scene.layers.len()) {
        let identity = identity_of(parent.path(), parent.info())?;
        work.header.parent = Some(Member::new(real(parent.path())?, identity)?);
    }
    Ok(work)
}

/// A checked plan to merge.
pub struct MergePlan {
    plan: Plan,
    estimates: Vec<MergeEstimate>,
    state: State<MergePayload>,
    guard: Guard,
    /// Keeps others away from every image that takes part.
    held: Arc<Held>,
}

impl Planned for MergePlan {
    type Outcome = MergeOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Merges. At every moment, also after a crash, the child and all that grew from it read as before; the same call,
    /// or [`Resume`](crate::repair::Resume), carries on from where it was.
    ///
    /// # Errors
    /// `Refused` when an image changed since the plan was made, or is in use, or too little space is left; then nothing
    /// was begun. `UnderWay` when it was begun and could not be finished, with why: `Cancelled`, `Io`, ...
    fn run(&self, progress: &Progress) -> Result<Self::Outcome> {
        let work = match &self.state {
            State::Begun(begun) => return run::carry_on(begun, &self.held, &self.guard, progress),
            State::Fresh(work) => work,
        };
        work.header.changing().try_for_each(|path| self.held.refuse_swapped(path))?;
        data::refuse_unless_known(work)?;
        self.guard.refuse_writers(work.header.changing())?;
        Plan::require_space(work.header.survivor_path(), self.plan.peak_extra_space)?;
        progress.check()?;
        let journal = Journal::begin(work.clone())?;
        run::finish(journal, &[], &work.header.readers, &self.held, &self.guard, progress)
    }
}

impl MergePlan {
    /// Both ways and what they cost; nothing for a merge that is carried on.
    pub fn estimates(&self) -> &[MergeEstimate] {
        &self.estimates
    }
}

impl MergeEstimate {
    fn plan(&self, work: &MergeRecord) -> Plan {
        let mut plan = Plan { operation: "merge", ..Plan::default() };
        let name = |path: &Path| path.display().to_string();
        let (child, ancestor) =
            (work.header.image(), work.header.members.last().map_or(Path::new(""), |member| &member.path));
        plan.steps.push(match self.direction {
            Direction::IntoParent => format!(
                "write {} of {} into {}, which gets a new data identity first",
                format_size(self.bytes_moved),
                name(child),
                name(ancestor)
            ),
            Direction::IntoChild => {
                format!("write {} that {} lacks into it", format_size(self.bytes_moved), name(child))
            }
        });
        for path in &self.relinked {
            plan.steps.push(format!("record the merged image as the parent of {}", name(path)));
        }
        let survivor = work.header.survivor().map_or(child, |member| &member.path);
        if survivor != work.header.result {
            plan.steps.push(format!("put {} in the place of {}", name(survivor), name(&work.header.result)));
            plan.renames(survivor, &work.header.result);
        }
        for path in self.removed.iter().filter(|path| *path != survivor) {
            plan.steps.push(format!("remove {}", name(path)));
            plan.files.remove.push(path.clone());
        }
        plan.files.change = self.changed.clone();
        plan.bytes_read = self.bytes_moved;
        plan.bytes_written = self.bytes_moved;
        plan.peak_extra_space = self.peak_extra_space;
        plan
    }
}
