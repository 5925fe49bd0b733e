//! What the journals of a merge and of a transplant say beside their headers.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::estimate::Direction;
use crate::sidecar::{Header, Payload, Record, Work};
use crate::transfer::Mark;

/// A merge that is under way: the members are the layers that become one, the child first.
pub(super) type MergeRecord = Record<MergePayload>;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(in crate::ops) struct MergePayload {
    pub(super) direction: Direction,
    /// The data identity of the result.
    pub(super) identity: Uuid,
    /// Whether the child was marked read-only, as parents are.
    pub(super) frozen: bool,
    /// Whether the ancestor recorded the absolute path of its own parent.
    pub(super) absolute: bool,
}

impl Payload for MergePayload {
    type Mark = Mark;

    fn work(&self) -> Work {
        Work::Merge
    }
}

/// A transplant that is under way: the only member is the child, its parent the new base.
pub(super) type TransplantRecord = Record<TransplantPayload>;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(in crate::ops) struct TransplantPayload {
    /// The data identity of the child, which stays.
    pub(super) identity: Uuid,
    /// Whether the child recorded the absolute path of its parent.
    pub(super) absolute: bool,
}

impl Payload for TransplantPayload {
    type Mark = Mark;

    fn work(&self) -> Work {
        Work::Transplant
    }
}

/// How work stands when it is planned.
pub(super) enum State<P> {
    Fresh(Record<P>),
    /// It was begun before.
    Begun(Header),
}
