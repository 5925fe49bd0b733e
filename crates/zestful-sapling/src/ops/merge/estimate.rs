//! What each of the two ways would cost, and what speaks against it.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::chain::{Chain, DiskSide, OpenOptions};
use crate::error::Result;
use crate::image::{Image, open_unlocked};
use crate::refusal::Refusal;
use crate::size::exact_size;
use crate::storage::{folder_of, free_space, is_writable_folder};
use crate::transfer::{Delta, cost_of};

/// Which image takes in the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Direction {
    /// The ancestor takes in what the child and the layers between hold.
    IntoParent,
    /// The child takes in what it lacks.
    IntoChild,
}

impl std::fmt::Display for Direction {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Direction::IntoParent => "into the parent",
            Direction::IntoChild => "into the child",
        })
    }
}

/// Under whose name the merged image stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum KeepName {
    /// The ancestor's.
    Parent,
    /// The child's: whatever pointed at the disk goes on finding it.
    Child,
}

/// One way to merge. Sizes are in bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct MergeEstimate {
    /// Which image takes in the other.
    pub direction: Direction,
    /// Whether this is the way that is gone.
    pub chosen: bool,
    /// Bytes to be read and written.
    pub bytes_moved: u64,
    /// Space that the host must have for it at the worst moment.
    pub peak_extra_space: u64,
    /// Images whose files change.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub changed: Vec<PathBuf>,
    /// Names that vanish.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub removed: Vec<PathBuf>,
    /// Images that grew from the child and must be told.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub relinked: Vec<PathBuf>,
    /// Why it is not possible, if it is not.
    pub refused: Option<String>,
    #[serde(skip)]
    pub(in crate::ops) short_of_space: Option<Refusal>,
}

/// What there is to merge.
pub(in crate::ops) struct Scene<'a> {
    pub(in crate::ops) chain: &'a Chain,
    /// The images that become one, the child first.
    pub(in crate::ops) layers: &'a [PathBuf],
    pub(in crate::ops) grandchildren: &'a [PathBuf],
    pub(in crate::ops) keep: KeepName,
    /// Why there may be images that grew from the child and cannot be told.
    pub(in crate::ops) unknown: Option<String>,
}

impl Scene<'_> {
    pub(in crate::ops) fn child(&self) -> &Path {
        &self.layers[0]
    }

    pub(in crate::ops) fn ancestor(&self) -> &Path {
        &self.layers[self.layers.len() - 1]
    }

    pub(in crate::ops) fn result(&self) -> &Path {
        match self.keep {
            KeepName::Parent => self.ancestor(),
            KeepName::Child => self.child(),
        }
    }

    fn survivor(&self, direction: Direction) -> &Path {
        match direction {
            Direction::IntoParent => self.ancestor(),
            Direction::IntoChild => self.child(),
        }
    }

    /// Why this way is not possible.
    fn against(&self, direction: Direction) -> Result<Option<String>> {
        let (child, ancestor) = (&self.chain.layers()[0], &self.chain.layers()[self.layers.len() - 1]);
        let (own, theirs) = (child.info().virtual_size, ancestor.info().virtual_size);
        if direction == Direction::IntoParent && own != theirs {
            return Ok(Some(format!(
                "the disk has {} in the child and {} in {}, which keeps its size",
                exact_size(own),
                exact_size(theirs),
                self.ancestor().display()
            )));
        }
        let survivor = self.survivor(direction);
        let is_known = direction == Direction::IntoChild && survivor == self.result();
        // Children that nobody knows of find the result only if it keeps the name and the identity of the child.
        if let Some(unknown) = self.unknown.as_ref().filter(|_| !is_known) {
            return Ok(Some(unknown.clone()));
        }
        if survivor != self.result() && device_of(survivor)? != device_of(self.result())? {
            return Ok(Some(format!(
                "{} cannot be put in the place of {}, which is on another file system",
                survivor.display(),
                self.result().display()
            )));
        }
        for path in self.layers {
            let folder = folder_of(path);
            if !is_writable_folder(&folder) {
                return Ok(Some(format!("the folder {} is read-only", folder.display())));
            }
        }
        Ok(None)
    }
}

fn device_of(path: &Path) -> Result<u64> {
    use std::os::unix::fs::MetadataExt;
    std::fs::metadata(path).map(|found| found.dev()).map_err(|e| crate::Error::io("look up", path, e))
}

/// Both ways; the number of each is that of its direction.
pub(in crate::ops) fn both(scene: &Scene<'_>) -> Result<Vec<MergeEstimate>> {
    let chain = scene.chain;
    let depth = scene.layers.len() - 1;
    let ancestor = &*chain.layers()[depth];
    let upper: Vec<Box<dyn Image>> =
        scene.layers[..depth].iter().map(|path| open_unlocked(path)).collect::<Result<_>>()?;
    let upper = Chain::from_layers(upper);
    let options = OpenOptions::new().without_locks();
    let old = DiskSide::of(Chain::open(chain.layers()[1].path(), &options)?)?;
    let new = match chain.layers().get(depth + 1) {
        Some(parent) => DiskSide::of(Chain::open(parent.path(), &options)?)?,
        None => DiskSide::nothing(),
    };
    let mut estimates = Vec::new();
    for direction in [Direction::IntoParent, Direction::IntoChild] {
        let mut refused = scene.against(direction)?;
        let cost = match direction {
            Direction::IntoParent => cost_of(&Delta::Down { upper: &upper }, ancestor, 0)?,
            Direction::IntoChild => {
                cost_of(&Delta::Up { old: &old, new: &new, compare: false }, &*chain.layers()[0], 0)?
            }
        };
        let survivor = scene.survivor(direction);
        let free = free_space(&folder_of(survivor))?;
        let is_short = refused.is_none() && cost.extra > free;
        let short_of_space = is_short.then(|| Refusal::NoSpace { path: survivor.to_owned(), needed: cost.extra, free });
        if is_short {
            refused = Some(format!(
                "{} may need {}, but the host has {} free there",
                survivor.display(),
                exact_size(cost.extra),
                exact_size(free)
            ));
        }
        // The nearest child of an ancestor that changes must accept its new identity.
        let nearest = (direction == Direction::IntoParent).then(|| scene.layers[depth - 1].clone());
        let is_told = direction == Direction::IntoParent || survivor != scene.result();
        let relinked: Vec<PathBuf> = if is_told { scene.grandchildren.to_vec() } else { Vec::new() };
        let mut changed = vec![survivor.to_owned()];
        changed.extend(nearest.into_iter().chain(relinked.iter().cloned()));
        estimates.push(MergeEstimate {
            direction,
            chosen: false,
            bytes_moved: cost.moved,
            peak_extra_space: cost.extra,
            changed,
            removed: scene.layers.iter().filter(|path| *path != scene.result()).cloned().collect(),
            relinked,
            refused,
            short_of_space,
        });
    }
    Ok(estimates)
}
