//! What was taken out.

use crate::guest::LeftOut;

/// What was taken out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct TakeOutOutcome {
    /// Files that were made, each whole.
    pub files: u64,
    /// Folders that were made.
    pub folders: u64,
    /// Links that were made.
    pub links: u64,
    /// Bytes of their content, without holes.
    pub bytes: u64,
    /// Devices, pipes and others that have no content.
    pub skipped: u64,
    /// What could not be taken, wholly or in part; at most fifty.
    pub left_out: Vec<LeftOut>,
    /// How many that are, named or not.
    pub left_out_count: u64,
}
