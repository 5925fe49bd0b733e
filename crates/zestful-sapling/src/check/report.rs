//! What a check tells.

use serde::Serialize;

use crate::finding::Finding;

/// What `check` found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CheckReport {
    /// Whether no finding is an error.
    pub ok: bool,
    /// The files that were looked at, the image itself first.
    #[serde(serialize_with = "crate::lossy::text")]
    pub files: Vec<std::path::PathBuf>,
    /// All findings, in the order of the files.
    pub findings: Vec<Finding>,
}
