//! A parent that was moved or renamed is found again and recorded.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use crate::chain::{Chain, Disk, OpenOptions, candidates, judge_pair, record_of, records_absolute};
use crate::error::{Error, ParentProblemKind, Refusal, Result};
use crate::family::{Guard, Override, find_parent, record_children};
use crate::image::{Image, ParentRecord, ParentReference};
use crate::operation::{Operation, Plan, Planned};
use crate::progress::Progress;
use crate::sidecar::{ChildrenChange, Companion, child_at, lone_companions, modified, refuse_under_way};
use crate::size::exact_size;
use crate::storage::{Access, Held, HostIdentity, folder_of, real};

/// A child whose record of its parent is to be put right.
///
/// What it can be allowed to do all the same: [`Identity`](crate::family::Override::Identity) takes a parent that
/// is not the one recorded, [`UnrecordedChild`](crate::family::Override::UnrecordedChild) one whose companion
/// cannot record the child, [`InUse`](crate::family::Override::InUse) goes on though another process has the child
/// open for writing, [`HardLinks`](crate::family::Override::HardLinks) though it has a second name.
#[derive(Clone, Debug)]
pub struct Relink {
    child: PathBuf,
    parent: Option<PathBuf>,
    guard: Guard,
}

impl Relink {
    /// The child; its parent is searched by identity, whatever it is called now.
    pub fn new(child: impl Into<PathBuf>) -> Self {
        Self { child: child.into(), parent: None, guard: Guard::new() }
    }

    /// The parent is this file.
    pub fn with_parent(mut self, parent: impl Into<PathBuf>) -> Self {
        self.parent = Some(parent.into());
        self
    }

    /// Companions that the parent may have left behind where it stood before, or where the search leads.
    fn left_behind(&self, reference: &ParentReference, parent: &Path) -> Result<Vec<PathBuf>> {
        let mut lone = self.guard.search.files(parent)?.lone;
        for folder in candidates(&self.child, reference).iter().map(|path| folder_of(path)) {
            lone.extend(lone_companions(&folder));
        }
        lone.sort();
        lone.dedup();
        Ok(lone)
    }
}

impl Operation for Relink {
    type Planned = RelinkPlan;

    /// What would be recorded. Nothing, when the parent is found where it is recorded.
    ///
    /// # Errors
    /// `Usage` when the child has no parent; `Parent` when none was found, with where was looked; `Refused` when
    /// several images match (they are listed), or the one named does not (with what differs); otherwise as
    /// [`Chain::open`] for the parent.
    fn plan(self) -> Result<Self::Planned> {
        let held = Arc::new(Held::default());
        let storage = held.take(&self.child, Access::AmendMetadata)?;
        let identity = storage.host_identity()?;
        self.guard.refuse_protected(&self.child)?;
        let not_seen = self.guard.refuse_writers([&*self.child])?;
        let child = held.image(&self.child)?;
        let Some(reference) = child.info().parent.clone() else {
            return Err(crate::image::no_parent(&self.child));
        };
        let parent = match &self.parent {
            Some(parent) => parent.clone(),
            None => find_parent(&*child, &reference, identity, &self.guard.search)?,
        };
        let found = Chain::open(&parent, &OpenOptions::new().with_held(&held))?;
        refuse_under_way(&parent)?;
        if found.info().format != child.info().format {
            return Err(Error::usage(
                format!(
                    "{} is a {} image, its child a {} image",
                    parent.display(),
                    found.info().format,
                    child.info().format
                ),
                "parent and child have one format: a copy of the whole chain can be of another",
            ));
        }
        let leads_back = found.layers().iter().any(|layer| is_file(layer.path(), identity));
        if leads_back {
            return Err(Error::parent(&self.child, ParentProblemKind::Cycle { again: self.child.clone() }));
        }
        let mut plan = Plan { operation: "relink", ..Plan::default() };
        plan.warnings.extend(not_seen);
        let real_child = real(&self.child)?;
        let absolute = records_absolute(Some(&reference));
        let record = record_of(&real_child, &parent, found.info(), absolute)?;
        if !reference.accepted.contains(&record.identity) {
            let message = differs(&*child, &reference, &parent, &found);
            if !self.guard.allows(Override::Identity) {
                let advice = "restore the parent from a copy: wherever the child holds nothing itself, it would show \
                 this other parent's content";
                let refusal = Refusal::IdentityDiffers {
                    parent: parent.clone(),
                    expected: reference.accepted.clone(),
                    found: found.info().data_identity,
                };
                return Err(Error::refused(refusal, message, advice));
            }
            plan.warnings.push(message);
        }
        for warning in judge_pair(&*child, found.info(), &parent)? {
            plan.warnings.push(warning.to_string());
        }
        let is_recorded = reference.accepted == [record.identity]
            && reference.paths.iter().any(|path| path.text == record.relative)
            && record.absolute.as_ref().is_none_or(|text| reference.paths.iter().any(|path| path.text == *text));
        if !is_recorded {
            plan.steps.push(format!("record {} as the parent of {}", parent.display(), self.child.display()));
            plan.files.change.push(self.child.clone());
        }
        let left_behind = self.left_behind(&reference, &parent)?;
        Ok(RelinkPlan {
            plan,
            request: self,
            parent,
            left_behind,
            before: reference,
            record: (!is_recorded).then_some(record),
            held,
        })
    }

    fn guard_mut(&mut self) -> Option<&mut Guard> {
        Some(&mut self.guard)
    }
}

fn is_file(path: &Path, identity: HostIdentity) -> bool {
    use std::os::unix::fs::MetadataExt;
    std::fs::metadata(path).is_ok_and(|found| (found.dev(), found.ino()) == identity)
}

/// How an image differs from the parent that was recorded, as far as can be told.
fn differs(child: &dyn Image, reference: &ParentReference, parent: &Path, found: &Chain) -> String {
    let list: Vec<String> = reference.accepted.iter().map(ToString::to_string).collect();
    let own = found.info().data_identity.map_or_else(|| "none".to_owned(), |id| id.to_string());
    let changed = modified(parent).map_or_else(String::new, |time| format!(", last changed {time:.0}"));
    let (size, parent_size) = (child.info().virtual_size, found.virtual_size());
    let same_disk = child.info().identity.is_some() && child.info().identity == found.info().identity;
    let guess = match (same_disk, size == parent_size) {
        (true, _) => "it is of the same disk, but changed since the child was made, or another branch of it".to_owned(),
        (false, true) => "it was changed since the child was made, or is another disk".to_owned(),
        (false, false) => {
            format!("it has {} and the child {}: probably another disk", exact_size(parent_size), exact_size(size))
        }
    };
    let pin = Companion::known(parent).ok().flatten().and_then(|companion| companion.pin);
    let guess = match pin {
        Some(pin) if pin.identity.is_some_and(|id| reference.accepted.contains(&id)) => {
            format!("it was the right one when it was pinned {:.0}, and was changed since", pin.pinned)
        }
        Some(pin) if pin.identity == found.info().data_identity => {
            format!(
                "it has been what it is since it was pinned {:.0}: another disk, or another state of it",
                pin.pinned
            )
        }
        _ => guess,
    };
    format!(
        "{} is not the parent that {} recorded (data identity {own} instead of {}{changed}); {guess}",
        parent.display(),
        child.path().display(),
        list.join(" or ")
    )
}

/// A checked plan to relink.
pub struct RelinkPlan {
    plan: Plan,
    request: Relink,
    parent: PathBuf,
    left_behind: Vec<PathBuf>,
    before: ParentReference,
    record: Option<ParentRecord>,
    /// Keeps others away from the child, and writers from its new parents.
    held: Arc<Held>,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct RelinkOutcome {
    /// The child.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// The parent that it finds now.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub parent: PathBuf,
    /// Whether anything had to be recorded.
    pub changed: bool,
    /// Why the parent's companion could not record the child, where that was allowed.
    pub unrecorded: Option<String>,
}

impl Planned for RelinkPlan {
    type Outcome = RelinkOutcome;

    fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Records the child in the parent's companion, durably, and then the parent in the child. The child's content
    /// and identities stay, so that its own children find it as before. After a crash it names the old parent or the
    /// new one.
    ///
    /// # Errors
    /// `Refused` when the child is in use, its record changed since, or the parent cannot record it; `Io`.
    fn run(&self, _: &Progress) -> Result<Self::Outcome> {
        let Relink { child, guard, .. } = &self.request;
        self.held.refuse_swapped(child)?;
        guard.refuse_writers([&**child])?;
        let mut image = self.held.image_mut(child)?;
        if image.info().parent.as_ref() != Some(&self.before) {
            return Err(Error::refused(
                Refusal::changed(child),
                format!("{} recorded another parent since the plan was made", child.display()),
                "look at it again, and begin again",
            ));
        }
        let new = [child_at(child)];
        let change = ChildrenChange { new: &new, elsewhere: &self.left_behind, ..ChildrenChange::default() };
        // Nothing changes in the child, but its parent did not know of it.
        let guard = match self.record {
            Some(_) => guard.clone(),
            None => guard.clone().with_override(Override::UnrecordedChild),
        };
        let unrecorded = record_children(&self.parent, &change, &guard)?;
        if let Some(record) = &self.record {
            image.set_parent(record)?;
            image.close()?;
        }
        let changed = self.record.is_some();
        Ok(RelinkOutcome { path: child.clone(), parent: self.parent.clone(), changed, unrecorded })
    }
}
