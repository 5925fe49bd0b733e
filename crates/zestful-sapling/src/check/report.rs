//! What a check tells.

use schemars::JsonSchema;
use serde::Serialize;

use crate::family::Health;
use crate::finding::{Finding, Losses, Severity};

/// What `check` found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[non_exhaustive]
pub struct CheckReport {
    /// The image.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "crate::path_data::PathData")]
    pub path: std::path::PathBuf,
    /// What the findings come to.
    pub state: Health,
    /// The files that were looked at, the image itself first.
    #[serde(serialize_with = "crate::path_data::plain")]
    #[schemars(with = "Vec<crate::path_data::PathData>")]
    pub files: Vec<std::path::PathBuf>,
    /// All findings, in the order of the files.
    pub findings: Vec<Finding>,
    /// What they mean for the whole disk: what layers above hold themselves hides the damage of those below.
    pub content: Losses,
}

impl CheckReport {
    /// Whether a rule is broken anywhere, be it one that can be mended without loss.
    pub fn has_damage(&self) -> bool {
        self.findings.iter().any(|finding| finding.severity() == Severity::Error)
    }
}
