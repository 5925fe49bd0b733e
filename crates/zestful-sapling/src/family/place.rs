//! What kind of place holds an image.

use schemars::JsonSchema;
use serde::Serialize;

use crate::storage::Medium;

/// What kind of place holds an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum PlaceReport {
    /// A file.
    File,
    /// A block device.
    Device,
    /// Several files and a descriptor.
    Pieces,
}

impl PlaceReport {
    pub(super) fn of(medium: Medium) -> Self {
        match medium {
            Medium::Device { .. } => Self::Device,
            Medium::Pieces { .. } => Self::Pieces,
            Medium::File => Self::File,
        }
    }
}
