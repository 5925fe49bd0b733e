//! What a check tells.

use schemars::JsonSchema;
use serde::Serialize;

use crate::family::Health;
use crate::finding::{Finding, Severity};

/// What `check` found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CheckReport {
    /// What the findings come to.
    pub state: Health,
    /// The files that were looked at, the image itself first.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub files: Vec<std::path::PathBuf>,
    /// All findings, in the order of the files.
    pub findings: Vec<Finding>,
}

impl CheckReport {
    /// Whether a rule is broken anywhere, be it one that can be mended without loss.
    pub fn has_damage(&self) -> bool {
        self.findings.iter().any(|finding| finding.severity() == Severity::Error)
    }
}
