//! Checkpoints are forgotten: what they hold is merged where it is still needed, and goes where it is not.
//!
//! A forgotten checkpoint loses its name first; its layers are then layers that nobody asks for. One that nothing grows
//! from goes. One that a single image of the machine grows from is merged with it, whichever way moves fewer bytes, and
//! the image keeps its name and its content. One from which several grow stays, as a layer that they share, until one
//! of them is left. So the same look at the folder tells, at any moment, what is left to be done.

mod plan;
mod run;
mod step;

pub use plan::{Forget, ForgetPlan, ForgetStep, Which};
pub use run::ForgetOutcome;
pub(in crate::grove) use run::{carry_on, give_up};
pub(in crate::grove) use step::guard_for;

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::sidecar::{Checkpoint, Payload, Work};

/// What the journal of a forgetting says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(in crate::grove) struct Forgetting {
    /// The checkpoints, as they were.
    forgotten: Vec<Checkpoint>,
}

impl Forgetting {
    fn names(&self) -> Vec<String> {
        self.forgotten.iter().filter_map(|one| one.name.clone()).collect()
    }
}

/// How far it is; the rest is told by the images.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(in crate::grove) enum ForgetMark {
    /// From here on this image, named from the grove's folder, may get another data identity: layers are merged with
    /// it.
    Merging(PathBuf),
    /// This layer, from which nothing grows, goes: what was known of it may be gone before it.
    Removing {
        layer: PathBuf,
        /// The image that it grew from, from the grove's folder.
        parent: Option<PathBuf>,
    },
}

impl Payload for Forgetting {
    type Mark = ForgetMark;

    fn work(&self) -> Work {
        Work::Forget
    }
}
