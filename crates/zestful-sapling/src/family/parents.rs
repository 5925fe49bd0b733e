//! What an image reads through, as a look at it tells.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::health::Health;
use super::pinned::PinDoubts;
use crate::chain::{Ascent, OpenOptions};
use crate::error::{Error, ParentProblemKind, Result};
use crate::finding::{ChainFinding, Finding};
use crate::image::Image;
use crate::sidecar::waits_to_be_removed;
use crate::storage::HostIdentity;

/// How an image's parent is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct ParentReport {
    /// The data identity that the child recorded.
    pub identity: Option<Uuid>,
    /// The paths as recorded, in the order in which they are tried.
    pub recorded_paths: Vec<String>,
    /// The file that was found, be it the right one or not.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Option<crate::path_data::PathData>")]
    pub found_path: Option<PathBuf>,
    /// How it is.
    pub state: ParentState,
    /// What is wrong, where anything is.
    pub problem: Option<String>,
}

/// How a parent is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ParentState {
    /// There, and the right one.
    Ok,
    /// No file was found.
    Missing,
    /// A file was found, but it is not, or is no longer, the one recorded.
    Mismatch,
    /// The file found cannot be used.
    Unusable,
}

/// What an image reads through.
#[derive(Default)]
pub(super) struct Parents {
    pub(super) direct: Option<ParentReport>,
    /// How many layers down the chain is whole.
    pub(super) depth: usize,
    /// What its end comes to.
    pub(super) state: Health,
}

/// Looks at all parents of an image; what is unusual about them goes into `findings`.
pub(super) fn look_at_parents(
    image: Box<dyn Image>,
    identity: HostIdentity,
    doubts: &mut PinDoubts,
    findings: &mut Vec<Finding>,
) -> Result<Parents> {
    let Some(reference) = image.info().parent.clone() else { return Ok(Parents::default()) };
    let mut state = Health::Healthy;
    let mut report = ParentReport {
        identity: reference.accepted.first().copied(),
        recorded_paths: reference.paths.iter().map(|path| path.text.clone()).collect(),
        found_path: None,
        state: ParentState::Ok,
        problem: None,
    };
    let options = OpenOptions::new().without_locks();
    let mut ascent = Ascent::new(image.path(), identity, &options);
    let mut current = image;
    loop {
        let is_first = ascent.depth() == 0;
        match ascent.parent_of(&*current) {
            Ok(None) => break,
            Ok(Some(found)) => {
                report.found_path.get_or_insert_with(|| found.image.path().to_owned());
                findings.extend(found.warnings);
                findings.extend(found.image.warnings().iter().map(|finding| finding.clone().at(found.image.path())));
                findings.extend(doubts.of(&*found.image, found.identity));
                current = found.image;
            }
            Err(Error::Parent(problem)) => {
                let (parent_state, path) = match &problem.kind {
                    ParentProblemKind::Missing { .. } => (ParentState::Missing, None),
                    ParentProblemKind::Mismatch { parent, .. } => (ParentState::Mismatch, Some(parent.clone())),
                    ParentProblemKind::Unreadable { parent, .. } | ParentProblemKind::SectorSize { parent, .. } => {
                        (ParentState::Unusable, Some(parent.clone()))
                    }
                    ParentProblemKind::Cycle { again } => (ParentState::Unusable, Some(again.clone())),
                    ParentProblemKind::TooDeep { .. } => (ParentState::Unusable, None),
                };
                if is_first {
                    (report.state, report.found_path) = (parent_state, path);
                }
                // Whether that work was cut short, or somebody is at it, its journal tells.
                (report.problem, state) = match waits_to_be_removed(current.path()) {
                    true => (Some(ChainFinding::WaitsForRemoval.to_string()), Health::Healthy),
                    false => (Some(problem.to_string()), Health::Broken),
                };
                break;
            }
            Err(other) => return Err(other),
        }
    }
    Ok(Parents { direct: Some(report), depth: ascent.depth(), state })
}
