//! An image goes, unless something needs it.

use std::path::PathBuf;

use super::guard::{parent_beside, refuse_change};
use super::kin::refuse_link;
use super::{Override, Plan, Search, children_of};
use crate::chain::Companion;
use crate::error::{Error, Refusal, Result};
use crate::image::pieces::is_descriptor;
use crate::storage::{Access, FileStorage, is_marked_read_only, remove, sync_folder};

/// An image to be removed.
#[derive(Clone, Debug)]
pub struct Remove {
    path: PathBuf,
    search: Search,
    overrides: Vec<Override>,
}

impl Remove {
    /// The image at `path`.
    pub fn new(path: impl Into<PathBuf>) -> Self {
        Self { path: path.into(), search: Search::default(), overrides: Vec::new() }
    }

    /// Where to search for children beside the image's own folder.
    pub fn with_search(mut self, search: Search) -> Self {
        self.search = search;
        self
    }

    /// Allows something unusual: [`Override::UnknownChildren`] removes an image that was frozen for children, though
    /// none was found.
    pub fn with_override(mut self, allowed: Override) -> Self {
        self.overrides.push(allowed);
        self
    }

    /// What removing would do.
    ///
    /// # Errors
    /// `Refused` when another image needs it (they are named), when it was frozen for children that are not to be
    /// found, or when it is in use; `Usage` when it is no single image.
    pub fn plan(self) -> Result<RemovePlan> {
        if is_descriptor(&self.path) {
            return Err(Error::usage(
                format!("{} is a disk in pieces", self.path.display()),
                "remove the pieces and then the descriptor by hand; nothing grows from them",
            ));
        }
        refuse_link(&self.path)?;
        refuse_change(&self.path)?;
        let held = FileStorage::open(&self.path, Access::Amend)?;
        let children = children_of(&self.path, &self.search)?;
        let needed: Vec<String> = children.all().map(|child| child.display().to_string()).collect();
        if !needed.is_empty() {
            return Err(Error::refused(
                Refusal::NeededByChildren,
                format!("{} is the parent of {}", self.path.display(), needed.join(", ")),
                "they could not be read any more: remove them first, or flatten them into images of their own (`copy`)",
            ));
        }
        let mut plan = Plan { operation: "remove", ..Plan::default() };
        plan.warnings.extend(children.refuse_unseen(&self.path, &self.overrides)?);
        if is_marked_read_only(&self.path)? {
            let message =
                format!("{} was frozen for children, and none was found in {}", self.path.display(), children.place());
            if !self.overrides.contains(&Override::UnknownChildren) {
                let advice = "search further (--search FOLDER), or say --force=unknown-children if there are none";
                return Err(Error::refused(Refusal::NeededByChildren, message, advice));
            }
            plan.warnings.push(message);
        }
        plan.steps.push(format!(
            "remove {}; no image in {} needs it, others were not looked at",
            self.path.display(),
            children.place()
        ));
        plan.files.remove.push(self.path.clone());
        let parent = parent_beside(&self.path);
        Ok(RemovePlan { plan, path: self.path, parent, _held: held })
    }
}

/// A checked plan to remove an image.
pub struct RemovePlan {
    plan: Plan,
    path: PathBuf,
    /// Its own parent, where that is found.
    parent: Option<PathBuf>,
    /// Keeps others away from the image until it is gone.
    _held: FileStorage,
}

impl RemovePlan {
    /// The plan as plain data.
    pub fn summary(&self) -> &Plan {
        &self.plan
    }

    /// Removes the file and syncs its folder.
    ///
    /// # Errors
    /// `Io`.
    pub fn run(&self) -> Result<()> {
        Companion::remove(&self.path)?;
        remove(&self.path)?;
        sync_folder(&self.path)?;
        if let Some(parent) = &self.parent {
            // Best effort: the image is gone, and its parent's companion may stand where nobody can write.
            _ = Companion::change_children(parent, std::slice::from_ref(&self.path), &[]);
        }
        Ok(())
    }
}
