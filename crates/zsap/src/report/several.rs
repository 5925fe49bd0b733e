//! What came of several paths.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;
use zestful_sapling::path_data::PathData;

use super::json::ErrorTold;

/// The answers for several paths, in the order in which they were typed. For a single one its answer stands alone.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Several<T = Value> {
    /// What came of those that did not fail, each as it is answered alone; with `--plan` their plans.
    pub(crate) answers: Vec<T>,
    /// Those that failed.
    pub(crate) failed: Vec<Failed>,
}

impl<T> Default for Several<T> {
    fn default() -> Self {
        Self { answers: Vec::new(), failed: Vec::new() }
    }
}

/// A path that failed.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Failed {
    /// The path.
    pub(crate) path: PathData,
    /// Why.
    #[serde(flatten)]
    pub(crate) error: ErrorTold,
}
