//! What became of work on a machine that was cut short.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::sidecar::Work;

/// What became of work on a machine that was cut short.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[non_exhaustive]
pub struct Begun {
    /// The machine's folder.
    #[serde(serialize_with = "crate::path_data::plain", deserialize_with = "crate::path_data::read")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: PathBuf,
    /// What it was.
    pub work: Work,
    /// The checkpoint that it was about, if that has a name.
    pub checkpoint: Option<String>,
    /// Whether it was done to its end, so that the new state is there; else the old one is.
    pub done: bool,
}
