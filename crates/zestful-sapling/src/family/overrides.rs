//! What may be done all the same.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Something unusual that is meant so; without it the operation is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Override {
    /// The format is another one than the file's name says.
    Ending,
    /// The logical sector size changes under a partition table, which cannot be read any more then.
    Sectors,
    /// A block device that is not blank loses its content.
    DeviceContent,
    /// A disk that is not blank loses its content.
    NotBlank,
    /// A child is to read through an image that is not the parent it recorded.
    Identity,
    /// An image changes or goes, though children of it may be somewhere that was not looked at, or cannot be read.
    UnknownChildren,
    /// A child appears, or gets another parent, though its parent's companion cannot record it.
    UnrecordedChild,
    /// Another process has an image open for writing, and will leave it alone.
    InUse,
    /// What another host began is carried on by this one.
    OtherHost,
    /// A file has more than one name, and nobody relies on the others.
    HardLinks,
    /// A file that takes the place of another does not get all that the other has: owner, extended attributes.
    Attributes,
    /// A suspended machine goes on from the content that changes, and is known not to be resumed.
    SavedState,
    /// A disk becomes so small that a partition, or what fills the disk, is cut.
    CutPartition,
    /// What a disk holds behind its new end is lost.
    DiscardData,
    /// A fixed disk gives up space that the host has set aside for it.
    ReservedSpace,
}
